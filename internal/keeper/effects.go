package keeper

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/plan"
	"vaiven/internal/prove"
	"vaiven/internal/versions"
)

// perform starts an effect. What it comes to arrives as a report.
func (k *Keeper) perform(ctx context.Context, e crossing.Effect) {
	ctx, k.cancel = context.WithCancel(ctx)
	slog.Info("perform", "effect", e)
	switch e.Do {
	case crossing.ApplyShare:
		revision := k.revision
		k.start(ctx, func() crossing.Fact { return k.apply(ctx, e, revision) })
	case crossing.RaiseSide:
		wanted := choices(k.state, k.Plan.Main().Name)
		k.raising = raising{effect: e.ID, side: e.Side, builds: Builds(wanted), deadline: time.Now().Add(k.Plan.RaiseLimit(e.Side))}
		k.clearing[e.Side] = true
		k.start(ctx, func() crossing.Fact { return k.raise(ctx, e, wanted) })
	case crossing.ProveSide:
		k.view.Proving, k.view.Proof = true, proof.Proof{}
		k.proofs++
		number, raised := k.proofs, raisedFrom(choices(k.state, k.Plan.Main().Name))
		k.start(ctx, func() crossing.Fact { return k.prove(ctx, e, number, raised) })
	case crossing.RetireSide:
		k.clearing[e.Side] = true
		k.start(ctx, func() crossing.Fact { return k.retire(ctx, e) })
	}
}

// start runs an effect beside the loop and reports what it came to, unless that
// is nil.
func (k *Keeper) start(ctx context.Context, do func() crossing.Fact) {
	k.effects.Go(func() {
		fact := do()
		if fact == nil {
			return
		}
		select {
		case k.reports <- crossing.Event{At: time.Now(), By: self, What: fact}:
		case <-ctx.Done():
		}
	})
}

func (k *Keeper) apply(ctx context.Context, e crossing.Effect, revision uint64) crossing.Fact {
	if e.Home {
		ctx = context.WithoutCancel(ctx) // a keeper that is ending still goes home
	}
	ctx, cancel := context.WithTimeout(ctx, setLimit)
	defer cancel()
	begun := time.Now()
	var s reading.Split
	var err error
	if e.Home {
		s, err = k.Front.Home(ctx, e.Share)
	} else {
		s, err = k.Front.Set(ctx, e.Share, revision)
	}
	if err != nil {
		return crossing.ApplyFailed{Effect: e.ID, Why: err.Error()}
	}
	return crossing.Applied{Effect: e.ID, Share: s.Share, Revision: s.Revision, Took: time.Since(begun), Did: s.Did}
}

// raise starts a side's instances. It never touches a side that gets requests,
// whoever sends them there.
func (k *Keeper) raise(ctx context.Context, e crossing.Effect, wanted []crossing.Choice) crossing.Fact {
	reading, err := k.Front.Read(ctx)
	if err == nil {
		if share := reading.Split.Share.Of(e.Side); share > 0 {
			err = fmt.Errorf("%v gets %v of the requests: it is left alone", e.Side, share)
		}
	}
	if err == nil {
		err = k.unchanged(ctx, wanted)
	}
	if err == nil {
		err = k.Stacks.Raise(ctx, e.Side, Builds(wanted))
	}
	if err != nil {
		return crossing.RaiseFailed{Effect: e.ID, Why: err.Error()}
	}
	return instancesStarted{effect: e.ID}
}

// unchanged looks whether every version still stands for the build that was
// chosen.
func (k *Keeper) unchanged(ctx context.Context, wanted []crossing.Choice) error {
	for _, c := range wanted {
		source, own := k.Sources[c.Part]
		if !own {
			continue
		}
		v, err := versions.Find(ctx, source, c.Version)
		if err != nil {
			return fmt.Errorf("part %s: %w", c.Part, err)
		}
		if c.Build != "" && v.ID != c.Build {
			return fmt.Errorf("part %s: version %s was build %s when it was chosen, and is %s now: begin again if that is meant",
				c.Part, c.Version, versions.Short(c.Build), versions.Short(v.ID))
		}
	}
	return nil
}

func raisedFrom(wanted []crossing.Choice) map[string]prove.Raised {
	m := map[string]prove.Raised{}
	for _, c := range wanted {
		m[c.Part] = prove.Raised{Version: c.Version, Build: c.Build, Built: c.Built}
	}
	return m
}

// instancesStarted is a report that stays within the keeper: all instances were
// started, and now have to become healthy.
type instancesStarted struct{ effect int }

// Kind makes it a fact; it is never recorded.
func (instancesStarted) Kind() string { return "instances started" }

