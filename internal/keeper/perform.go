package keeper

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"vaiven/internal/core/backlog"
	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/proving/prove"
	"vaiven/internal/stack"
	"vaiven/internal/words"
	"vaiven/internal/world/permit"
)

// perform starts what the engine orders and is not being done yet, and ends what it does
// not order any more.
func (k *performer) perform(ctx context.Context) {
	orders := k.engine.Orders()
	var wanted engine.Order
	if len(orders) > 0 {
		wanted = orders[0]
	}
	if wanted.ID != k.running.id {
		cause := errSuperseded
		if k.engine.State().Task.ID == k.running.id {
			cause = errWithheld
		}
		k.running.cancel(cause)
		if k.hooked.task != k.engine.State().Task.ID {
			k.hooked = passage{}
		}
		k.running = running{id: wanted.ID, cancel: func(error) {}}
		k.proving = wanted.ID != 0 && wanted.Do == crossing.TaskProve
		if wanted.ID != 0 {
			k.start(ctx, wanted)
		}
	}
	for _, look := range k.looks {
		k.effects.Go(func() { look(ctx) })
	}
	k.looks = nil
	k.runAfters(ctx)
	k.introduce(ctx)
}

// Why a task is not performed any more, as its context says.
var (
	errWithheld   = errors.New("not permitted just now") // it still is ordered, and is begun again when it may be
	errSuperseded = errors.New("not wanted any more")
)

// permitted asks the engine whether a task may go on to its next step, by all that is known now.
func (k *performer) permitted(ctx context.Context, o engine.Order) error {
	answer := make(chan error, 1)
	k.post(ctx, func(now time.Time) {
		k.happened(k.engine.Pass(now))
		answer <- k.mayGoOn(o)
	})
	select {
	case err := <-answer:
		return err
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-k.done:
		return errStopped
	}
}

// mayGoOn reports whether a task is among the orders of now. It belongs to the loop.
func (k *performer) mayGoOn(o engine.Order) error {
	for _, now := range k.engine.Orders() {
		if now.ID == o.ID {
			return nil
		}
	}
	if k.engine.State().Task.ID == o.ID {
		return errWithheld
	}
	return errSuperseded
}

// start performs a task beside the loop. What it comes to arrives as a report.
func (k *performer) start(ctx context.Context, o engine.Order) {
	ctx, cancel := context.WithCancelCause(ctx)
	k.running.cancel = cancel
	k.log.info("to do", "task", o.Task)
	var do func(context.Context, engine.Order)
	switch o.Do {
	case crossing.TaskRaise:
		do = k.standUp
	case crossing.TaskProve:
		k.proof, k.proofs = noProof, k.proofs+1
		number, raised := k.proofs, raisedFrom(k.engine.State().Choices)
		do = func(ctx context.Context, o engine.Order) { k.check(ctx, o, number, raised) }
	case crossing.TaskMove:
		do = k.move
	case crossing.TaskHome:
		s := k.engine.State()
		why := s.Why
		if o.Act {
			why = o.Task.Why
		}
		h := front.Homing{Side: o.Side, By: o.By, Why: words.Cause(why, s), Force: o.Force, Folder: k.Folder}
		_, byHand := why.Is.(crossing.ByHand)
		// It acts first: what has to last is written after.
		k.effects.Go(func() { k.goHome(ctx, o, h, byHand) })
		return
	case crossing.TaskRetire:
		do = k.retire
	default:
		return
	}
	k.effects.Go(func() {
		if err := k.book.kept(ctx, o.ID); err != nil {
			k.notDone(ctx, o, err, crossing.TroubleLogbook{Said: k.said(err)})
			return
		}
		do(permit.With(ctx, func(ctx context.Context) error { return k.permitted(ctx, o) }), o)
	})
}

// report tells the loop what a task has come to, whatever has become of the time that it had.
func (l *loop) report(f crossing.Fact) {
	l.tell(func(now time.Time) {
		l.happened(l.engine.Report(now, f))
		l.publish(now)
	})
}

// said is an error as it may be shown and recorded.
func (l *loop) said(err error) string { return l.Secrets.Hide(err.Error()) }

