package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/fleet"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/fleetbook"
	"vaiven/internal/keeper/service"
	"vaiven/internal/people/headless"
	"vaiven/internal/plan/fleetfile"
	"vaiven/internal/words"
	"vaiven/internal/world/place"
	"vaiven/internal/world/section"
)

// fleetEventJSON is what happened in a fleet's crossing.
type fleetEventJSON struct {
	fleet.Event
	Fleet string `json:"fleet"`
}

// fleetSummaryJSON is what a fleet's crossing came to.
type fleetSummaryJSON struct {
	Fleet   string              `json:"fleet"`
	Number  int                 `json:"number"`
	Outcome headless.Outcome    `json:"outcome"`
	Members []memberSummaryJSON `json:"members"`
}

type memberSummaryJSON struct {
	Name    string      `json:"name"`
	Version string      `json:"version"`
	Stage   fleet.Stage `json:"stage"`
	Why     string      `json:"why,omitempty"`
}

// fleetCrossing is a fleet that is taken across.
type fleetCrossing struct {
	cmd    *cobra.Command
	file   string
	fleet  *fleet.Fleet
	to     map[string]string // version of each that is named
	o      headless.Options
	steer  reachFlags
	out    output
	dry    bool
	stands map[string]keeper.Snapshot // of each that is named, before

	asking sync.Mutex  // held by who asks
	lines  chan func() // to be printed, in their order
}

// linesMost is how many lines wait for whoever reads them: what is more is not printed, and nothing else waits.
const linesMost = 1000

// print has something printed.
func (c *fleetCrossing) print(line func()) {
	select {
	case c.lines <- line:
	default:
	}
}

// crossFleet takes the services of a fleet across, in its order.
func crossFleet(cmd *cobra.Command, file string, versions []string, o headless.Options, steer reachFlags, dry bool,
	out output) error {
	for _, flag := range []string{"detach", "supersede", "until", "at-once"} {
		if cmd.Flags().Changed(flag) {
			return usage("--%s is for one service: a fleet is followed to its end", flag)
		}
	}
	if isFolder(file) {
		return usage("%s is a folder, which says no order: write a fleet file, or cross each service by its plan", file)
	}
	f, err := fleetfile.Read(file)
	if err != nil {
		return err
	}
	c := &fleetCrossing{cmd: cmd, file: file, fleet: f, o: o, steer: steer, out: out, dry: dry,
		lines: make(chan func(), linesMost)}
	if c.to, err = versionsOf(f, versions); err != nil {
		return err
	}
	if dry {
		return c.begin(cmd.Context(), nil, fleet.Crossing{})
	}
	book, err := fleetbook.Open(fleetbook.Folder(file, f.Name))
	if err != nil {
		return err
	}
	return errors.Join(c.run(cmd.Context(), book), book.Close())
}

// versionsOf reads which version each service of a fleet is to go to: one for all, or one for each that is named.
func versionsOf(f *fleet.Fleet, flags []string) (map[string]string, error) {
	to, all := map[string]string{}, ""
	for _, text := range flags {
		name, version, named := strings.Cut(text, "=")
		_, known := f.Member(name)
		switch {
		case named && !known:
			try := "services are: " + strings.Join(f.Names(), ", ")
			if near := section.Nearest(name, f.Names()); near != "" {
				try = fmt.Sprintf("did you mean %q?", near)
			}
			return nil, usage("--version %q: there is no service %q in the fleet; %s", text, name, try)
		case named && version != "" && to[name] == "":
			to[name] = version
		case !named && text != "" && all == "":
			all = text
		default:
			return nil, usage("--version %q: want one VERSION for all, and SERVICE=VERSION at most once for each", text)
		}
	}
	for _, name := range f.Names() {
		if all != "" && to[name] == "" {
			to[name] = all
		}
	}
	if len(to) == 0 {
		return nil, usage("--version is needed: one for all services, or SERVICE=VERSION for each that crosses")
	}
	return to, nil
}

func (c *fleetCrossing) run(ctx context.Context, book *fleetbook.Book) error {
	last := book.Last()
	if last.UnderWay() && maps.Equal(last.Asked, c.to) {
		fmt.Fprintf(c.cmd.ErrOrStderr(), "vaiven: takes up crossing %d of %s, which %s began\n", last.Number, last.Fleet.Name,
			last.By)
		return c.cross(ctx, book, last)
	}
	return c.begin(ctx, book, last)
}

