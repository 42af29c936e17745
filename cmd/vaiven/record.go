package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/past"
	"vaiven/internal/core/plan"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/logbook"
	"vaiven/internal/keeper/recording"
	"vaiven/internal/people/headless"
	"vaiven/internal/people/report"
	"vaiven/internal/words"
)

// recordOf is the record of a crossing. What was not recorded of it second by second is left out, and told.
func recordOf(cmd *cobra.Command, p *plan.Plan, of keeper.Past, number int) (r report.Record, err error) {
	told, err := of.EventsOf(cmd.Context(), number, 0)
	if err == nil && told.Unread != "" {
		err = fmt.Errorf("%w: %s: a record would not be whole", logbook.ErrDamaged, told.Unread)
	}
	if err != nil {
		return r, err
	}
	book, err := of.Logbook(cmd.Context())
	if err != nil {
		return r, err
	}
	c, ok := book.Crossing(number)
	if !ok {
		return r, fmt.Errorf("crossing %d is not in the logbook's list", number)
	}
	usual := past.UsualOf(book.Crossings)
	r = report.Record{Crossing: c, Why: words.EndedWhy(c), Usual: usual, Odd: usual.Odd(c), Events: told.Events,
		Digest: told.Digest, Made: time.Now(), In: zoneOf(p)}
	seen, err := recordingOf(cmd, of, number)
	if err != nil {
		fmt.Fprintln(cmd.ErrOrStderr(), "vaiven: where requests went and how sure guards were is left out:", err)
		return r, nil
	}
	r.Points, r.Guards = seen.Points(), seen.Strongest()
	return r, nil
}

func recordingOf(cmd *cobra.Command, of keeper.Past, number int) (*recording.Recording, error) {
	data, err := of.Recorded(cmd.Context(), number)
	if err != nil {
		return nil, err
	}
	r, err := recording.Read(data)
	if err != nil {
		return nil, fmt.Errorf("crossing %d: %w", number, err)
	}
	if r.Lost > 0 {
		fmt.Fprintf(cmd.ErrOrStderr(), "vaiven: the recording breaks off %s: a keeper was killed there, or the file is "+
			"damaged\n", words.Often(r.Lost))
	}
	return r, nil
}

// reportCrossing writes the record of a crossing.
func reportCrossing(cmd *cobra.Command, p *plan.Plan, of keeper.Past, number int, file string) error {
	r, err := recordOf(cmd, p, of, number)
	if err != nil {
		return err
	}
	if err := r.Write(file); err != nil {
		return err
	}
	_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s: %v\n", file, r.Digest)
	return err
}

// errOthers says that events are not those that a record was made of.
var errOthers = errors.New("the events are not those that it was made of")

// verifyCrossing compares a crossing's events with a record of it.
func verifyCrossing(cmd *cobra.Command, of keeper.Past, number int, file string) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	want, err := past.DigestIn(text)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	if want.Crossing != number {
		return fmt.Errorf("%s is of crossing %d, and not of %d", file, want.Crossing, number)
	}
	told, err := of.EventsOf(cmd.Context(), number, want.UpTo)
	if err == nil && told.Unread != "" {
		err = fmt.Errorf("%w: %w: %s", errOthers, logbook.ErrDamaged, told.Unread)
	}
	if err != nil {
		return err
	}
	if is := told.Digest; is != want {
		return fmt.Errorf("%w: %s has %d events up to number %d, SHA-256 %s, and the logbook %d up to number %d, SHA-256 %s",
			errOthers, file, want.Events, want.UpTo, want.SHA256, is.Events, is.UpTo, is.SHA256)
	}
	_, err = fmt.Fprintf(cmd.OutOrStdout(), "the same: %v\n", want)
	return err
}

// showMoment shows what was seen of a crossing at a moment.
func showMoment(cmd *cobra.Command, p *plan.Plan, of keeper.Past, number int, at string, out output) error {
	r, err := recordingOf(cmd, of, number)
	if err != nil {
		return err
	}
	t, err := momentIn(r, at, zoneOf(p))
	if err != nil {
		return err
	}
	f, err := r.At(t)
	if err != nil {
		return err
	}
	return out.print(cmd.OutOrStdout(), f.Crossing.Target, f, func(w io.Writer) error {
		if hole, ok := r.Hole(t); ok {
			fmt.Fprintf(w, "nothing was recorded from %s to %s: this is what was seen before\n",
				hole.From.In(zoneOf(p)).Format("15:04:05"), hole.To.In(zoneOf(p)).Format("15:04:05"))
		}
		return headless.PrintMoment(w, f.Snapshot, f.Situation, zoneOf(p))
	})
}

// momentIn is a time that a person names, on the day on which the recording has it.
func momentIn(r *recording.Recording, text string, zone *time.Location) (time.Time, error) {
	for _, form := range []string{time.RFC3339, "2006-01-02 15:04:05", "2006-01-02 15:04"} {
		if t, err := time.ParseInLocation(form, text, zone); err == nil {
			return wholeSecond(t), within(r, t, text, zone)
		}
	}
	for _, form := range []string{"15:04:05", "15:04"} {
		clock, err := time.Parse(form, text)
		if err != nil {
			continue
		}
		day := r.From().In(zone)
		for {
			t := time.Date(day.Year(), day.Month(), day.Day(), clock.Hour(), clock.Minute(), clock.Second(), 0, zone)
			if !t.Before(r.From().Truncate(time.Second)) || t.After(r.To()) {
				return wholeSecond(t), within(r, t, text, zone)
			}
			day = day.AddDate(0, 0, 1)
		}
	}
	return time.Time{}, usage("%q is no time: write it like 14:02:10, or 2026-11-28 14:02:10", text)
}

// wholeSecond is the end of a second that is named: what happened in it has been seen then.
func wholeSecond(t time.Time) time.Time { return t.Add(time.Second - 1) }

// within is an error if a time is not in a recording.
func within(r *recording.Recording, t time.Time, text string, zone *time.Location) error {
	if t.Before(r.From().Truncate(time.Second)) || t.After(r.To().Add(time.Second)) {
		const form = "2006-01-02 15:04:05"
		return usage("%s is not in the recording, which goes from %s to %s", text, r.From().In(zone).Format(form),
			r.To().In(zone).Format(form))
	}
	return nil
}

// zoneOf is the zone that a plan's times are told in: the one that it names, else this machine's.
func zoneOf(p *plan.Plan) *time.Location {
	if p.Hours.Zone != nil {
		return p.Hours.Zone
	}
	return time.Local
}