// notDone reports that a task came to nothing. One that is only withheld, or that ends with the keeper, is taken up
// again.
func (k *performer) notDone(ctx context.Context, o engine.Order, err error, trouble crossing.TroubleKind) {
	if cause := context.Cause(ctx); errors.Is(err, errWithheld) || errors.Is(err, errStopped) ||
		errors.Is(cause, errWithheld) || cause == context.Canceled {
		k.log.info("left", "task", o.Task, "why", err)
		return
	}
	k.report(crossing.Failed{Task: o.ID, Trouble: crossing.Went(trouble)})
}

// move puts a share in force.
func (k *performer) move(ctx context.Context, o engine.Order) {
	if s := k.during(o); !o.Act {
		if err := k.before(ctx, occasion{moment: plan.BeforeLeg, state: s, side: s.Target,
			share: o.Share.Of(s.Target)}); err != nil {
			k.notDone(ctx, o, err, crossing.TroubleHook{Said: k.said(err)})
			return
		}
	}
	if err := permit.Ask(ctx); err != nil {
		k.notDone(ctx, o, err, crossing.TroubleFront{Said: k.said(err)})
		return
	}
	limited, cancel := context.WithTimeout(ctx, setLimit)
	defer cancel()
	begun := time.Now()
	var d front.Done
	term, err := k.inTerm(limited)
	if err == nil {
		d, err = k.Front.Set(limited, o.Share, front.Expect{Revision: o.Revision, Generation: o.Generation, Term: term})
	}
	if k.refused(ctx, err) {
		return
	}
	if err != nil {
		k.notDone(ctx, o, err, crossing.TroubleFront{Said: k.said(err)})
		return
	}
	k.report(crossing.TookEffect{Task: o.ID, Nearest: d.Nearest, Share: d.Share, Revision: d.Revision,
		Took: time.Since(begun), Did: d.Did, Everywhere: d.Everywhere})
}

// during is the state in which a task is performed.
func (k *performer) during(o engine.Order) crossing.State {
	s := k.latest.Load().Crossing
	s.Task = o.Task
	return s
}

// kicked has whoever goes home try again at once.
func (k *performer) kicked() {
	select {
	case k.kick <- struct{}{}:
	default:
	}
}

// goHome takes all traffic home, and tries until it works. A keeper that is ending still
// does so, once. What one decides by itself that has not seen the front for a while is not
// done where another keeper has taken over meanwhile: it may be the one that was cut off.
func (k *performer) goHome(ctx context.Context, o engine.Order, h front.Homing, byHand bool) {
	for tries, named := 1, false; ; tries++ {
		if !byHand && (tries > 1 || time.Since(k.seen()) > seenWithin) && k.overtaken(ctx) {
			return
		}
		begun := time.Now()
		d, err := front.TryHome(context.WithoutCancel(ctx), k.Front.Home, h)
		switch {
		case errors.Is(err, front.ErrNobody) && !o.Force && !named && k.nameHome(ctx, o.Side):
			named = true // it knew nobody there, and somebody is
			continue
		case errors.Is(err, front.ErrNobody) && !o.Force, errors.Is(err, front.ErrClosed):
			k.report(crossing.NotReturned{Task: o.ID, Home: crossing.Serving{Side: o.Side}})
			return
		case err == nil:
			k.report(crossing.Returned{Task: o.ID, Share: d.Share, Generation: d.Order.Generation, Revision: d.Revision,
				Took: time.Since(begun), Did: d.Did, Everywhere: d.Everywhere})
			return
		}
		k.notDone(ctx, o, err, crossing.TroubleFront{Said: k.said(err)})
		k.log.warn("going home", "err", err)
		select {
		case <-ctx.Done():
			return
		case <-k.kick:
		case <-time.After(front.HomePause(tries)):
		}
	}
}

// nameHome tells a front that knows nobody of a side who runs there, and reports whether somebody does.
func (k *performer) nameHome(ctx context.Context, side split.Side) bool {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), frontLimit)
	defer cancel()
	list, _ := k.Stacks.List(ctx, side) // what could be read is there beside an error
	named, err := front.Name(ctx, k.Front, side, list, k.Plan.Main().Name)
	k.log.info("the front knew nobody of the side to go to", "side", side, "run", named, "err", err)
	return named > 0 && err == nil
}