// begin begins a crossing after another one, or says only what it would be.
func (c *fleetCrossing) begin(ctx context.Context, book *fleetbook.Book, last fleet.Crossing) error {
	if err := c.look(ctx); err != nil {
		return err
	}
	if err := c.free(last); err != nil {
		return err
	}
	begun, names := c.begun(last.Number + 1)
	if len(names) == 0 {
		return usage("nothing is to cross: each runs its version already")
	}
	j, plans, wrong := fleetOf(c.cmd, c.fleet, names)
	c.add(&j, plans)
	if !c.out.json || c.dry {
		if err := c.out.print(c.cmd.OutOrStdout(), split.Green, j, j.print); err != nil {
			return err
		}
	}
	if wrong > 0 {
		return usage("%d of %d plans are not right: nothing was begun", wrong, len(c.fleet.Members))
	}
	if err := c.pairs(ctx, j.Mixed); err != nil || c.dry {
		return err
	}
	if c.o.Ask != nil && !c.o.Yes.All() {
		if yes, err := c.o.Ask(fmt.Sprintf("begin with %s?", j.Course.Names()[0])); err != nil || !yes {
			return errors.Join(err, &exitError{exitCalledOff, errors.New("nothing was begun")})
		}
	}
	begun.Turns = j.Course.Names()
	if last.UnderWay() { // what it began has ended since
		if err := book.Append(fleet.Event{At: time.Now(), Kind: fleet.Ended}); err != nil {
			return err
		}
	}
	if err := book.Append(begun); err != nil {
		return err
	}
	return c.cross(ctx, book, fleet.Apply(fleet.Crossing{}, begun))
}

// lookLimit is how long a service's keeper may take to be there and to have read what there is.
const lookLimit = 20 * time.Second

// look reads how each that is named stands, and says all that is in the way at once.
func (c *fleetCrossing) look(ctx context.Context) error {
	c.stands = map[string]keeper.Snapshot{}
	var mu sync.Mutex // protects stands and wrong
	var wrong []error
	var asked errgroup.Group
	asked.SetLimit(atOnce)
	for _, name := range slices.Sorted(maps.Keys(c.to)) {
		asked.Go(func() error {
			s, err := c.lookAt(ctx, name)
			mu.Lock()
			defer mu.Unlock()
			if c.stands[name] = s; err != nil {
				wrong = append(wrong, fmt.Errorf("%s: %w", name, err))
			}
			return nil
		})
	}
	_ = asked.Wait() // each has its own
	if len(wrong) == 0 {
		return nil
	}
	slices.SortFunc(wrong, func(a, b error) int { return strings.Compare(a.Error(), b.Error()) })
	return fmt.Errorf("%w\nnothing was begun", errors.Join(wrong...))
}

func (c *fleetCrossing) lookAt(ctx context.Context, name string) (keeper.Snapshot, error) {
	ctx, cancel := context.WithTimeout(ctx, lookLimit)
	defer cancel()
	m, _ := c.fleet.Member(name)
	k, err := reach(c.cmd, m.Plan, !c.dry, false)
	if c.dry && errors.Is(err, service.ErrNoKeeper) {
		return keeper.Snapshot{}, nil // what it runs is not known, and nothing is started to ask
	}
	if err != nil {
		return keeper.Snapshot{}, err
	}
	defer k.Close()
	if k.Info.Service != name {
		return keeper.Snapshot{}, fmt.Errorf("%s is the plan of the service %s", m.Plan, k.Info.Service)
	}
	var s keeper.Snapshot
	for s = range k.Snapshots(ctx) {
		if s.Ready {
			break
		}
	}
	if !s.Ready {
		return s, errors.New("its keeper has not read front and instances yet")
	}
	begin := crossing.Begin{Version: c.to[name], SameBuild: c.o.SameBuild}
	_, err = k.Do(ctx, keeper.Command{Act: begin, Try: true, By: who(), TakeWheel: c.steer.takeWheel})
	if busy, ok := crossing.Refused[crossing.IsBusy](err); ok && busy.Task.Do == crossing.TaskRetire {
		err = nil // what was there before is being retired, which ends
	}
	return s, notAllowed(err)
}

// free reports what is in the way of a new crossing of the fleet: services that one has begun which has not ended.
func (c *fleetCrossing) free(last fleet.Crossing) error {
	if !last.UnderWay() {
		return nil
	}
	for _, p := range last.Parts {
		if _, named := c.to[p.Name]; !named && p.Turn > 0 && !p.Stage.Over() {
			var flags []string
			for _, name := range slices.Sorted(maps.Keys(last.Asked)) {
				flags = append(flags, fmt.Sprintf("--version %s=%s", name, last.Asked[name]))
			}
			return fmt.Errorf("crossing %d of %s has not ended: %s is in it. vaiven cross %s %s takes it up", last.Number,
				last.Fleet.Name, p.Name, c.file, strings.Join(flags, " "))
		}
	}
	return nil // those that are named stand still, or it would be in the way
}

