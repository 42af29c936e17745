package outside

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/emersion/go-ical"
	"github.com/goccy/go-yaml"

	"vaiven/internal/core/calendar"
)

const (
	limit = 5 * time.Second // how long somebody may take to answer
	most  = 1 << 20         // bytes that are read
	// Ahead is how far a calendar is read, and behind how long something may have begun before.
	ahead, behind = 400 * 24 * time.Hour, 60 * 24 * time.Hour
)

// Web reports whether a name is a URL, and no file.
func Web(name string) bool {
	return strings.HasPrefix(name, "http://") || strings.HasPrefix(name, "https://")
}

// fetch is the content of a file or a URL. The error wraps [fs.ErrNotExist] if there is none.
func fetch(ctx context.Context, name string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	if !Web(name) {
		return file(ctx, name)
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, name, nil)
	if err != nil {
		return nil, err
	}
	w, err := http.DefaultClient.Do(r)
	if err != nil {
		return nil, err
	}
	defer w.Body.Close()
	switch {
	case w.StatusCode == http.StatusNotFound || w.StatusCode == http.StatusGone:
		return nil, fmt.Errorf("%s: %w", name, fs.ErrNotExist)
	case w.StatusCode != http.StatusOK:
		return nil, fmt.Errorf("%s answers %s", name, w.Status)
	}
	return whole(name, w.Body)
}

// file reads one, on a disk that may hang.
func file(ctx context.Context, name string) ([]byte, error) {
	type read struct {
		data []byte
		err  error
	}
	done := make(chan read, 1)
	go func() {
		f, err := os.Open(name)
		if err != nil {
			done <- read{nil, err}
			return
		}
		defer f.Close()
		data, err := whole(name, f)
		done <- read{data, err}
	}()
	select {
	case r := <-done:
		return r.data, r.err
	case <-ctx.Done():
		return nil, fmt.Errorf("%s: %w", name, context.Cause(ctx))
	}
}

func whole(name string, r io.Reader) ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && len(data) > most {
		err = fmt.Errorf("%s has more than %d bytes", name, most)
	}
	return data, err
}

// Embargo reads one: there is one as long as the file or the page is there, empty or with "why", "by" and "until" in
// YAML, unless it says "embargo: no".
func Embargo(ctx context.Context, name string) (calendar.Embargo, error) {
	data, err := fetch(ctx, name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return calendar.Embargo{}, nil
	case err != nil:
		return calendar.Embargo{}, err
	}
	said := struct {
		Embargo string `yaml:"embargo"`
		Why     string `yaml:"why"`
		By      string `yaml:"by"`
		Until   string `yaml:"until"`
	}{}
	if len(bytes.TrimSpace(data)) > 0 {
		err = yaml.UnmarshalWithOptions(data, &said, yaml.Strict())
	}
	e := calendar.Embargo{On: said.Embargo != "no" && said.Embargo != "false", Why: said.Why, By: said.By}
	if err == nil && said.Until != "" {
		e.Until, err = time.Parse(time.RFC3339, said.Until)
	}
	if err != nil {
		first, _, _ := strings.Cut(err.Error(), "\n")
		return calendar.Embargo{}, fmt.Errorf("%s: %s: want why, by, and until such as 2026-12-01T08:00:00+01:00, or "+
			"\"embargo: no\"", name, first)
	}
	return e, nil
}

// Closed reads the days of an iCalendar (RFC 5545) that are closed, around a time: its events, those that come again
// each time. A day without a time of day is one of the zone.
func Closed(ctx context.Context, name string, zone *time.Location, now time.Time) ([]calendar.Closed, error) {
	data, err := fetch(ctx, name)
	if err != nil {
		return nil, err
	}
	read, err := ical.NewDecoder(bytes.NewReader(data)).Decode()
	if err != nil {
		return nil, fmt.Errorf("%s is no calendar (iCalendar): %w", name, err)
	}
	var list []calendar.Closed
	for _, e := range read.Events() {
		from, err := e.DateTimeStart(zone)
		if err != nil || from.IsZero() {
			return nil, fmt.Errorf("%s: an event without a beginning (DTSTART) that can be read: %v", name, err)
		}
		to, err := e.DateTimeEnd(zone)
		if err != nil || !to.After(from) {
			to = from.AddDate(0, 0, 1)
		}
		title, _ := e.Props.Text(ical.PropSummary)
		begins := []time.Time{from}
		again, err := e.RecurrenceSet(zone)
		if err != nil {
			return nil, fmt.Errorf("%s: %s: how it comes again: %w", name, title, err)
		}
		if again != nil {
			begins = again.Between(now.Add(-behind), now.Add(ahead), true)
		}
		for _, at := range begins {
			// as many days as clocks show, also over a day on which they are set
			days := int(to.Sub(from).Round(time.Hour) / (24 * time.Hour))
			end := at.Add(to.Sub(from))
			if whole := from.Hour() == to.Hour() && from.Minute() == to.Minute(); whole && days > 0 {
				end = at.AddDate(0, 0, days)
			}
			list = append(list, calendar.Closed{Name: title, From: at, To: end})
		}
	}
	return list, nil
}