// standUp starts a side's instances. It never touches a side that gets requests, whoever
// sends them there.
func (k *performer) standUp(ctx context.Context, o engine.Order) {
	limited, cancel := context.WithTimeout(ctx, k.Plan.RaiseLimit(o.Side))
	defer cancel()
	r, err := k.Front.Read(limited)
	if err == nil {
		err = r.Whole()
	}
	if err == nil {
		if share := r.Sends(o.Side); o.Control && o.Act {
			err = k.unlisted(limited, o, r)
		} else if o.More {
			err = k.same(limited, o)
		} else if share > 0 {
			err = fmt.Errorf("%v gets %v of the requests: it is left alone", o.Side, share)
		}
	}
	if err == nil {
		err = k.unchanged(limited, o.Choices)
	}
	var like map[string]stack.Settings
	if err == nil {
		like, err = k.like(limited, o)
	}
	if err == nil && !o.More {
		s := k.during(o)
		if main := raise.Main(o.Choices); o.Act {
			s.Version, s.Build, s.Number = main.Version, main.Build, 0
		}
		err = k.before(limited, occasion{moment: plan.BeforeRaise, state: s, side: o.Side})
	}
	if err == nil {
		err = permit.Ask(limited)
	}
	if err == nil {
		err = k.Stacks.Raise(limited, o.Side, builds(o.Choices, like))
	}
	if err != nil {
		var trouble crossing.TroubleKind = crossing.TroubleRaise{Said: k.said(err)}
		if errors.Is(err, errHook) {
			trouble = crossing.TroubleHook{Said: k.said(err)}
		}
		k.notDone(ctx, o, err, trouble)
		return
	}
	k.tell(func(now time.Time) { k.engine.Started(now, o.ID) })
}

// builds are choices as the stacks want them.
func builds(choices []raise.Choice, like map[string]stack.Settings) map[string]stack.Build {
	m := map[string]stack.Build{}
	for _, c := range choices {
		m[c.Part] = stack.Build{Version: c.Version, ID: c.Build, Instances: c.Instances, Like: like[c.Part]}
	}
	return m
}

// same refuses to give a side that gets requests more instances where one of it would be stopped for that: what runs
// there and is not what was chosen.
func (k *performer) same(ctx context.Context, o engine.Order) error {
	list, err := k.Stacks.List(ctx, o.Side)
	if err != nil {
		return err
	}
	if odd, found := raise.Unchosen(o.Choices, list); found {
		return errors.New(words.Unchosen(odd, o.Side))
	}
	return nil
}

// unlisted refuses to stop a control group as long as the front has one of it, and where anything else would be
// stopped with it.
func (k *performer) unlisted(ctx context.Context, o engine.Order, r reading.Front) error {
	list, err := k.Stacks.List(ctx, o.Side)
	if err != nil {
		return err
	}
	s := k.during(o)
	for _, i := range list {
		if s.OfControl(i) && slices.ContainsFunc(r.Sides[o.Side].Instances,
			func(c reading.Count) bool { return c.Address == i.Address }) {
			return fmt.Errorf("the front still has %s of the control group", i.Name)
		}
	}
	if odd, found := raise.Unchosen(o.Choices, slices.DeleteFunc(list, s.OfControl)); found {
		return errors.New(words.Unchosen(odd, o.Side))
	}
	return nil
}

// likeOf is how many of a part's instances are looked at for what they run with.
const likeOf = 3

// like is what the live side runs with, by those parts that take after it.
func (k *performer) like(ctx context.Context, o engine.Order) (map[string]stack.Settings, error) {
	like := map[string]stack.Settings{}
	for _, part := range k.Plan.Parts {
		if !part.Stacks[o.Side].AsLive() {
			continue
		}
		from := o.Side.Other()
		if o.Control {
			from = o.Side // as those beside it
		}
		s, _, err := k.settings(ctx, part, from)
		if err != nil {
			return nil, fmt.Errorf("what the live side runs with: %w", err)
		}
		like[part.Name] = s
	}
	return like, nil
}

// likeBefore is what an instance has run with that took after another side, as those beside it show it.
func (k *performer) likeBefore(ctx context.Context, i reading.Instance) (like stack.Settings, err error) {
	for _, part := range k.Plan.Parts {
		if part.Name != i.Part || !part.Stacks[i.Side].AsLive() {
			continue
		}
		some := 0
		if like, some, err = k.settings(ctx, part, i.Side); err == nil && some == 0 {
			err = fmt.Errorf("%w: what it ran with was the live side's, and nobody beside it runs any more who shows "+
				"it: raise %v again", stack.ErrNoRestart, i.Side)
		}
	}
	return like, err
}