// begun is the first event of a crossing, and who is in it: those that run their version already are not.
func (c *fleetCrossing) begun(number int) (e fleet.Event, names []string) {
	e = fleet.Event{At: time.Now(), Kind: fleet.Begun, Number: number, By: who(), Why: c.steer.why, Fleet: c.fleet,
		Asked: c.to, Versions: map[string]string{}, Numbers: map[string]int{}}
	for _, name := range c.fleet.Names() {
		s, named := c.stands[name]
		if !named || s.Sides[s.Live].Version == c.to[name] && !c.o.SameBuild {
			continue
		}
		names = append(names, name)
		e.Versions[name], e.Numbers[name] = c.to[name], s.Crossing.Number
	}
	return e, names
}

// add says what the crossing means for those that are there together meanwhile.
func (c *fleetCrossing) add(j *fleetJSON, plans map[string]*plan.Plan) {
	j.From, j.To = map[string]string{}, c.to
	for _, m := range c.fleet.Members {
		if s, ok := c.stands[m.Name]; ok {
			j.From[m.Name] = s.Sides[s.Live].Version
		}
	}
	for _, name := range j.Course.Names() {
		p := plans[name]
		if p == nil || !c.fleet.InBoth(name) {
			continue
		}
		live := c.stands[name].Live
		o := overlapJSON{Name: name, Longer: c.fleet.Overlap(j.Course, name, p.Keep),
			Instances: len(c.stands[name].Sides[live].Instances)}
		if price := p.Main().Stacks[live].Price; price.Unit != "" {
			o.Cost = plan.Price{Amount: price.Amount * o.Longer.Hours() * float64(o.Instances), Unit: price.Unit}
		}
		if o.Longer > 0 {
			j.Overlap = append(j.Overlap, o)
		}
	}
	j.Mixed = c.fleet.Mixed(j.Course, j.From, c.to)
}

// pairLimit is how long a check of two versions may take.
const pairLimit = 5 * time.Minute

// pairs asks the programs that the fleet names whether versions work together that will talk to each other.
func (c *fleetCrossing) pairs(ctx context.Context, mixed []fleet.Pair) error {
	var wrong []error
	for _, p := range mixed {
		m, _ := c.fleet.Member(p.Name)
		if m.Together == "" {
			continue
		}
		if p.Version == "" || p.Other == "" {
			wrong = append(wrong, fmt.Errorf("%s asks %s with versions: one of %v is not known", p.Name, m.Together, p))
			continue
		}
		limited, cancel := context.WithTimeout(ctx, pairLimit)
		said, err := place.Local{Dir: filepath.Dir(c.file)}.Run(limited,
			place.Command{Words: []string{m.Together, p.Name, p.Version, p.To, p.Other}})
		cancel()
		text := strings.TrimSpace(string(said.Output))
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
			wrong = append(wrong, fmt.Errorf("%v: %s: %w", p, m.Together, err))
		case said.Status != 0:
			wrong = append(wrong, fmt.Errorf("%v do not work together, says %s (exit status %d): %s", p, m.Together, said.Status,
				text))
		case !c.out.json:
			fmt.Fprintf(c.cmd.OutOrStdout(), "· %v work together, says %s\n", p, filepath.Base(m.Together))
		}
	}
	switch err := errors.Join(wrong...); {
	case err == nil:
		return nil
	case c.o.Accept:
		fmt.Fprintf(c.cmd.ErrOrStderr(), "vaiven: accepted: %v\n", err)
		return nil
	default:
		return fmt.Errorf("%w\nnothing was begun; --accept begins all the same", err)
	}
}

// cross takes it from where it is to its end.
func (c *fleetCrossing) cross(ctx context.Context, book *fleetbook.Book, from fleet.Crossing) error {
	printed := make(chan struct{})
	go func() {
		defer close(printed)
		for line := range c.lines {
			if line == nil { // the last one
				return
			}
			line()
		}
	}()
	run := headless.FleetCrossing{
		State:  from,
		Record: book.Append,
		Reach:  c.reach,
		Each: func(name string) headless.Options {
			o := c.o
			o.By, o.Why, o.TakeWheel = who(), c.steer.why, c.steer.takeWheel
			o.Emit = func(any) error { return nil }
			if !c.out.json {
				o.Tell = func(text string) { c.line(name, "…", text) }
			}
			return o
		},
		Told: c.told,
		Stuck: func(name string, waits headless.Summary) {
			c.line(name, "◇", fmt.Sprintf("%s%s", waits.Outcome, because(waits.Why)))
		},
	}
	if c.o.Ask != nil {
		run.Ask = func(name, question string) (bool, error) {
			c.asking.Lock()
			defer c.asking.Unlock()
			return c.o.Ask(name + ": " + question)
		}
	}
	outcome, err := run.Run(ctx)
	select {
	case c.lines <- nil:
		<-printed
	case <-ctx.Done(): // whoever reads it may not go on
	}
	switch {
	case ctx.Err() != nil:
		return fmt.Errorf("interrupted: nothing new begins, and what has begun goes on by its keepers. The same command " +
			"takes it up")
	case err != nil:
		return err
	}
	return errors.Join(c.summary(run.State, outcome), outcomeStatus(outcome))
}

