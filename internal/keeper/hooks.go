package keeper

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/words"
	"vaiven/internal/world/permit"
	"vaiven/internal/world/place"
)

// occasion is what a hook is told of what it stands before, or what has happened.
type occasion struct {
	moment plan.HookMoment
	state  crossing.State
	side   split.Side  // raised, shifted to, or retired
	share  split.Share // of the requests, on that side
	why    string      // "" for why the crossing goes back, or ended
}

// environment is what a hook gets, beside the plan's own.
func (o occasion) environment() map[string]string {
	s := o.state
	if o.why == "" {
		o.why = words.Cause(s.Why, s)
	}
	percent := strings.TrimSuffix(o.share.String(), " %")
	return map[string]string{
		"VAIVEN_MOMENT": string(o.moment), "VAIVEN_SIDE": o.side.String(), "VAIVEN_SHARE": percent,
		"VAIVEN_CROSSING": strconv.Itoa(s.Number),
		"VAIVEN_VERSION":  s.Version, "VAIVEN_BUILD": s.Build, "VAIVEN_LIVE_VERSION": s.LiveVersion,
		"VAIVEN_REASON": o.why, "VAIVEN_BY": s.Task.By,
	}
}

// after is a hook that runs after something that happened.
type after struct {
	hook     plan.Hook
	occasion occasion
}

// before runs the hooks of a moment that something waits for, one after the other. What the first that fails says is
// the error.
func (k *performer) before(ctx context.Context, o occasion) error {
	through := passage{task: o.state.Task.ID, moment: o.moment}
	asked := make(chan bool, 1)
	k.tell(func(time.Time) { asked <- k.hooked == through })
	select {
	case again := <-asked:
		if again {
			return nil
		}
	case <-k.done:
		return errStopped
	}
	for _, h := range k.Plan.Hooks {
		if h.Moment != o.moment {
			continue
		}
		if err := permit.Ask(ctx); err != nil {
			return err
		}
		k.waitFor(ctx, engine.Hook{Moment: h.Moment, Command: h.Words[0], Since: time.Now(), Within: h.Within})
		err := k.hook(ctx, h, o)
		k.waitFor(context.WithoutCancel(ctx), engine.Hook{})
		if err != nil {
			return err
		}
	}
	k.tell(func(time.Time) { k.hooked = through })
	return nil
}

// waitFor has everybody see which hook is waited for.
func (l *loop) waitFor(ctx context.Context, h engine.Hook) {
	l.post(ctx, func(now time.Time) {
		l.engine.Hooking(h)
		l.publish(now)
	})
}

// errHook is wrapped when a hook did not let something be done.
var errHook = errors.New("")

// hook runs one, and has it recorded. It ends with the context, whatever it does.
func (l *loop) hook(ctx context.Context, h plan.Hook, o occasion) error {
	limited, cancel := context.WithTimeout(ctx, h.Within)
	defer cancel()
	begun := time.Now()
	err := l.runHook(limited, h, o)
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if errors.Is(err, context.DeadlineExceeded) {
		err = fmt.Errorf("it took longer than %v", h.Within)
	}
	f := crossing.Hooked{Moment: h.Moment, Command: h.Words[0], Took: time.Since(begun)}
	if err != nil {
		f.Failed = l.said(err)
	}
	l.report(f)
	if err != nil {
		return fmt.Errorf("%w%s, %s: %w", errHook, h.Moment, h.Words[0], err)
	}
	return nil
}

func (l *loop) runHook(ctx context.Context, h plan.Hook, o occasion) error {
	c := place.Command{Words: h.Words, Environment: o.environment()}
	c.Environment["VAIVEN_SERVICE"] = l.Plan.Service
	for name, value := range h.Environment {
		c.Environment[name] = l.Secrets.Fill(value, nil, nil)
	}
	if !h.There {
		return l.ran(place.Local{}.Run(ctx, c))
	}
	list, err := l.Stacks.List(ctx, o.side)
	if err != nil {
		return err
	}
	for _, i := range list {
		if i.Part != l.Plan.Main().Name || !i.Running {
			continue
		}
		from, err := l.Stacks.Place(ctx, i)
		if err == nil {
			err = errors.Join(l.ran(from.Run(ctx, c)), from.Close())
		}
		if err != nil {
			return fmt.Errorf("%s: %w", i.Name, err)
		}
	}
	return nil
}

// ran is what a command's end means: any status but 0 is an error with its last words.
func (l *loop) ran(out place.Outcome, err error) error {
	if err != nil {
		return err
	}
	return out.Failed(400, l.Secrets.HideCut)
}

// follow has the hooks of what happened run beside, in its order. Nothing waits for them.
func (l *loop) follow(e crossing.Event) {
	s := l.engine.State()
	o := occasion{state: s, side: s.Target, share: s.Part()}
	var moments []plan.HookMoment
	switch f := e.What.(type) {
	case crossing.Proved:
		if len(f.Proof.Results) > 0 && len(f.Proof.Open(s.Accepted)) == 0 {
			moments = append(moments, plan.WhenProven)
		}
	case crossing.Accepted:
		moments = append(moments, plan.WhenProven)
	case crossing.TookEffect:
		if o.share = f.Share.Of(s.Target); e.Crossing > 0 {
			moments = append(moments, plan.AfterLeg)
		}
	case crossing.Ended:
		moments = append(moments,
			map[crossing.Stage]plan.HookMoment{crossing.RolledBack: plan.WhenRolled, crossing.CalledOff: plan.WhenOff,
				crossing.Settled: plan.WhenSettled}[f.Stage])
	case crossing.Asked:
		moments, o.why = append(moments, plan.WhenAsks), words.Whole(f.Question, s)
	case crossing.Frozen:
		if moments, o.why = append(moments, plan.WhenFrozen),
			words.Cause(f.Cause, s); oneof.IsA[crossing.HomeIll](f.Cause) {
			moments = append(moments, plan.WhenLiveIll)
		}
	case crossing.Ailed:
		moments, o.why = append(moments, plan.WhenLiveIll), words.Cause(f.Cause, s)
	}
	for _, m := range moments {
		o := o
		if o.moment = m; m == plan.WhenLiveIll {
			o.side = l.latest.Load().Live
			o.share = s.Share.Of(o.side)
		}
		for _, h := range l.Plan.Hooks {
			if h.Moment == m {
				l.afters = append(l.afters, after{h, o})
			}
		}
	}
}

// runAfters runs what is to run after, one after the other, unless some are running. It is called from the loop.
func (k *performer) runAfters(ctx context.Context) {
	if k.aftering || len(k.afters) == 0 {
		return
	}
	todo := k.afters
	k.afters, k.aftering = nil, true
	k.effects.Go(func() {
		for _, a := range todo {
			_ = k.hook(ctx, a.hook, a.occasion) // what came of it is recorded
		}
		k.tell(func(time.Time) {
			k.aftering = false
			k.runAfters(ctx)
		})
	})
}
