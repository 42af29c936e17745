package keeper

import (
	"context"
	"errors"
	"fmt"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/prove"
	"vaiven/internal/stack"
	"vaiven/internal/words"
)

// perform starts what the engine orders and is not being done yet, and ends what it does
// not order any more.
func (k *Keeper) perform(ctx context.Context) {
	orders := k.engine.Orders()
	var wanted engine.Order
	if len(orders) > 0 {
		wanted = orders[0]
	}
	if wanted.ID != k.running.id {
		k.running.cancel()
		k.running = running{id: wanted.ID, cancel: func() {}}
		k.proving = wanted.ID != 0 && wanted.Do == crossing.Check
		if wanted.ID != 0 {
			k.start(ctx, wanted)
		}
	}
	for _, look := range k.looks {
		k.effects.Go(func() { look(ctx) })
	}
	k.looks = nil
	k.tell(ctx)
}

// start performs a task beside the loop. What it comes to arrives as a report.
func (k *Keeper) start(ctx context.Context, o engine.Order) {
	ctx, cancel := context.WithCancel(ctx)
	k.running.cancel = cancel
	k.log.info("to do", "task", o.Task)
	var do func(context.Context, engine.Order)
	switch o.Do {
	case crossing.StandUp:
		do = k.standUp
	case crossing.Check:
		k.proof, k.proofs = noProof, k.proofs+1
		number, raised := k.proofs, raisedFrom(k.engine.State().Choices)
		do = func(ctx context.Context, o engine.Order) { k.check(ctx, o, number, raised) }
	case crossing.Move:
		do = k.move
	case crossing.GoHome:
		s := k.engine.State()
		h := front.Homing{Side: o.Side, By: o.By, Why: words.Cause(s.Why, s), Force: o.Force}
		// It acts first: what has to last is written after.
		k.effects.Go(func() { k.goHome(ctx, o, h) })
		return
	case crossing.Retire:
		do = k.retire
	default:
		return
	}
	k.effects.Go(func() {
		if err := k.book.kept(ctx, o.ID); err != nil {
			k.notDone(ctx, o, crossing.TroubleLogbook, err)
			return
		}
		do(ctx, o)
	})
}

// report tells the loop what a task has come to.
func (k *Keeper) report(ctx context.Context, f crossing.Fact) {
	k.post(ctx, func(now time.Time) {
		k.happened(k.engine.Report(now, f))
		k.publish(now)
	})
}

// said is an error as it may be shown and recorded.
func (k *Keeper) said(err error) string { return k.Secrets.Hide(err.Error()) }

func (k *Keeper) notDone(ctx context.Context, o engine.Order, kind crossing.TroubleKind, err error) {
	k.report(ctx, crossing.NotDone{Task: o.ID, Trouble: crossing.Trouble{Kind: kind, Said: k.said(err)}})
}

// move puts a share in force.
func (k *Keeper) move(ctx context.Context, o engine.Order) {
	limited, cancel := context.WithTimeout(ctx, setLimit)
	defer cancel()
	begun := time.Now()
	d, err := k.Front.Set(limited, o.Share, front.Expect{Revision: o.Revision, Generation: o.Generation})
	if err != nil {
		k.notDone(ctx, o, crossing.TroubleFront, err)
		return
	}
	k.report(ctx, crossing.InForce{Task: o.ID, Nearest: d.Nearest, Share: d.Share, Revision: d.Revision, Took: time.Since(begun), Did: d.Did, Everywhere: d.Everywhere})
}

// kicked has whoever goes home try again at once.
func (k *Keeper) kicked() {
	select {
	case k.kick <- struct{}{}:
	default:
	}
}