// reach connects to a member's keeper.
func (c *fleetCrossing) reach(_ context.Context, name string) (headless.MemberKeeper, error) {
	m, ok := c.fleet.Member(name)
	if !ok {
		return headless.MemberKeeper{}, fmt.Errorf("%s is no service of %s any more", name, c.file)
	}
	k, err := reach(c.cmd, m.Plan, true, false)
	if err != nil {
		return headless.MemberKeeper{}, err
	}
	return headless.MemberKeeper{Client: k, As: k.asOf(), Close: k.Close}, nil
}

// line says something of a member.
func (c *fleetCrossing) line(name, mark, text string) {
	w := c.cmd.OutOrStdout()
	if c.out.json {
		w = c.cmd.ErrOrStderr()
	}
	at := time.Now()
	c.print(func() { fmt.Fprintf(w, "%s  %s %-16s %s\n", at.Format("15:04:05"), mark, name, text) })
}

// told says what was recorded.
func (c *fleetCrossing) told(e fleet.Event, after fleet.Crossing) {
	if !c.out.json {
		mark := "·"
		if e.Stage.Lost() || e.Kind == fleet.Undone {
			mark = "▲"
		}
		if text := words.FleetEvent(e, after); text != "" {
			c.line(e.Name, mark, text)
		}
		return
	}
	j := fleetEventJSON{e, after.Fleet.Name}
	c.print(func() { _ = c.out.print(c.cmd.OutOrStdout(), split.Green, j, nil) }) // who reads it no more stops nothing
}

// summary says what came of it.
func (c *fleetCrossing) summary(s fleet.Crossing, outcome headless.Outcome) error {
	j := fleetSummaryJSON{Fleet: s.Fleet.Name, Number: s.Number, Outcome: outcome}
	for _, p := range s.Parts {
		j.Members = append(j.Members, memberSummaryJSON{p.Name, p.Version, p.Stage, p.Why})
	}
	return c.out.print(c.cmd.OutOrStdout(), split.Green, j, func(w io.Writer) error {
		there, back, not := s.Counts()
		_, err := fmt.Fprintf(w, "\n%s: %d of %d have arrived, %d rolled back, %d not begun\n", s.Fleet.Name, there,
			len(s.Parts), back, not)
		if err == nil && s.UnderWay() {
			_, err = fmt.Fprintf(w, "it has not ended: somebody is waited for. The same command takes it up\n")
		}
		return err
	})
}

// fleetCrossings are those of a fleet, oldest first, as its record has them, and the folder of that.
func fleetCrossings(file string) (all []fleet.Crossing, folder string, err error) {
	f, err := fleetfile.Read(file)
	if err != nil {
		return nil, "", err
	}
	folder = fleetbook.Folder(file, f.Name)
	events, err := fleetbook.Read(folder)
	for _, e := range events {
		if e.Kind == fleet.Begun {
			all = append(all, fleet.Crossing{})
		}
		if n := len(all) - 1; n >= 0 {
			all[n] = fleet.Apply(all[n], e)
		}
	}
	return all, folder, err
}

// fleetNow says how far the crossing of a fleet is that has not ended; "" if none is, or it is no fleet's file.
func fleetNow(file string) string {
	if is, err := fleetfile.IsFleet(file); err != nil || !is {
		return ""
	}
	all, folder, err := fleetCrossings(file)
	if err != nil || len(all) == 0 || !all[len(all)-1].UnderWay() {
		return ""
	}
	return words.FleetNow(all[len(all)-1], fleetbook.InUse(folder))
}

// fleetLog lists the crossings of a fleet, the last first.
func fleetLog(w io.Writer, file string) error {
	all, _, err := fleetCrossings(file)
	if err != nil {
		return err
	}
	for _, c := range slices.Backward(all) {
		if _, err := fmt.Fprintln(w, words.FleetCrossing(c)); err != nil {
			return err
		}
	}
	return nil
}
