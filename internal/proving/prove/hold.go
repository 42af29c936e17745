package prove

import (
	"context"
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/proof"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/wayback"
	"vaiven/internal/proving/differ"
)

// held is how many instances of a part are asked in one look.
const held = 8

// Hold holds the side that the question is about to what it was, makes its smoke checks and asks
// for what it needs again, at a few instances of each part in turn, and makes the plan's checks of
// the way back. round is the number of the look.
func Hold(ctx context.Context, q Question, was wayback.Record, key []byte, round int) wayback.Looks {
	p := newProving(q)
	var looks wayback.Looks
	var wait sync.WaitGroup
	wait.Go(func() {
		now, missing := differ.Record(ctx,
			differ.Question{Plan: q.Plan, Secrets: q.Secrets, Standing: q.Standing, Sides: q.Sides}, q.Target, key)
		looks.Same = wayback.Compare(was, now, len(missing) == 0)
		if len(missing) > 0 {
			looks.Same.Error = missing[0]
		}
	})
	wait.Go(func() {
		few := newProving(q)
		few.Sides[q.Target] = inTurn(p.Sides[q.Target], round)
		few.Sides[q.Target.Other()] = nil // nothing is compared here
		few.smokes(ctx, nil)
		few.needs(ctx, nil)
		looks.Smoke = lookOf(few.sofar().Results)
	})
	if len(q.Plan.WayBack.Checks) > 0 {
		wait.Go(func() { looks.Data = p.data(ctx) })
	}
	wait.Wait()
	return looks
}

// inTurn are a few instances of each part, others in every round.
func inTurn(all []reading.Instance, round int) []reading.Instance {
	byPart := map[string][]reading.Instance{}
	var parts []string
	for _, i := range all {
		if byPart[i.Part] == nil {
			parts = append(parts, i.Part)
		}
		byPart[i.Part] = append(byPart[i.Part], i)
	}
	var list []reading.Instance
	for _, part := range parts {
		of := byPart[part]
		for n := range min(held, len(of)) {
			list = append(list, of[(round*held+n)%len(of)])
		}
	}
	return list
}

// data makes the plan's checks of the way back, from where the first instance of the front's part
// stands.
func (p *proving) data(ctx context.Context) wayback.Look {
	instances := p.of(*p.Plan.Main(), p.Target)
	if len(instances) == 0 {
		return wayback.Look{Error: p.Target.String() + " has no instance to ask from"}
	}
	part := *p.Plan.Main()
	part.Needs = p.Plan.WayBack.Checks
	return lookOf(p.needsOf(ctx, part, instances[0]))
}

// lookOf is what results come to.
func lookOf(results []proof.Result) wayback.Look {
	l := wayback.Look{At: time.Now(), Of: len(results)}
	for _, r := range results {
		if !r.Pass {
			l.Failed = append(l.Failed,
				wayback.Failing{What: r.Check, Where: r.Instance,
					Said: strings.TrimSpace("want " + r.Want + ", got " + r.Got)})
		}
	}
	return l
}
