package keeper

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/world/versions"
)

// Do carries out a command. See [Client].
func (k *Keeper) Do(ctx context.Context, c Command) (uint64, error) {
	if c.Act == nil {
		return 0, errors.New("nothing is asked for")
	}
	c.Why = k.Secrets.Hide(c.Why) // people say what they should not
	c, err := k.byToken(c, time.Now())
	if err != nil {
		k.log.info("refused", "do", c.Act.About().Name, "err", err)
		return 0, err
	}
	// Nothing is looked up for who may not; it is asked again when it is decided.
	who := crossing.Moment{Peer: c.Peer, Groups: c.Groups, Planned: c.Planned}
	if err := crossing.Allowed(k.Plan, k.Crossing(), who, c.Act); err != nil {
		return 0, inWords(err)
	}
	p, proves := c.Act.(crossing.Prove)
	if proves && !c.Try && (!p.Whole() || !k.latest.Load().Crossing.Stage.UnderWay()) {
		return 0, k.look(ctx, p.Check)
	}
	act, err := k.learnt(ctx, c)
	if err == nil && !c.Act.About().Dry {
		if errBook := k.book.ready(ctx); errBook != nil {
			err = crossing.Refuse(crossing.NotRecorded{Said: errBook.Error()})
		}
	}
	if err != nil {
		return 0, inWords(err)
	}
	_, back := act.(crossing.Back)
	type answer struct {
		seq uint64
		err error
	}
	reply := make(chan answer, 1)
	k.post(ctx, func(now time.Time) {
		seen := c.Seen
		if seen == 0 {
			seen = k.engine.State().Seq
		}
		k.engine.Present(now, k.guests.here)
		m := who
		m.At, m.By, m.Client, m.From, m.Take, m.Seen, m.As = now, c.By, c.Client, c.From, c.TakeWheel, seen, c.As
		m.Token = c.Token != ""
		if !back { // whose words are its cause
			m.Said = c.Why
		}
		if c.Try {
			reply <- answer{k.engine.State().Seq, k.engine.Would(m, act)}
			return
		}
		events, err := k.engine.Command(m, act)
		if err != nil {
			k.log.info("refused", "do", c.Act.About().Name, "by", c.By, "from", c.From, "err", inWords(err))
		} else {
			k.log.debug("command", "do", c.Act.About().Name, "by", c.By, "from", c.From)
		}
		k.happened(events)
		if back {
			k.kicked()
		}
		k.publish(now)
		reply <- answer{k.engine.State().Seq, err}
	})
	select {
	case a := <-reply:
		return a.seq, inWords(a.err)
	case <-k.done:
		select {
		case a := <-reply:
			return a.seq, inWords(a.err)
		default:
			return 0, errStopped
		}
	case <-ctx.Done():
		return 0, ctx.Err()
	}
}

// inWords gives a refusal its words.
func inWords(err error) error {
	var r *crossing.Refusal
	if errors.As(err, &r) {
		return refused{r}
	}
	return err
}

// learnt is a command's act with what has to be known for it. What a beginning or a raise needs is read first.
func (k *Keeper) learnt(ctx context.Context, c Command) (crossing.Act, error) {
	switch a := c.Act.(type) {
	case crossing.Begin:
		return k.beginning(ctx, a)
	case crossing.Arrive:
		if !k.Plan.Start.On() {
			return nil, crossing.Refuse(crossing.NoStart{})
		}
	case crossing.Raise:
		return k.spare(ctx, a)
	case crossing.LeaveWheel:
		a.Client = c.Client
		return a, nil
	case crossing.Back:
		a.Why = c.Why
		return a, nil
	}
	return c.Act, nil
}

// wanted are the versions that somebody wants.
type wanted struct {
	version  string
	versions map[string]string // of other parts than the first, where they are not the same
	atOnce   bool              // the live side may be out of reach
}

// chosen is what a crossing or a raise begins from.
type chosen struct {
	target  split.Side
	choices []raise.Choice
	live    []reading.Instance // of the other side
	version string             // of the live side
	nobody  bool               // is on the live side
}

