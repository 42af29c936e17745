package held

import (
	"context"
	"errors"
	"fmt"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

// Most is the largest share on green that is tried.
const Most = split.Percent

// Result is what came of one rule.
type Result struct {
	Rule    string // what was tried
	Promise string // to whoever uses a front
	Err     error  // nil if it holds
	Untried bool   // nothing is known: it needs a part of the requests, and they move all at once
	Took    time.Duration
}

// Asks sends some requests at the front, and says how many were lost.
type Asks func(context.Context) (lost int64, last string)

// ErrNotNow is wrapped where a front is not as it has to be for nobody to be harmed.
var ErrNotNow = errors.New("it is not tried now")

// try is a front on its way through the rules.
type try struct {
	driver front.Driver
	open   func() front.Driver // a new one, as another process would have
	asks   Asks
	whole  bool
}

// rules in their order. Each leaves everything on blue, or says why not.
var rules = []struct {
	name, promise string
	run           func(context.Context, *try) error
	parts         bool // it moves a part of the requests
}{
	{"reads the same twice", "a revision is another one when something has changed, and only then", readsTwice, false},
	{"foresees and does nothing", "what is said beforehand is what is done", foresees, false},
	{"does the share that it says", "what is shown is what is in force, in every process", does, true},
	{"refuses an old revision", "nobody's change is overwritten unseen", refusesOld, true},
	{"keeps the share when its instances are told again", "instances change and the share stays", tellsAgain, false},
	{"rehearses going home", "a rehearsal changes nothing", rehearses, false},
	{"goes home from another process", "going home needs the front's address and the side, nothing else", goesHome,
		false},
	{"stays at home", "what went home stays there until somebody who knows of it lets requests out", staysHome,
		false},
}

// Try tries all rules, and goes on with the next when one does not hold. In the end everything is on blue again; the
// error is why nothing was tried, or what is not as it was. Of a front whose requests move all at once, whole, nothing
// is moved.
func Try(ctx context.Context, open func() front.Driver, asks Asks, whole bool) ([]Result, error) {
	t := &try{driver: open(), open: open, asks: asks, whole: whole}
	r, err := t.driver.Read(ctx)
	switch {
	case err != nil:
		return nil, err
	case r.Split.Share != 0:
		return nil, fmt.Errorf("%w: %v are on green, and all have to be on blue", ErrNotNow, r.Split.Share)
	case len(r.Sides[split.Blue].Instances) == 0 || len(r.Sides[split.Green].Instances) == 0:
		return nil, fmt.Errorf("%w: blue has %d instances at the front and green %d, and both need one: raise green "+
			"first (vaiven raise PLAN --version V)", ErrNotNow, len(r.Sides[split.Blue].Instances),
			len(r.Sides[split.Green].Instances))
	}
	var results []Result
	for _, rule := range rules {
		if whole && rule.parts {
			results = append(results, Result{Rule: rule.name, Promise: rule.promise, Untried: true})
			continue
		}
		begun := time.Now()
		err := rule.run(ctx, t)
		if lost, last := t.asks(ctx); err == nil && lost > 0 {
			err = fmt.Errorf("%d requests got no good answer meanwhile, the last: %s", lost, last)
		}
		if errBack := t.home(ctx); errBack != nil {
			results = append(results, Result{Rule: rule.name, Promise: rule.promise, Err: errors.Join(err, errBack),
				Took: time.Since(begun)})
			return results, fmt.Errorf("not everything is on blue again: %w", errBack)
		}
		results = append(results, Result{Rule: rule.name, Promise: rule.promise, Err: err, Took: time.Since(begun)})
	}
	return results, ctx.Err()
}

// home takes everything to blue again, if anything is not.
func (t *try) home(ctx context.Context) error {
	r, err := t.driver.Read(ctx)
	if err == nil && r.Split.Share == 0 {
		return nil
	}
	_, err = t.driver.Home(ctx, homing("the end of a try"))
	return err
}

func homing(why string) front.Homing {
	return front.Homing{Side: split.Blue, By: "vaiven front --try", Why: why}
}

// set puts a share in force under what the driver reads now.
func (t *try) set(ctx context.Context, share split.Share) (front.Done, error) {
	r, err := t.driver.Read(ctx)
	if err != nil {
		return front.Done{}, err
	}
	return t.driver.Set(ctx, share, front.AsRead(r))
}

func readsTwice(ctx context.Context, t *try) error {
	a, err := t.driver.Read(ctx)
	if err != nil {
		return err
	}
	b, err := t.driver.Read(ctx)
	if err == nil && (a.Split.Revision != b.Split.Revision || a.Split.Share != b.Split.Share) {
		err = fmt.Errorf("it reads %+v, and then %+v", a.Split, b.Split)
	}
	return err
}

func foresees(ctx context.Context, t *try) error {
	share, most := Most, 2*Most
	if t.whole {
		share, most = split.Whole, split.Whole
	}
	c, err := t.driver.Foresee(ctx, share)
	if err != nil {
		return err
	}
	if c.From != 0 || c.Reached > most || c.Reached <= 0 {
		return fmt.Errorf("it would go from %v to %v, and %v is asked", c.From, c.Reached, share)
	}
	r, err := t.driver.Read(ctx)
	if err == nil && r.Split.Share != 0 {
		err = fmt.Errorf("foreseeing has put %v in force", r.Split.Share)
	}
	return err
}

func does(ctx context.Context, t *try) error {
	c, err := t.driver.Foresee(ctx, Most)
	if err != nil {
		return err
	}
	d, err := t.set(ctx, Most)
	if err != nil {
		return err
	}
	r, err := t.open().Read(ctx)
	switch {
	case err != nil:
		return err
	case d.Share != c.Reached || r.Split.Share != c.Reached:
		return fmt.Errorf("it foresaw %v, says that it did %v, and another process reads %v", c.Reached, d.Share,
			r.Split.Share)
	}
	if lost, last := t.asks(ctx); lost > 0 {
		return fmt.Errorf("%d requests got no good answer at %v, the last: %s", lost, d.Share, last)
	}
	d, err = t.set(ctx, 0)
	if err == nil && d.Share != 0 {
		err = fmt.Errorf("back at 0 %% it says %v", d.Share)
	}
	return err
}

func refusesOld(ctx context.Context, t *try) error {
	old, err := t.driver.Read(ctx)
	if err != nil {
		return err
	}
	if _, err = t.set(ctx, Most); err != nil {
		return err
	}
	if _, err := t.driver.Set(ctx, 0, front.AsRead(old)); !errors.Is(err, front.ErrChanged) {
		return fmt.Errorf("a change that goes by an older revision is not refused as such: %w", orNone(err))
	}
	now, err := t.driver.Read(ctx)
	if err == nil && now.Split.Share == 0 {
		err = errors.New("it was refused, and done all the same")
	}
	return err
}

func tellsAgain(ctx context.Context, t *try) error {
	before, err := t.driver.Read(ctx)
	if err != nil {
		return err
	}
	for _, side := range split.Sides {
		var list []reading.Server
		for _, c := range before.Sides[side].Instances {
			list = append(list, c.Server)
		}
		if err := t.driver.SetInstances(ctx, side, list); err != nil {
			return err
		}
	}
	after, err := t.driver.Read(ctx)
	if err == nil && (after.Split.Share != 0 ||
		len(after.Sides[split.Green].Instances) != len(before.Sides[split.Green].Instances)) {
		err = fmt.Errorf("then %v are on green, which has %d instances", after.Split.Share,
			len(after.Sides[split.Green].Instances))
	}
	return err
}

func rehearses(ctx context.Context, t *try) error {
	before, err := t.driver.Read(ctx)
	if err == nil {
		_, err = t.driver.Rehearse(ctx, split.Blue)
	}
	if err != nil {
		return err
	}
	after, err := t.driver.Read(ctx)
	if err == nil && (after.Split.Share != before.Split.Share || after.Order.Generation != before.Order.Generation) {
		err = fmt.Errorf("a rehearsal has changed it: %+v, %+v", after.Split, after.Order)
	}
	return err
}

func goesHome(ctx context.Context, t *try) error {
	if !t.whole {
		if _, err := t.set(ctx, Most); err != nil {
			return err
		}
	}
	d, err := t.open().Home(ctx, homing("a try"))
	if err != nil {
		return err
	}
	r, err := t.driver.Read(ctx)
	if err == nil && (d.Share != 0 || r.Split.Share != 0) {
		err = fmt.Errorf("it says %v, and reads %v", d.Share, r.Split.Share)
	}
	return err
}

func staysHome(ctx context.Context, t *try) error {
	before, err := t.driver.Read(ctx)
	if err != nil {
		return err
	}
	if _, err := t.open().Home(ctx, homing("a try")); err != nil {
		return err
	}
	now, err := t.driver.Read(ctx)
	if err != nil {
		return err
	}
	if now.Order.Generation <= before.Order.Generation || now.Order.Side != split.Blue {
		return fmt.Errorf("going home raised no order: %+v after %+v", now.Order, before.Order)
	}
	if _, err := t.driver.Set(ctx, Most,
		front.Expect{Revision: now.Split.Revision, Generation: before.Order.Generation,
			Term: now.Order.Term}); !errors.Is(err, front.ErrNewer) {
		return fmt.Errorf("a change from before a going home is not refused as such: %w", orNone(err))
	}
	now, err = t.driver.Read(ctx)
	if err == nil && now.Split.Share != 0 {
		err = fmt.Errorf("it was refused, and %v are on green", now.Split.Share)
	}
	return err
}

// orNone is an error that can be wrapped where there is none.
func orNone(err error) error {
	if err == nil {
		return errors.New("it was done")
	}
	return err
}