// goHome takes all traffic home, and tries until it works. A keeper that is ending still
// does so, once.
func (k *Keeper) goHome(ctx context.Context, o engine.Order, h front.Homing) {
	for tries := 1; ; tries++ {
		begun := time.Now()
		d, err := front.TryHome(context.WithoutCancel(ctx), k.Front.Home, h)
		switch {
		case errors.Is(err, front.ErrNobody) && !o.Force:
			k.report(ctx, crossing.NotHome{Task: o.ID, Home: crossing.Bench{Side: o.Side}})
			return
		case err == nil:
			k.report(ctx, crossing.AtHome{Task: o.ID, Share: d.Share, Generation: d.Order.Generation, Revision: d.Revision, Took: time.Since(begun), Did: d.Did, Everywhere: d.Everywhere})
			return
		}
		k.notDone(ctx, o, crossing.TroubleFront, err)
		k.log.warn("going home", "err", err)
		select {
		case <-ctx.Done():
			return
		case <-k.kick:
		case <-time.After(front.HomePause(tries)):
		}
	}
}

// standUp starts a side's instances. It never touches a side that gets requests, whoever
// sends them there.
func (k *Keeper) standUp(ctx context.Context, o engine.Order) {
	limited, cancel := context.WithTimeout(ctx, k.Plan.RaiseLimit(o.Side))
	defer cancel()
	r, err := k.Front.Read(limited)
	if err == nil {
		if share := r.Sends(o.Side); share > 0 {
			err = fmt.Errorf("%v gets %v of the requests: it is left alone", o.Side, share)
		}
	}
	if err == nil {
		err = k.unchanged(limited, o.Choices)
	}
	if err == nil {
		err = k.Stacks.Raise(limited, o.Side, builds(o.Choices))
	}
	if err != nil {
		k.notDone(ctx, o, crossing.TroubleRaise, err)
		return
	}
	k.post(ctx, func(time.Time) { k.engine.Started(o.ID) })
}

// builds are choices as the stacks want them.
func builds(choices []raise.Choice) map[string]stack.Build {
	m := map[string]stack.Build{}
	for _, c := range choices {
		m[c.Part] = stack.Build{Version: c.Version, ID: c.Build}
	}
	return m
}

// unchanged looks whether every version still stands for the build that was
// chosen.
func (k *Keeper) unchanged(ctx context.Context, choices []raise.Choice) error {
	for _, c := range choices {
		source, own := k.Sources[c.Part]
		if !own {
			continue
		}
		v, err := source.Find(ctx, c.Version)
		if err != nil {
			return fmt.Errorf("part %s: %w", c.Part, err)
		}
		if v.Wrong != "" {
			return fmt.Errorf("part %s: version %s cannot be raised: %s", c.Part, c.Version, v.Wrong)
		}
		if c.Build != "" && v.ID != c.Build {
			return fmt.Errorf("part %s: version %s was build %s when it was chosen, and is %s now: begin again if that is right",
				c.Part, c.Version, raise.Short(c.Build), raise.Short(v.ID))
		}
	}
	return nil
}

func raisedFrom(choices []raise.Choice) map[string]prove.Raised {
	m := map[string]prove.Raised{}
	for _, c := range choices {
		m[c.Part] = prove.Raised{Version: c.Version, Build: c.Build, Built: c.Built}
	}
	return m
}

// retire drains a side, takes its instances out of the front and stops them. It waits for
// open requests for the plan's grace time, and says how many it cuts after that. The front
// refuses it for a side that gets requests. Until instances are stopped there is a way
// back to them.
func (k *Keeper) retire(ctx context.Context, o engine.Order) {
	open, err := k.drain(ctx, o.Side)
	if err != nil {
		k.notDone(ctx, o, crossing.TroubleRetire, err)
		return
	}
	if !o.Final && !k.stopping(ctx, o, open) {
		return // somebody went back
	}
	// From here on nothing ends it half way, whoever asked for it is gone.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), k.stopLimit(o.Side))
	defer cancel()
	if err = k.Front.SetInstances(ctx, o.Side, nil); err == nil {
		err = k.Stacks.Stop(ctx, o.Side)
	}
	if err != nil {
		k.notDone(ctx, o, crossing.TroubleRetire, err)
		return
	}
	k.report(ctx, crossing.Retired{Task: o.ID, Side: o.Side})
}