// choose reads where requests go now, what runs there, and which versions there are. The
// keeper takes the reading of the front in as any other.
func (k *Keeper) choose(ctx context.Context, c wanted) (chosen, error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	asked := k.asksFront()
	r, err := k.Front.Read(ctx)
	if err == nil {
		err = r.Whole()
	}
	if err != nil {
		return chosen{}, err
	}
	k.post(ctx, func(now time.Time) { k.happened(k.engine.FrontRead(now, asked, r)) })
	live, err := Live(r.Split.Share)
	if err != nil {
		return chosen{}, err
	}
	b := chosen{target: live.Other()}
	if b.live, err = k.Stacks.List(ctx, live); err != nil && !c.atOnce { // else it may be out of reach altogether
		return b, fmt.Errorf("what runs on %v: %w", live, err)
	}
	before := k.latest.Load().Crossing
	b.live = slices.DeleteFunc(b.live, before.OfControl) // it is stopped soon
	byPart, err := k.named(ctx, c)
	if err != nil {
		return b, err
	}
	version, err := k.standing(ctx, b.target, c, byPart)
	if err != nil {
		return b, err
	}
	if b.choices, err = crossing.Choose(k.Plan, byPart, version, c.versions, b.live, b.target); err != nil {
		return b, err
	}
	b.nobody = len(r.Sides[live].Instances) == 0
	for _, i := range b.live {
		if i.Running && i.Part == k.Plan.Main().Name {
			b.version, b.nobody = i.Version, false
		}
	}
	return b, nil
}

// standing adds what stands on the target to the versions that there are, for parts that have no source of versions:
// what somebody else put there is what there is. The version that a command names stays; where it names none it is
// the one that stands there, if it is one.
func (k *Keeper) standing(ctx context.Context, target split.Side, c wanted,
	byPart map[string][]raise.Version) (version string, err error) {
	version = c.version
	for n, part := range k.Plan.Parts {
		if _, own := k.Sources[part.Name]; own || part.Stacks[target].Kind() != plan.Standing {
			continue
		}
		list, err := k.Stacks.List(ctx, target)
		if err != nil {
			return version, fmt.Errorf("what runs on %v: %w", target, err)
		}
		offer := Stand(part.Name, list)
		if n == 0 && version == "" && len(offer) == 1 {
			version = offer[0].Name
		}
		if _, known := raise.Pick(offer, version); !known && len(part.Stacks[target].Renew) > 0 && version != "" {
			offer = append(offer, raise.Version{Name: version}) // the command that renews it knows
		}
		byPart[part.Name] = offer
	}
	return version, nil
}

// Stand are the versions of a part's instances, as somebody else put them there.
func Stand(part string, list []reading.Instance) []raise.Version {
	offer := []raise.Version{}
	for _, i := range list {
		v := raise.Version{Name: i.Version, ID: i.Build, Note: "stands there"}
		if v.Name == "" {
			v.Name = Unknown
		}
		if at := slices.IndexFunc(offer, func(o raise.Version) bool { return o.Name == v.Name }); i.Part != part ||
			at >= 0 {
			if at >= 0 && offer[at].ID != v.ID {
				offer[at].ID = "" // of more than one build
			}
			continue
		}
		offer = append(offer, v)
	}
	return offer
}

// Unknown is what a version is called of which nothing is known.
const Unknown = "unknown"

// named are the versions that a command names, by part: only what is needed is looked up. A
// part that has no such version has all of its own, to say which there are.
func (k *Keeper) named(ctx context.Context, c wanted) (map[string][]raise.Version, error) {
	byPart := map[string][]raise.Version{}
	name := c.version
	for n, part := range k.Plan.Parts {
		source, own := k.Sources[part.Name]
		if !own || name == "" {
			continue
		}
		wanted := name
		if other := c.versions[part.Name]; n > 0 && other != "" {
			wanted = other
		}
		v, err := source.Find(ctx, wanted)
		switch {
		case err == nil:
			byPart[part.Name] = []raise.Version{v}
		case errors.Is(err, versions.ErrNone):
			byPart[part.Name], err = source.List(ctx)
		}
		if err != nil {
			return nil, fmt.Errorf("part %s: %w", part.Name, err)
		}
		if n == 0 && v.Name != "" {
			name = v.Name
		}
	}
	return byPart, nil
}

