package keeper

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/split"
	"vaiven/internal/world/versions"
)

// Make makes a version that there is not yet. output is the file with all that was said.
type Make func(ctx context.Context, a crossing.Arrival) (output string, err error)

// Starting is how it stands with a version that waits for its turn.
type Starting struct {
	Until time.Time `json:"until,omitzero"`    // it waits for a time of day
	Since time.Time `json:"building,omitzero"` // it is being made since then
	Said  string    `json:"said,omitempty"`    // why it could not be begun, which is tried again
}

const (
	startEvery = time.Second     // how often it is looked whether a version that waits may begin
	tryEvery   = 5 * time.Second // how often it is tried, where it could not
)

// starter begins what waits. It belongs to one goroutine.
type starter struct {
	*Keeper
	said  Starting
	tried time.Time
	last  crossing.Arrival // that was tried then
	next  time.Time        // when it is looked for new versions
	found raise.Version    // the newest one, as it was found last
	made  crossing.Arrival // what was made last, or could not be
	gone  string           // version that was dropped last
}

// start begins versions as the plan has it, until the context ends. Nothing of going home waits for it.
func (k *Keeper) start(ctx context.Context) {
	if !k.Plan.Start.On() {
		return
	}
	s := &starter{Keeper: k}
	every(ctx, startEvery, func() {
		now := time.Now()
		latest := k.latest.Load()
		if c := latest.Crossing; latest.Ready && c.Waiting.Any() {
			s.tell(s.turn(ctx, now, c))
		} else {
			s.tell(Starting{})
		}
		if k.Plan.Start.When == plan.StartAppears && latest.Ready && !now.Before(s.next) {
			s.look(ctx, latest)
			s.next = time.Now().Add(jittered(k.Plan.Start.Every))
		}
	})
}

// jittered is a time give or take a fifth, so that many who ask one source do not ask together.
func jittered(d time.Duration) time.Duration {
	return time.Duration(float64(d) * (0.8 + 0.4*rand.Float64()))
}

// tell has everybody see how it stands.
func (s *starter) tell(now Starting) {
	if now == s.said {
		return
	}
	s.said = now
	s.loop.tell(func(at time.Time) {
		s.starting = now
		s.publish(at)
	})
}

// turn begins the version that waits, if it is its turn, and says what it waits for.
func (s *starter) turn(ctx context.Context, now time.Time, c crossing.State) Starting {
	w := c.Waiting
	switch at := s.Plan.Start.At.After(w.At); {
	case c.Stage.UnderWay(), c.Task.ID != 0, c.WaitsForSomebody():
		return Starting{}
	case now.Before(at):
		return Starting{Until: at}
	case w == s.last && now.Sub(s.tried) < tryEvery:
		return s.said
	}
	defer func() { s.tried, s.last = time.Now(), w }()
	err := s.there(ctx, w)
	if err == nil {
		err = s.begin(ctx, w)
	}
	var drops dropError
	switch {
	case errors.As(err, &drops):
		s.drop(w.Version, drops.Error())
	case err != nil && ctx.Err() == nil:
		return Starting{Said: s.Keeper.said(err)}
	}
	return Starting{}
}

// dropError is why a version is not to be begun at all.
type dropError string

func (e dropError) Error() string { return string(e) }

func (s *starter) drop(version, why string) {
	s.gone = version
	s.loop.tell(func(now time.Time) {
		s.happened(s.engine.Drop(now, crossing.Drop{Version: version, Why: s.Secrets.Hide(why)}))
		s.publish(now)
	})
}

// there sees to it that a version is there, and no older than the live one.
func (s *starter) there(ctx context.Context, w crossing.Arrival) error {
	source, own := s.Sources[s.Plan.Main().Name]
	if !own {
		return nil // what stands there is what there is
	}
	v, err := source.Find(ctx, w.Version)
	if errors.Is(err, versions.ErrNone) && s.Plan.Build.On() && s.Make != nil {
		if err = s.build(ctx, source, w); err == nil {
			v, err = source.Find(ctx, w.Version)
		}
	}
	switch {
	case errors.Is(err, versions.ErrNone):
		return dropError("there is no such version")
	case err != nil:
		return err
	}
	list, err := source.List(ctx)
	if err != nil {
		return err
	}
	latest := s.latest.Load()
	live := latest.Sides[latest.Live]
	is := live.Version
	place := func(name string) int {
		return slices.IndexFunc(list, func(v raise.Version) bool { return v.Name == name })
	}
	switch at, of := place(w.Version), place(is); {
	case is == w.Version, live.Build != "" && live.Build == v.ID:
		return dropError("it is live already")
	case at >= 0 && of >= 0 && at > of:
		return dropError(fmt.Sprintf("it is older than %s, which is live: vaiven cross goes there by hand", is))
	}
	return nil
}