// settings are what a part's instances of a side run with that run, and of how many that is.
func (k *performer) settings(ctx context.Context, part plan.Part, side split.Side) (like stack.Settings, some int,
	err error) {
	list, err := k.Stacks.List(ctx, side)
	if err != nil {
		return like, 0, err
	}
	var of []reading.Instance
	var described []stack.Description
	for _, i := range list {
		if i.Part != part.Name || !i.Running || len(of) == likeOf {
			continue
		}
		d, err := k.Stacks.Describe(ctx, i)
		if err != nil {
			return like, 0, fmt.Errorf("%s: %w", i.Name, err)
		}
		of, described = append(of, i), append(described, d)
	}
	return stack.Alike(of, described), len(of), nil
}

// unchanged looks whether every version still stands for the build that was
// chosen.
func (k *performer) unchanged(ctx context.Context, choices []raise.Choice) error {
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
			return fmt.Errorf("part %s: version %s was build %s when it was chosen, and is %s now: begin again if "+
				"that is right",
				c.Part, c.Version, raise.Short(c.Build), raise.Short(v.ID))
		}
	}
	return nil
}

func raisedFrom(choices []raise.Choice) map[string]prove.Raised {
	m := map[string]prove.Raised{}
	for _, c := range choices {
		m[c.Part] = prove.Raised{Version: c.Version, Build: c.Build, Built: c.Built, Instances: c.Instances}
	}
	return m
}

// retire drains a side, takes its instances out of the front and stops them. It waits for
// open requests for the plan's grace time, and says how many it cuts after that. It cuts no messages: those that
// instances have taken and hang with are given back by the broker when they are stopped, and carried over. The front
// refuses it for a side that gets requests. Before each step it is asked whether the other side still serves: what
// has been stopped by then is stopped, and what has not goes on.
func (k *performer) retire(ctx context.Context, o engine.Order) {
	if !o.Final {
		if err := k.before(ctx, occasion{moment: plan.BeforeRetire, state: k.during(o), side: o.Side}); err != nil {
			k.notDone(ctx, o, err, crossing.TroubleHook{Said: k.said(err)})
			return
		}
	}
	left, err := k.drain(ctx, o.Side)
	if err == nil && left.Taken > 0 {
		k.log.warn("instances hang with messages, and are stopped", "side", o.Side, "messages", left.Taken)
	}
	if err != nil {
		k.notDone(ctx, o, err, crossing.TroubleRetire{Said: k.said(err)})
		return
	}
	if !k.stopping(ctx, o, left.Open) {
		return // somebody went back
	}
	// A stop that was begun is not cut short, whoever asked for it is gone: that would kill without grace.
	acts, cancel := context.WithTimeout(context.WithoutCancel(ctx), k.stopLimit(o.Side))
	defer cancel()
	if err = permit.Ask(acts); err == nil {
		err = k.Front.SetInstances(acts, o.Side, nil)
	}
	if err == nil {
		err = k.Stacks.Stop(acts, o.Side)
	}
	if err == nil && left.Waits > 0 {
		err = k.carriedOver(ctx, o.Side)
	}
	if err != nil {
		k.notDone(ctx, o, err, crossing.TroubleRetire{Said: k.said(err)})
		return
	}
	k.report(crossing.Retired{Task: o.ID, Side: o.Side, Stands: k.Plan.Stands(o.Side), Stays: k.stay(o.Side)})
}

// stay is how many instances of a side go on running when it is retired: those that are not ours to stop.
func (k *performer) stay(side split.Side) int {
	n := 0
	for _, c := range k.latest.Load().Sides[side].Instances {
		for _, part := range k.Plan.Parts {
			if c.Running && c.Part == part.Name && part.Stacks[side].Kind() == plan.Standing {
				n++
			}
		}
	}
	return n
}

// stopLimit is how long a side may take to stop.
func (k *performer) stopLimit(side split.Side) time.Duration {
	longest := time.Duration(0)
	for _, part := range k.Plan.Parts {
		longest = max(longest, part.Stacks[side].Grace)
	}
	return longest + setLimit
}