func (k *Keeper) beginning(ctx context.Context, a crossing.Begin) (crossing.Act, error) {
	if c := k.latest.Load().Crossing; c.Stage.UnderWay() {
		return nil, refused{crossing.Refuse(c.InTheWay())}
	}
	b, err := k.choose(ctx, wanted{a.Version, a.Versions, a.AtOnce})
	if err != nil {
		return nil, err
	}
	if len(a.Route) == 0 {
		a.Route = k.Plan.Route
	}
	if at := slices.IndexFunc(a.Route, func(l route.Leg) bool { return l.Control }); at >= 0 && !b.nobody && !a.AtOnce {
		err := k.Plan.Controls()
		if err == nil {
			a.Control, err = crossing.ControlOf(k.Plan, b.live, b.choices)
		}
		if err != nil {
			return nil, crossing.Refuse(crossing.NoRoute{Leg: at, Said: err.Error()})
		}
	}
	a.Service, a.Folder, a.Number, a.Keep, a.Then = k.Plan.Service, k.Folder, k.latest.Load().Crossing.Number+1,
		k.Plan.Keep, k.Plan.Then
	a.Target, a.LiveVersion, a.Choices, a.Nobody, a.NothingNew = b.target, b.version, b.choices, b.nobody,
		raise.NothingNew(b.choices, b.live)
	return a, nil
}

func (k *Keeper) spare(ctx context.Context, a crossing.Raise) (crossing.Act, error) {
	b, err := k.choose(ctx, wanted{version: a.Version, versions: a.Versions})
	if err != nil {
		return nil, err
	}
	a.Side, a.Choices, a.NothingNew = b.target, b.choices, raise.NothingNew(b.choices, b.live)
	return a, nil
}

// Live is the side that all requests go to, and an error if they are split.
func Live(share split.Share) (split.Side, error) {
	side, all := share.Alone()
	if !all {
		return 0, refused{crossing.Refuse(crossing.IsSplit{Share: share})}
	}
	return side, nil
}

// Offers are the versions that there are to choose from, for each part of a plan that has
// versions of its own, or of which instances stand: stand says what those are.
func Offers(ctx context.Context, p *plan.Plan, sources map[string]versions.Source,
	stand func(part string) ([]raise.Version, error)) ([]Offer, error) {
	var offers []Offer
	for _, part := range p.Parts {
		source, own := sources[part.Name]
		if !own && (part.Stacks[0].Kind() == plan.Standing || part.Stacks[1].Kind() == plan.Standing) {
			list, err := stand(part.Name)
			if err != nil {
				return nil, fmt.Errorf("part %s: %w", part.Name, err)
			}
			offers = append(offers, Offer{Part: part.Name, Versions: list})
		}
		if !own {
			continue
		}
		list, err := source.List(ctx)
		if err != nil {
			return nil, fmt.Errorf("part %s: %w", part.Name, err)
		}
		if list == nil {
			list = []raise.Version{}
		}
		offers = append(offers, Offer{Part: part.Name, Versions: list})
	}
	return offers, nil
}

// Versions is what there is to choose from, for each part that has versions of its
// own.
func (k *Keeper) Versions(ctx context.Context) ([]Offer, error) {
	offers, err := Offers(ctx, k.Plan, k.Sources, func(part string) ([]raise.Version, error) {
		list, err := k.Stacks.List(ctx, k.latest.Load().Live.Other())
		return Stand(part, list), err
	})
	if err != nil {
		return nil, err
	}
	past, err := k.Book.Past(ctx)
	if err != nil {
		k.log.warn("earlier crossings are not known", "err", err) // the choice does not depend on them
	}
	for n := range offers {
		if offers[n].Part == k.Plan.Main().Name {
			offers[n].Past = past
		}
	}
	return offers, nil
}

// Foresee is what the front would do to put a share on green in force.
func (k *Keeper) Foresee(ctx context.Context, share split.Share) (front.Change, error) {
	ctx, cancel := context.WithTimeout(ctx, frontLimit)
	defer cancel()
	return k.Front.Foresee(ctx, share)
}