// watchRaise reports a raise as done when all instances are healthy, and as
// failed when one has ended or time is up.
func (k *Keeper) watchRaise(now time.Time) {
	r := k.raising
	if !r.started || r.effect != k.state.Pending.ID {
		return
	}
	v := Judge(k.Plan, r.side, r.builds, k.view.Sides[r.side].Instances)
	var fact crossing.Fact
	switch {
	case v.Healthy():
		fact = crossing.Raised{Effect: r.effect, Build: k.state.Build, Instances: v.Names, Times: v.Times}
	case v.Exited:
		fact = crossing.RaiseFailed{Effect: r.effect, Why: v.Stuck()}
	case now.After(r.deadline):
		fact = crossing.RaiseFailed{Effect: r.effect, Why: fmt.Sprintf("not healthy within %v: %s", k.Plan.RaiseLimit(r.side), v.Stuck())}
	default:
		return
	}
	k.raising = raising{}
	k.queue = append(k.queue, crossing.Event{At: now, By: self, What: fact})
}

// prove makes the proof and tells how far it is.
func (k *Keeper) prove(ctx context.Context, e crossing.Effect, number int, raised map[string]prove.Raised) crossing.Fact {
	q, err := k.question(ctx, e.Side, raised)
	if err != nil {
		r := proof.Result{
			Part: k.Plan.Main().Name, Kind: proof.KindInstances, Check: "instances", Instance: e.Side.String(), Want: "a list", Got: err.Error(), At: time.Now(),
		}
		return crossing.Proved{Effect: e.ID, Proof: proof.Proof{Results: []proof.Result{r}}}
	}
	q.Told = func(p proof.Proof) { k.tell(ctx, proofSoFar{number: number, proof: p}) }
	p, about := prove.Prove(ctx, q)
	if ctx.Err() != nil {
		return nil // nobody waits for it any more
	}
	k.tell(ctx, proofSoFar{number: number, proof: p, about: &about})
	return crossing.Proved{Effect: e.ID, Pass: p.Pass(), Proof: p}
}

// question is what a proof is made of: both sides as they stand.
func (k *Keeper) question(ctx context.Context, target split.Side, raised map[string]prove.Raised) (prove.Question, error) {
	q := prove.Question{Plan: k.Plan, Secrets: k.Secrets, Standing: k.Stacks, Target: target, Raised: raised}
	var err error
	for _, side := range split.Sides {
		var errList error
		if q.Sides[side], errList = k.Stacks.List(ctx, side); side == target {
			err = errList // the live side only serves to compare
		}
	}
	return q, err
}

// proofSoFar is a report that stays within the keeper: how far a proof is, or what
// was found beside one.
type proofSoFar struct {
	number int // of the proof: what an earlier one still has to say is dropped
	proof  proof.Proof
	about  *prove.About
	done   bool // asked for beside a crossing, and at its end
}

// Kind makes it a fact; it is never recorded.
func (proofSoFar) Kind() string { return "proof so far" }

// tell sends a report that stays within the keeper.
func (k *Keeper) tell(ctx context.Context, fact crossing.Fact) {
	select {
	case k.reports <- crossing.Event{At: time.Now(), By: self, What: fact}:
	case <-ctx.Done():
	}
}

// lookLimit bounds a proof or a check that was asked for beside a crossing.
const lookLimit = 5 * time.Minute

// look makes a proof, or one check of it, that no crossing waits for.
func (k *Keeper) look(ctx context.Context, c Command) error {
	s := k.latest.Load()
	target := s.Live.Other()
	if s.Crossing.Stage.UnderWay() {
		target = s.Crossing.Target
	}
	if len(s.Sides[target].Instances) == 0 {
		return fmt.Errorf("%w: %v has no instances to check", crossing.ErrNotNow, target)
	}
	if s.Proving {
		return fmt.Errorf("%w: the proof is being made", crossing.ErrNotNow)
	}
	raised := raisedFrom(choices(s.Crossing, k.Plan.Main().Name))
	if !s.Crossing.Stage.UnderWay() {
		raised = map[string]prove.Raised{} // held to what it was started from
		for _, i := range s.Sides[target].Instances {
			raised[i.Part] = prove.Raised{Version: i.Version, Build: i.Build}
		}
	}
	reply := make(chan error, 1)
	work := func(ctx context.Context, number int) {
		ctx, cancel := context.WithTimeout(ctx, lookLimit)
		defer cancel()
		q, err := k.question(ctx, target, raised)
		if err != nil {
			slog.Warn("look", "err", err)
			k.tell(ctx, proofSoFar{number: number, proof: s.Proof, done: true})
			return
		}
		about := s.About
		if c.Do == Prove {
			q.Told = func(p proof.Proof) { k.tell(ctx, proofSoFar{number: number, proof: p}) }
			p, about := prove.Prove(ctx, q)
			k.tell(ctx, proofSoFar{number: number, proof: p, about: &about, done: true})
			return
		}
		p := proof.Proof{Results: slices.Clone(s.Proof.Results)}
		if r, ok := prove.Again(ctx, q, c.Cell, &about); ok {
			if n := slices.IndexFunc(p.Results, r.SameCell); n >= 0 {
				p.Results[n] = r
			} else {
				p.Results = append(p.Results, r)
			}
		}
		k.tell(ctx, proofSoFar{number: number, proof: p, about: &about, done: true})
	}
	select {
	case k.looks <- looking{work, reply}:
		return <-reply
	case <-k.done:
		return errors.New("the keeper has stopped")
	case <-ctx.Done():
		return ctx.Err()
	}
}