// stopping says that there is no way back from now on, and false if the task is not to be
// done any more. It is on record before anything is stopped.
func (k *performer) stopping(ctx context.Context, o engine.Order, cut int64) bool {
	seq := make(chan uint64, 1)
	k.post(ctx, func(now time.Time) {
		if k.happened(k.engine.Pass(now)); k.mayGoOn(o) != nil {
			seq <- 0
			return
		}
		if !o.Final { // else it was said, by a try of before that may not have come to the disk
			k.happened(k.engine.Report(now, crossing.Stopping{Task: o.ID, Cut: cut, Stands: k.Plan.Stands(o.Side)}))
		}
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
			k.notDone(ctx, o, err, crossing.TroubleLogbook{Said: k.said(err)})
			return false
		}
		return true
	case <-ctx.Done():
		return false
	case <-k.done:
		return false
	}
}

// carriedOver waits until the messages that instances had taken which are stopped now have been carried over.
func (k *performer) carriedOver(ctx context.Context, side split.Side) error {
	left, err := k.drain(ctx, side)
	if err == nil && left.Waits > 0 {
		err = errors.New(words.Untaken(side, left.Waits, backlog.StuckFor))
	}
	return err
}

// drain waits until a side has nothing left to do, as long as [backlog.Drain] says. What is left then is said: open
// requests, or messages that the side's instances have taken and hang with; messages that nobody takes are an error.
func (k *performer) drain(ctx context.Context, side split.Side) (front.Left, error) {
	d := backlog.NewDrain(k.Plan.Main().Stacks[side].Grace, time.Now())
	for {
		if err := permit.Ask(ctx); err != nil {
			return front.Left{}, err
		}
		limited, cancel := context.WithTimeout(ctx, setLimit)
		left, err := front.Drain(limited, k.Front, side)
		cancel()
		still := time.Until(left.Until) // that somebody may come
		if err != nil && still <= 0 {
			return front.Left{}, err
		}
		is, again := d.Look(time.Now(), left.Open, left.Waits)
		if still > 0 {
			d = backlog.NewDrain(k.Plan.Main().Stacks[side].Grace, left.Until)
			is, again = backlog.Waits, min(still, time.Second)
		}
		switch {
		case is == backlog.Empty, is == backlog.Cut, is == backlog.Stuck && left.Taken > 0:
			return left, nil
		case is == backlog.Stuck:
			return left, errors.New(words.Untaken(side, left.Waits, d.Patience()))
		}
		select {
		case <-ctx.Done():
			return front.Left{}, context.Cause(ctx)
		case <-time.After(again):
		}
	}
}

// restart starts instances again that have ended while they are wanted.
func (k *performer) restart(ctx context.Context, now time.Time) {
	for _, i := range k.engine.Restarts(now) {
		even := k.engine.NobodyElse(i)
		k.engine.Restarting(now, i)
		k.log.info("start again", "instance", i.Name, "exit", i.Exit)
		k.effects.Go(func() {
			limited, cancel := context.WithTimeout(ctx, restartLimit)
			defer cancel()
			like, err := k.likeBefore(limited, i)
			var is stack.Restarted
			if err == nil {
				is, err = k.Stacks.Restart(limited, i, stack.Again{Like: like, Even: even})
			}
			failed := ""
			if err != nil {
				failed = k.said(err)
			}
			k.tell(func(now time.Time) {
				k.happened(k.engine.Restarted(now, i, engine.Again{Changed: is.Environment,
					Build: k.Secrets.Hide(is.Build), Copy: is.Copy, Failed: failed}))
				k.publish(now)
			})
		})
	}
}

// rotate keeps the output of instances from growing.
func (w *watcher) rotate(ctx context.Context) {
	every(ctx, rotateEvery, func() {
		for _, side := range split.Sides {
			limited, cancel := context.WithTimeout(ctx, listLimit)
			if err := w.Stacks.Rotate(limited, side); err != nil && ctx.Err() == nil {
				w.log.warn("rotate output", "side", side, "err", err)
			}
			cancel()
		}
	})
}

// introduce gives the front the instances that it has differently, one side at a time.
func (k *performer) introduce(ctx context.Context) {
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
		k.tell(func(now time.Time) { k.telling, k.toldAt = false, now })
	})
}