// stopLimit is how long a side may take to stop.
func (k *Keeper) stopLimit(side split.Side) time.Duration {
	longest := time.Duration(0)
	for _, part := range k.Plan.Parts {
		longest = max(longest, part.Stacks[side].Grace)
	}
	return longest + setLimit
}

// stopping says that there is no way back from now on, and false if the task is not to be
// done any more. It is on record before anything is stopped.
func (k *Keeper) stopping(ctx context.Context, o engine.Order, cut int64) bool {
	seq := make(chan uint64, 1)
	k.post(ctx, func(now time.Time) {
		k.happened(k.engine.Report(now, crossing.Stopping{Task: o.ID, Cut: cut}))
		s := k.engine.State()
		if s.Task.ID != o.ID {
			seq <- 0
			return
		}
		seq <- s.Seq
	})
	select {
	case n := <-seq:
		if n == 0 {
			return false
		}
		if err := k.book.kept(ctx, n); err != nil {
			k.notDone(ctx, o, crossing.TroubleLogbook, err)
			return false
		}
		return true
	case <-ctx.Done():
		return false
	case <-k.done:
		return false
	}
}

// drain waits until a side answers no requests any more, for at most its grace time, and
// says how many are left.
func (k *Keeper) drain(ctx context.Context, side split.Side) (open int64, err error) {
	deadline := time.Now().Add(k.Plan.Main().Stacks[side].Grace)
	for {
		limited, cancel := context.WithTimeout(ctx, setLimit)
		open, err = front.Drain(limited, k.Front, side)
		cancel()
		if err != nil || open == 0 || time.Now().After(deadline) {
			return open, err
		}
		select {
		case <-ctx.Done():
			return open, ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// restart starts instances again that have ended while they are wanted.
func (k *Keeper) restart(ctx context.Context, now time.Time) {
	for _, i := range k.engine.Restarts(now) {
		k.engine.Restarting(now, i)
		k.log.info("start again", "instance", i.Name, "exit", i.Exit)
		k.effects.Go(func() {
			limited, cancel := context.WithTimeout(ctx, restartLimit)
			defer cancel()
			changed, err := k.Stacks.Restart(limited, i)
			failed := ""
			if err != nil {
				failed = k.said(err)
			}
			k.post(ctx, func(now time.Time) {
				k.happened(k.engine.Restarted(now, i, changed, failed))
				k.publish(now)
			})
		})
	}
}

// rotate keeps the output of instances from growing.
func (k *Keeper) rotate(ctx context.Context) {
	every(ctx, rotateEvery, func() {
		for _, side := range split.Sides {
			limited, cancel := context.WithTimeout(ctx, listLimit)
			if err := k.Stacks.Rotate(limited, side); err != nil && ctx.Err() == nil {
				k.log.warn("rotate output", "side", side, "err", err)
			}
			cancel()
		}
	})
}

// tell gives the front the instances that it has differently, one side at a time.
func (k *Keeper) tell(ctx context.Context) {
	now := time.Now()
	if k.telling || !k.latest.Load().Front.At.After(k.toldAt) {
		return
	}
	t, ok := k.engine.Telling(now)
	if !ok {
		return
	}
	k.telling = true
	k.effects.Go(func() {
		limited, cancel := context.WithTimeout(ctx, setLimit)
		defer cancel()
		if err := k.Front.SetInstances(limited, t.Side, t.Servers); err != nil && !errors.Is(err, context.Canceled) {
			k.log.warn("tell the front its instances", "side", t.Side, "err", err)
		}
		k.post(ctx, func(now time.Time) { k.telling, k.toldAt = false, now })
	})
}