// looking is something to be looked at beside the loop.
type looking struct {
	work  func(ctx context.Context, number int)
	reply chan error
}

// beginLook starts it, one at a time.
func (k *Keeper) beginLook(ctx context.Context, l looking) {
	if k.view.Proving || k.state.Pending.Do == crossing.ProveSide && k.state.Pending.ID != 0 {
		l.reply <- fmt.Errorf("%w: the proof is being made", crossing.ErrNotNow)
		return
	}
	k.view.Proving = true
	k.proofs++
	number := k.proofs
	l.reply <- nil
	k.effects.Go(func() { l.work(ctx, number) })
	k.publish(time.Now())
}

func (k *Keeper) retire(ctx context.Context, e crossing.Effect) crossing.Fact {
	if err := ClearAway(ctx, k.Plan, k.Front, k.Stacks, e.Side); err != nil {
		return crossing.RetireFailed{Effect: e.ID, Why: err.Error()}
	}
	return crossing.Retired{Effect: e.ID, Side: e.Side}
}

// ClearAway drains a side, takes its instances out of the front and stops them. It
// waits for open requests for at most the plan's grace time. The front refuses it
// for a side that gets requests.
func ClearAway(ctx context.Context, p *plan.Plan, f Front, s Stacks, side split.Side) error {
	if err := drain(ctx, f, side, p.Main().Stacks[side].Grace); err != nil {
		return err
	}
	if err := f.SetInstances(ctx, side, nil); err != nil {
		return err
	}
	return s.Stop(ctx, side)
}

func drain(ctx context.Context, f Front, side split.Side, grace time.Duration) error {
	deadline := time.Now().Add(grace)
	for {
		open, err := f.Drain(ctx, side)
		if err != nil || open == 0 || time.Now().After(deadline) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// syncInstances tells the front which instances each side has and which of them
// are healthy, if it has it differently. A side that the stacks know nothing of is
// left as it is.
func (k *Keeper) syncInstances(ctx context.Context) {
	if k.synced || k.view.Front.Error != "" {
		return
	}
	for _, side := range split.Sides {
		conditions := k.frontPart(side)
		if k.clearing[side] || len(conditions) == 0 || k.view.Sides[side].Error != "" {
			continue
		}
		wanted := make([]reading.Server, len(conditions))
		for n, c := range conditions {
			wanted[n] = reading.Server{Name: c.Name, Address: c.Address, Version: c.Version, Out: c.State == reading.Failing || c.State == reading.Exited}
		}
		if sameInstances(wanted, k.reading.Sides[side].Instances) {
			continue
		}
		k.synced = true
		k.effects.Go(func() {
			ctx, cancel := context.WithTimeout(ctx, setLimit)
			defer cancel()
			if err := k.Front.SetInstances(ctx, side, wanted); err != nil && !errors.Is(err, context.Canceled) {
				slog.Warn("tell the front its instances", "side", side, "err", err)
			}
		})
		return // the other side with the next reading
	}
}

// frontPart are a side's instances that the front sends requests to.
func (k *Keeper) frontPart(side split.Side) []reading.Condition {
	var list []reading.Condition
	for _, c := range k.view.Sides[side].Instances {
		if c.Part == k.Plan.Main().Name {
			list = append(list, c)
		}
	}
	return list
}

func sameInstances(wanted []reading.Server, counts []reading.Count) bool {
	if len(wanted) != len(counts) {
		return false
	}
	for n := range wanted {
		if wanted[n] != counts[n].Server {
			return false
		}
	}
	return true
}