// build makes a version, and has it recorded. It ends when another one waits in its place.
func (s *starter) build(ctx context.Context, source versions.Source, w crossing.Arrival) error {
	if s.made == w {
		return dropError("it was made, and is not there")
	}
	ctx, cancel := context.WithTimeout(ctx, s.Plan.Build.Within)
	defer cancel()
	begun := time.Now()
	s.tell(Starting{Since: begun})
	events := s.Events(ctx, FromNow)
	go func() {
		for e := range events { // it ends with the context
			if d, dropped := e.What.(crossing.Dropped); dropped && d.Version == w.Version {
				cancel()
			}
		}
	}()
	output, err := s.Make(ctx, w)
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		err = fmt.Errorf("it took longer than %v", s.Plan.Build.Within)
	} else if ctx.Err() != nil {
		return ctx.Err()
	}
	s.made = w
	f := crossing.Built{Version: w.Version, Commit: w.Commit, Took: time.Since(begun), Output: output}
	if err == nil {
		v, errFind := source.Find(ctx, w.Version)
		f.Build, err = v.ID, errFind
		if errors.Is(errFind, versions.ErrNone) {
			err = errors.New("it made no such version")
		}
	}
	if err != nil {
		f.Failed = s.Keeper.said(err)
	}
	s.report(f)
	if err != nil {
		return dropError("it could not be made: " + f.Failed)
	}
	return nil
}

// begin begins a version, for whoever said that it has arrived.
func (s *starter) begin(ctx context.Context, w crossing.Arrival) error {
	c := Command{By: w.By, Peer: w.Peer, Planned: true}
	switch route := slices.Clone(s.Plan.Route); s.Plan.Start.Far {
	case plan.FarRaised:
		c.Act = crossing.Raise{Version: w.Version}
	case plan.FarProven:
		c.Act = crossing.Begin{Version: w.Version, Hold: true}
	case plan.FarLeg:
		if len(route) > 1 {
			route[1].Ask = true
		}
		c.Act = crossing.Begin{Version: w.Version, Route: route}
	default:
		c.Act = crossing.Begin{Version: w.Version}
	}
	_, err := s.Do(ctx, c)
	var r *crossing.Refusal
	if errors.As(err, &r) {
		switch r.Because.(type) {
		case crossing.NoSuchVersion, crossing.VersionWrong, crossing.NothingIsNew, crossing.NoRoute, crossing.NotItsOwn:
			return dropError(err.Error())
		}
	}
	return err
}

// look finds the newest version, and has it wait if it is new: it has not crossed, is not live nor older, and was there
// as it is when it was looked last.
func (s *starter) look(ctx context.Context, latest *Snapshot) {
	source, own := s.Sources[s.Plan.Main().Name]
	if !own {
		return
	}
	list, err := source.List(ctx)
	if err != nil {
		s.log.warn("versions that appear cannot be looked for", "err", s.Keeper.said(err))
		return
	}
	good := func(v raise.Version) bool { return v.Wrong == "" }
	at := slices.IndexFunc(list, good)
	if at < 0 {
		return
	}
	v, before := list[at], s.found
	if s.found = v; v.Name != before.Name || v.ID != before.ID {
		return // it may still be on its way
	}
	live := latest.Sides[latest.Live].Version
	of := slices.IndexFunc(list, func(v raise.Version) bool { return v.Name == live })
	if of >= 0 && at >= of || of < 0 && live != "" && !v.At.After(latest.Crossing.Begun) {
		return
	}
	if v.Name == latest.Crossing.Waiting.Version || v.Name == s.gone || s.crossed(ctx, v, latest.Crossing) {
		return
	}
	if _, err := s.Do(ctx, Command{Act: crossing.Arrive{Version: v.Name}, By: engine.Self, Planned: true}); err != nil {
		s.log.warn("a version that has appeared could not be noted", "version", v.Name, "err", err)
	}
}

// crossed reports whether a version has crossed, or stands spare, or was dropped.
func (s *starter) crossed(ctx context.Context, v raise.Version, c crossing.State) bool {
	if c.Version == v.Name && c.Build == v.ID || c.Stage.UnderWay() && c.Version == v.Name {
		return true
	}
	for _, side := range split.Sides {
		if s.latest.Load().Sides[side].Version == v.Name {
			return true
		}
	}
	past, err := s.Book.Past(ctx)
	if err != nil {
		return true // nothing is begun on what is not known
	}
	return slices.ContainsFunc(past, func(p crossing.Past) bool { return p.Version == v.Name && p.Build == v.ID })
}
