package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/keeper/service"
	"vaiven/internal/proving/prober"
	"vaiven/internal/words"
	"vaiven/internal/world/secret"
)

func whereCommand() *cobra.Command {
	var span time.Duration
	var asJSON bool
	var send prober.Sending
	cmd := &cobra.Command{
		Use:   "where PLAN",
		Short: "Say where requests go now, read from the front",
		Long: `Reads the split in force and the instances from each front of the plan, counts
requests for a while, and says whether they are split as asked. Meanwhile it asks as
the plan's prober does: what a front counts is no word on a proxy that was forgotten
beside it. It changes nothing and does not disturb a screen that is open.

With --send it sends so many requests itself, by --clients in turn, and says how many each
side answered as they come: every client has a value of its own for the split key, keeps its cookies,
and its connection unless --fresh gives every request a new one.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := readPlan(args[0])
			if err != nil {
				return err
			}
			if send.Requests > 0 {
				return sendTo(cmd, p, send, asJSON)
			}
			var list []frontPlace
			known := whoStands(cmd.Context(), p)
			for _, f := range p.Fronts() {
				at, err := whereIs(cmd.Context(), p, f, known, span)
				if errors.Is(err, front.ErrNotMade) {
					at.Passes, err = passes(cmd.Context(), f, err)
				}
				if err != nil {
					return fmt.Errorf("%s: %w", f.Name(), err)
				}
				list = append(list, at)
			}
			now := atKeeper(cmd, p)
			if asJSON {
				w := whereJSON{Service: p.Service, Fronts: list, Keeper: now}
				newSide := split.Green
				if now != nil && now.Crossing.Stage.UnderWay() {
					newSide = now.Crossing.Target
				}
				return printJSON(cmd.OutOrStdout(), "where", newSide, w)
			}
			err = printWhere(cmd.OutOrStdout(), p, list, now)
			if now != nil {
				err = errors.Join(err, printKeeper(cmd.OutOrStdout(), *now))
			}
			return err
		},
	}
	cmd.Flags().DurationVar(&span, "for", 3*time.Second, "how long to count requests; 0s counts none")
	cmd.Flags().IntVar(&send.Requests, "send", 0, "send so many requests, in place of counting those of others")
	cmd.Flags().DurationVar(&send.Per, "per", 20*time.Millisecond, "with --send: the time between two")
	cmd.Flags().IntVar(&send.Clients, "clients", 1, "with --send: how many send them in turn")
	cmd.Flags().BoolVar(&send.Fresh, "fresh", false, "with --send: a new connection for every request")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

// sentJSON is what came of requests that were sent by hand.
type sentJSON struct {
	Service string            `json:"service"`
	Asked   split.Share       `json:"asked"`   // on green, as the first front has it
	Answers [2]int64          `json:"answers"` // blue, green
	Nobody  int64             `json:"nobody"`  // of which it is not known whose they are
	Failing int64             `json:"failing"`
	Lost    int64             `json:"lost"`
	Share   float64           `json:"share"`          // of green among those that are known, 0 to 1
	Sure    evidence.Interval `json:"sure"`           // where it lies, 99 % sure however often it is looked at
	Last    string            `json:"last,omitempty"` // why the last one failed or was lost
}

// sentNow is what has come of them so far.
func sentNow(p *plan.Plan, asked split.Share, d reading.Door) sentJSON {
	seen := d.Over(time.Time{})
	w := sentJSON{Service: p.Service, Asked: asked, Failing: d.Failing, Lost: d.Lost,
		Nobody: seen.Nobody.Of + seen.Unreached}
	for _, side := range split.Sides {
		w.Answers[side] = seen.Sides[side].Of
	}
	c := evidence.Count{Bad: w.Answers[split.Green], Of: w.Answers[split.Green] + w.Answers[split.Blue]}
	w.Share, w.Sure = c.Rate(), evidence.Rate(c, 0.01)
	if n := len(d.Bad); n > 0 {
		w.Last = d.Bad[n-1].Why
	}
	return w
}

// line is that for people.
func (w sentJSON) line(of int) string {
	n := w.Answers[split.Blue] + w.Answers[split.Green]
	text := fmt.Sprintf("%d of %d: blue %d, green %d", n+w.Nobody, of, w.Answers[split.Blue], w.Answers[split.Green])
	if n > 0 {
		text += fmt.Sprintf(": %.1f %% on green (%.1f to %.1f %%), %v is in force", 100*w.Share, 100*w.Sure.Low,
			100*w.Sure.High, w.Asked)
	}
	if w.Nobody > 0 {
		text += fmt.Sprintf("; of %d it is not known whose they are", w.Nobody)
	}
	text += fmt.Sprintf("; %d failing, %d lost", w.Failing, w.Lost)
	if w.Last != "" {
		text += ", the last: " + w.Last
	}
	return text
}

// sendTo sends requests at the fronts, and says what comes of them: each second on a terminal, and at the end.
func sendTo(cmd *cobra.Command, p *plan.Plan, s prober.Sending, asJSON bool) error {
	if s.Per < 0 || s.Clients < 1 {
		return usage("--per is a time and --clients at least 1")
	}
	ctx := cmd.Context()
	r, err := readOnce(ctx, all.Open(p), &figures.Series{})
	if err != nil {
		return err
	}
	name(r, whoStands(ctx, p))
	asker, err := newAsker(p, p.Fronts(), r)
	if err != nil {
		return err
	}
	sent := make(chan struct{})
	go func() {
		defer close(sent)
		asker.Send(ctx, s)
	}()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for under := true; under; {
		select {
		case <-sent:
			under = false
		case <-tick.C:
			if w := cmd.ErrOrStderr(); !asJSON && onTerminal(w) {
				fmt.Fprintf(w, "\r\x1b[K%s", sentNow(p, r.Split.Share, asker.Report(time.Now())).line(s.Requests))
			}
		}
	}
	if !asJSON && onTerminal(cmd.ErrOrStderr()) {
		fmt.Fprint(cmd.ErrOrStderr(), "\r\x1b[K")
	}
	w := sentNow(p, r.Split.Share, asker.Report(time.Now()))
	if asJSON {
		err = printJSON(cmd.OutOrStdout(), "sent", split.Green, w)
	} else {
		_, err = fmt.Fprintln(cmd.OutOrStdout(), w.line(s.Requests))
	}
	if err = errors.Join(err, ctx.Err()); err == nil && w.Lost >= int64(s.Requests) {
		err = fmt.Errorf("no instance has answered any of the %d requests", s.Requests)
	}
	return err
}

// whereJSON is where a service's requests go.
type whereJSON struct {
	Service string       `json:"service"`
	Fronts  []frontPlace `json:"fronts"`
	Keeper  *keeperPlace `json:"keeper,omitempty"`
}

// keeperPlace is how far the service's keeper is.
type keeperPlace struct {
	Process  int               `json:"process"` // 0 if none answers: then the crossing is what the logbook ends with
	Since    time.Time         `json:"since"`
	Crossing crossing.State    `json:"crossing"`
	WayBack  wayback.Readiness `json:"way_back"`
	Watching int               `json:"watching"`
	// what is wrong with a side that gets requests while nothing is crossing, and what stands ready
	Ill string `json:"ill,omitempty"`
}

// atKeeper asks the keeper how far it is, and where none answers the logbook whether a crossing was left; nil if
// there is nothing to say. What the fronts say does not depend on it.
func atKeeper(cmd *cobra.Command, p *plan.Plan) *keeperPlace {
	r, err := reaching(cmd, p, false, true)
	if err != nil {
		return nil
	}
	if k, err := r.Open(cmd.Context()); err == nil {
		defer k.Close()
		if s, err := k.View(cmd.Context()); err == nil {
			return &keeperPlace{k.Info.Process, k.Info.Since, s.Crossing, s.WayBack, s.Watching, words.Ailing(s.View)}
		}
	}
	if s, err := inLog(cmd.Context(), p.Logbook()); err == nil && s.Number > 0 {
		return &keeperPlace{Crossing: s}
	}
	return nil
}

func printKeeper(w io.Writer, k keeperPlace) error {
	text := words.State(k.Crossing)
	if k.Crossing.Number > 0 {
		text = fmt.Sprintf("crossing %d: %s", k.Crossing.Number, text)
	}
	if k.Process == 0 && !k.Crossing.Stage.UnderWay() {
		_, err := fmt.Fprintf(w, "no keeper runs, so nobody watches %v, and nothing that ends is started again: "+
			"vaiven keep PLAN does, and vaiven keep PLAN --unit prints a unit file for one that stays\n",
			k.Crossing.Live())
		return err
	}
	if k.Process == 0 {
		_, err := fmt.Fprintf(w, "no keeper answers: %s, as the logbook has it; vaiven open PLAN, or vaiven keep "+
			"PLAN, goes on with it\n", text)
		return err
	}
	if k.WayBack.State != "" {
		text += fmt.Sprintf("; way back %s", k.WayBack.State)
		if why := words.WayBack(k.WayBack, time.Now()); why != "" {
			text += " (" + why + ")"
		}
	}
	if k.Ill != "" {
		if _, err := fmt.Fprintln(w, k.Ill); err != nil {
			return err
		}
	}
	_, err := fmt.Fprintf(w, "keeper, process %d since %s: %s; %s, %d watch\n", k.Process,
		k.Since.Local().Format("15:04:05"), text, words.Wheel(k.Crossing.Wheel), k.Watching)
	return err
}

// frontPlace is where one front sends requests.
type frontPlace struct {
	Front  string        `json:"front"`
	Split  reading.Split `json:"split"`
	Notice string        `json:"notice,omitempty"`
	// requests and connections that it refused or cut off since it started, by reason
	Refused map[string]int64 `json:"refused,omitempty"`
	Sides   [2]sideOfPlace   `json:"sides"` // blue, green
	// requests that the front answered itself with an error while they were counted, assigned to no side
	Own     int64         `json:"own,omitempty"`
	Counted time.Duration `json:"counted"`
	// addresses that it sends requests to, where it is not steered yet; the rest says nothing then
	Passes   []string          `json:"passes,omitempty"`
	Judgment *engine.SplitView `json:"judgment,omitempty"` // none if nothing was counted
}

// refusedText is what a front refused, most often first.
func refusedText(counts map[string]int64) string {
	reasons := slices.SortedFunc(maps.Keys(counts), func(a, b string) int {
		return cmp.Or(cmp.Compare(counts[b], counts[a]), strings.Compare(a, b))
	})
	var list []string
	for _, why := range reasons {
		list = append(list, fmt.Sprintf("%d %s", counts[why], why))
	}
	return strings.Join(list, " · ")
}

// passes are the addresses that a front sends requests to whose configuration is not Vaiven's to change yet.
func passes(ctx context.Context, f plan.Front, why error) ([]string, error) {
	kind := all.Of(f)
	c, ok := f.Settings.(interface{ Configuration() string })
	if !ok || kind.Survey == nil {
		return nil, why
	}
	on, end := all.On(f.At)
	defer end()
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	found, err := kind.Survey(ctx, on, c.Configuration())
	if err != nil {
		return nil, errors.Join(why, err)
	}
	var list []string
	for _, s := range found {
		if s.Listen != front.AtPort(f.Listen, "80") {
			continue
		}
		for _, i := range s.Servers {
			if i.In {
				list = append(list, i.Address)
			}
		}
	}
	if len(list) == 0 {
		return nil, why
	}
	return list, nil
}

type sideOfPlace struct {
	Instances []serverPlace `json:"instances"`
	Requests  int64         `json:"requests"`
	Failing   int64         `json:"failing"`
	// ended before the length that they named, beside the failing ones
	Cut    int64 `json:"cut,omitempty"`
	Probes int64 `json:"probes,omitempty"` // the prober's, beside the requests, where the front knows them
}

// serverPlace is one instance as the front has it.
type serverPlace struct {
	reading.Server
	Ended string `json:"ended,omitempty"` // how, of one that does not run any more
}

// running is how many of a side's instances run, as far as can be told.
func (s sideOfPlace) running() int {
	n := 0
	for _, i := range s.Instances {
		if i.Ended == "" {
			n++
		}
	}
	return n
}

// whoStands are the instances that requests go to, by address, as far as can be asked:
// some fronts know no more than addresses.
func whoStands(ctx context.Context, p *plan.Plan) map[string]reading.Instance {
	known := map[string]reading.Instance{}
	y, err := service.OpenStacks(p, secret.Values{}) // nothing is started here
	if err != nil {
		return known
	}
	defer y.Set.Close()
	for _, side := range split.Sides {
		list, _ := y.Set.List(ctx, side)
		for _, i := range list {
			if i.Part == p.Main().Name {
				known[i.Address] = i
			}
		}
	}
	return known
}

// name gives instances that a front knows by no more than their addresses the names and versions that are known.
func name(r reading.Front, known map[string]reading.Instance) {
	for _, s := range r.Sides {
		for n := range s.Instances {
			if i, ok := known[s.Instances[n].Address]; ok && s.Instances[n].Version == "" {
				s.Instances[n].Name, s.Instances[n].Version = i.Name, i.Version
			}
		}
	}
}

// whereIs reads one front, twice if requests are to be counted.
func whereIs(ctx context.Context, p *plan.Plan, f plan.Front, known map[string]reading.Instance,
	span time.Duration) (frontPlace, error) {
	d := all.One(p, f)
	at := frontPlace{Front: f.Name(), Counted: span}
	var series figures.Series
	read := func() (reading.Front, error) {
		r, err := readOnce(ctx, d, &series)
		name(r, known)
		return r, err
	}
	r, err := read()
	var probed [2]int64
	steady := span > 0
	for range recounts {
		before := r.Split
		if err != nil || span <= 0 {
			break
		}
		if probed, err = probe(ctx, p, f, r, span); err == nil {
			r, err = read()
		}
		if steady = err == nil && r.Split.Revision == before.Revision && r.Split.Share == before.Share; steady {
			break
		}
		series = figures.Series{} // what was counted belongs to two shares
		if err == nil {
			err = series.Add(r)
		}
	}
	if err != nil {
		return at, err
	}
	at.Split, at.Notice, at.Refused = r.Split, r.Notice, r.Refused
	if !steady && span > 0 {
		at.Counted = 0
		at.Notice = strings.TrimSpace("the share was changed again and again while requests were counted: not judged. " + at.Notice)
	}
	for _, side := range split.Sides {
		s := &at.Sides[side]
		s.Instances = []serverPlace{}
		for _, c := range r.Sides[side].Instances {
			i := serverPlace{Server: c.Server}
			if k, ok := known[c.Address]; ok && !k.Running {
				i.Ended = cmp.Or(k.Exit, "ended")
			}
			s.Instances = append(s.Instances, i)
		}
		figures := series.Count(side, time.Time{}, 0)
		s.Requests, s.Failing, s.Cut, s.Probes = figures.Requests, figures.Failing, figures.Cut, figures.Probes
	}
	at.Own = series.Own(time.Time{})
	if at.Counted > 0 {
		v := engine.JudgeSplit(at.Split.Share, f, r.Tells, engine.Split(&series, time.Time{}, f, r.Tells), probed)
		at.Judgment = &v
	}
	return at, nil
}

// recounts is how often requests are counted anew because the share was changed meanwhile.
const recounts = 3

// probe asks at a front for a while, and counts the answers by side.
func probe(ctx context.Context, p *plan.Plan, f plan.Front, r reading.Front, span time.Duration) ([2]int64, error) {
	asker, err := newAsker(p, []plan.Front{f}, r)
	if err != nil {
		return [2]int64{}, err
	}
	asking, stop := context.WithTimeout(ctx, span)
	defer stop()
	asker.Run(asking)
	return asker.Report(time.Now()).Seen(time.Time{}), ctx.Err()
}

// newAsker is the plan's prober for some fronts, which knows by their versions who answers.
func newAsker(p *plan.Plan, fronts []plan.Front, r reading.Front) (*prober.Prober, error) {
	marker, err := os.ReadFile(p.Secret())
	if err != nil && !errors.Is(err, fs.ErrNotExist) { // there is none before the first screen
		return nil, err
	}
	secrets, err := secret.Read(p.Secrets)
	if err != nil && len(p.Door.Headers) > 0 { // else nothing that is asked needs one
		return nil, err
	}
	asker := service.NewProber(p, fronts, string(marker), secrets)
	var versions [2]string
	for _, side := range split.Sides {
		for _, c := range r.Sides[side].Instances {
			versions[side] = c.Version
		}
	}
	asker.Sides(versions)
	return asker, nil
}

func readOnce(ctx context.Context, d front.Driver, series *figures.Series) (reading.Front, error) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	r, err := d.Read(ctx)
	if err != nil {
		return r, err
	}
	return r, series.Add(r)
}

func printWhere(w io.Writer, p *plan.Plan, list []frontPlace, k *keeperPlace) error {
	for _, at := range list {
		if len(at.Passes) > 0 {
			fmt.Fprintf(w, "%s, %s: not Vaiven's to steer yet: all requests go to %s; vaiven front PLAN says what "+
				"its configuration needs\n", p.Service, at.Front, strings.Join(at.Passes, ", "))
			continue
		}
		fresh := ""
		if k != nil && k.Crossing.Stage.UnderWay() {
			fresh = ", " + words.On(at.Split.Share, k.Crossing.Target) + " (new)"
		}
		fmt.Fprintf(w, "%s, %s: %v of the requests go to green%s\n", p.Service, at.Front, at.Split.Share, fresh)
		for _, side := range split.Sides {
			s := at.Sides[side]
			fmt.Fprintf(w, "  %-5v %2d instances", side, s.running())
			if at.Counted > 0 {
				fmt.Fprintf(w, "   %d requests in %gs, %d failing", s.Requests, at.Counted.Seconds(), s.Failing)
				if s.Cut > 0 {
					fmt.Fprintf(w, ", %d cut short", s.Cut)
				}
				if s.Probes > 0 {
					fmt.Fprintf(w, "; %d of the prober", s.Probes)
				}
			}
			fmt.Fprintln(w)
			for _, i := range s.Instances {
				out := ""
				switch {
				case i.Ended != "":
					out = "  does not run: " + i.Ended
				case i.Out:
					out = "  out"
				}
				fmt.Fprintf(w, "        %-12s %-21s %s%s\n", i.Name, i.Address, i.Version, out)
			}
		}
		if at.Own > 0 {
			fmt.Fprintf(w, "  front               %d requests in %gs that it answered itself with an error: nobody "+
				"was there for them\n", at.Own, at.Counted.Seconds())
		}
		if at.Judgment != nil {
			fmt.Fprintf(w, "  split %s\n", words.Split(*at.Judgment))
		}
		if at.Notice != "" {
			fmt.Fprintf(w, "  note  %s\n", at.Notice)
		}
		if len(at.Refused) > 0 {
			fmt.Fprintf(w, "  refused or cut off since the front started: %s\n", refusedText(at.Refused))
		}
	}
	for _, at := range list[1:] {
		if at.Split.Share != list[0].Split.Share {
			fmt.Fprintf(w, "the fronts differ: %s has %v on green, %s has %v\n", at.Front, at.Split.Share,
				list[0].Front, list[0].Split.Share)
		}
	}
	return nil
}
