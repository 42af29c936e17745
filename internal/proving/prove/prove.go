package prove

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/difference"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/proving/differ"
	"vaiven/internal/proving/pairs"
	"vaiven/internal/stack"
	"vaiven/internal/world/check"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
)

// Question is what is to be proven, and with what.
type Question struct {
	Plan     *plan.Plan
	Secrets  secret.Values
	Standing Stacks
	Target   split.Side
	Sides    [2][]reading.Instance // as listed now
	Control  []reading.Instance    // the live side's control group, which is only warmed up, and is not among these
	Raised   map[string]Raised     // by part; a part that is missing is not held to any build
	Told     func(proof.Proof)     // is given what there is so far, now and then, but not the end; nil tells nobody
	// Reach has the front connect to an address; nil where no front is asked.
	Reach func(ctx context.Context, address string) error
	// Doors are the spare side's own doors of the plan's fronts, by front; nil where no front is asked.
	Doors func(context.Context) ([]front.Spare, error)
}

// Stacks are the instances, where they stand.
type Stacks interface {
	differ.Standing
	// List is every instance of a side as it is now. What could be read is there even beside an error.
	List(context.Context, split.Side) ([]reading.Instance, error)
}

// Raised is what a part was raised from.
type Raised struct {
	Version string
	Build   string
	Built   time.Time // when the build was made, if that is known

	Instances int // how many; 0 for what the plan says
}

// About is what was found beside the results.
type About struct {
	Differences difference.Report `json:"differences"`
	Pairs       pairs.Report      `json:"pairs"`
	Warmth      pairs.Warmth      `json:"warm_up"`
}

// atOnce bounds how many checks are made at the same time.
const atOnce = 64

// proving is a proof that is being made.
type proving struct {
	Question
	room chan struct{}

	mu      sync.Mutex // protects what follows
	results []proof.Result
	toldAt  time.Time
	checks  [2][]difference.Fact // needs, as each side finds them
}

// newProving prepares a question: what has ended is not asked anything.
func newProving(q Question) *proving {
	for i := range q.Sides {
		q.Sides[i] = slices.DeleteFunc(slices.Clone(q.Sides[i]), func(i reading.Instance) bool { return !i.Running })
	}
	return &proving{Question: q, room: make(chan struct{}, atOnce)}
}

// Prove makes the whole proof. A context that ends leaves what is missing as not
// passed.
func Prove(ctx context.Context, q Question) (proof.Proof, About) {
	p := newProving(q)
	var about About
	for _, step := range []func(context.Context, *About){
		p.instances, p.builds, p.health, p.reach, p.warmUp, p.smokes, p.through, p.needs, p.differences, p.pairs,
	} {
		if ctx.Err() != nil {
			p.add(proof.Result{Kind: proof.KindInstances, Check: "the proof", Instance: q.Target.String(),
				Want: "its end", Got: "cut short"})
			break
		}
		step(ctx, &about)
	}
	return p.sofar(), about
}

// add takes results in, in place of earlier ones of the same check on the same
// instance.
func (p *proving) add(results ...proof.Result) {
	p.mu.Lock()
	for _, r := range results {
		if r.At.IsZero() {
			r.At = time.Now()
		}
		if r.Since.IsZero() {
			r.Since = r.At
		}
		r.Tries = max(r.Tries, 1)
		if n := slices.IndexFunc(p.results, r.SameCell); n >= 0 {
			p.results[n] = r
		} else {
			p.results = append(p.results, r)
		}
	}
	due := p.Told != nil && time.Since(p.toldAt) >= tellEvery*time.Duration(1+len(p.results)/tellMany)
	if due {
		p.toldAt = time.Now()
	}
	p.mu.Unlock()
	if due {
		p.Told(p.sofar())
	}
}

// tellEvery is how often it is told how far a proof is: of a large side, everything
// changes all the time.
const (
	tellEvery = 100 * time.Millisecond
	tellMany  = 200 // results, for each of which many it is told as much more seldom
)

func (p *proving) sofar() proof.Proof {
	p.mu.Lock()
	defer p.mu.Unlock()
	results := slices.Clone(p.results)
	slices.SortStableFunc(results, p.order)
	return proof.Proof{Results: results}
}

// order puts results in the order of the plan, and of their instances.
func (p *proving) order(a, b proof.Result) int {
	part := func(r proof.Result) int {
		return slices.IndexFunc(p.Plan.Parts, func(q plan.Part) bool { return q.Name == r.Part })
	}
	check := func(r proof.Result) int {
		n := part(r)
		if n < 0 {
			return n
		}
		list := p.Plan.Parts[n].Smoke
		if r.Kind == proof.KindNeed {
			list = p.Plan.Parts[n].Needs
		}
		return slices.IndexFunc(list, func(c plan.Check) bool { return c.Name == r.Check })
	}
	return cmp.Or(part(a)-part(b), slices.Index(proof.Kinds, a.Kind)-slices.Index(proof.Kinds, b.Kind),
		check(a)-check(b),
		stack.Compare(reading.Instance{Name: a.Instance}, reading.Instance{Name: b.Instance}))
}

// of are the target's instances of a part.
func (p *proving) of(part plan.Part, side split.Side) []reading.Instance {
	var list []reading.Instance
	for _, i := range p.Sides[side] {
		if i.Part == part.Name {
			list = append(list, i)
		}
	}
	return list
}

// instances looks whether all are there.
func (p *proving) instances(context.Context, *About) {
	for _, part := range p.Plan.Parts {
		wanted, got := cmp.Or(p.Raised[part.Name].Instances, part.Stacks[p.Target].Planned(), 1),
			len(p.of(part, p.Target))
		p.add(proof.Result{
			Part: part.Name, Kind: proof.KindInstances, Check: "instances", Instance: p.Target.String(),
			Pass: got >= wanted, Want: fmt.Sprintf("at least %d", wanted), Got: fmt.Sprint(got),
		})
	}
}

// target is how a check is made on an instance from a place.
func (q *Question) target(from place.Place, i reading.Instance) check.Target {
	return check.Target{
		From: from, Values: i.Values(q.Plan.Service), Secrets: q.Secrets, Built: q.Raised[i.Part].Built,
		Look: func(ctx context.Context) (reading.Instance, error) {
			list, err := q.Standing.List(ctx, i.Side)
			if n := slices.IndexFunc(list,
				func(now reading.Instance) bool { return now.Part == i.Part && now.Name == i.Name }); n >= 0 {
				return list[n], nil
			}
			return i, errors.Join(err, fmt.Errorf("%s is not there", i.Name))
		},
	}
}

// each does something for every instance of the target's parts, so many at a time.
func (p *proving) each(do func(part plan.Part, i reading.Instance)) {
	var wait sync.WaitGroup
	for _, part := range p.Plan.Parts {
		for _, i := range p.of(part, p.Target) {
			wait.Go(func() {
				p.room <- struct{}{}
				defer func() { <-p.room }()
				do(part, i)
			})
		}
	}
	wait.Wait()
}

// builds compares what was raised with what each instance was started from, and
// with what it says it is.
func (p *proving) builds(ctx context.Context, _ *About) {
	p.each(func(part plan.Part, i reading.Instance) {
		raised, ok := p.Raised[part.Name]
		if !ok || raised.Build == "" && !part.Says.On() {
			return
		}
		r := proof.Result{
			Part: part.Name, Kind: proof.KindBuild, Check: "build", Instance: i.Name, Ask: true,
			Want: "the recorded " + raise.Short(raised.Build), Got: "started from " + raise.Short(i.Build),
			Pass: i.Build == raised.Build,
		}
		if part.Stacks[i.Side].Kind() == plan.Standing {
			r.Pass, r.Got = stands(part, i, raised)
		}
		if r.Pass && part.Says.On() {
			t := p.target(p.Standing.From(i), i)
			begun := time.Now()
			self, err := t.Ask(ctx, part.Says, 5*time.Second)
			r.Took = time.Since(begun)
			switch {
			case err != nil:
				r.Pass, r.Got = false, "it does not say: "+p.Secrets.Hide(check.Words(err))
			case part.Says.Build != (plan.Field{}) && !sameBuild(self.Build, raised.Build):
				r.Pass, r.Got = false, fmt.Sprintf("it says it is %s", orNothing(raise.Short(self.Build)))
			case part.Says.Version != (plan.Field{}) && self.Version != raised.Version:
				r.Pass, r.Want, r.Got = false, "version "+raised.Version,
					"it says it is version "+orNothing(self.Version)
			case part.Says.Build != (plan.Field{}):
				r.Got = "it says " + raise.Short(self.Build)
			}
		}
		p.add(r)
	})
}

// stands holds an instance that somebody else started to what it is to be. Where it says nothing of its build, its
// version has to do; where nothing is known of it, a person has to.
func stands(part plan.Part, i reading.Instance, raised Raised) (pass bool, got string) {
	switch {
	case i.Build != "" && raised.Build != "" && (sameBuild(i.Build, raised.Build) || part.Says.Build != (plan.Field{})):
		return sameBuild(i.Build, raised.Build), "it runs build " + raise.Short(i.Build)
	case i.Version != "":
		return i.Version == raised.Version, "it runs " + i.Version
	case i.Build != "" && raised.Build != "":
		return false, "it runs build " + raise.Short(i.Build)
	}
	return raised.Build == "", "what it runs is not known"
}

// reachLimit is how long a front has to reach an instance, by its own check too, which may be slow.
const reachLimit = 3 * time.Minute

// reach has the front connect to each instance that it is to send requests to, from where it stands: a proxy that may
// not connect out, or a firewall before the instance, is found before a user finds it.
func (p *proving) reach(ctx context.Context, _ *About) {
	if p.Reach == nil {
		return
	}
	p.each(func(part plan.Part, i reading.Instance) {
		if part.Name != p.Plan.Main().Name {
			return
		}
		limited, cancel := context.WithTimeout(ctx, reachLimit)
		defer cancel()
		begun := time.Now()
		err := p.Reach(limited, i.Address)
		r := proof.Result{
			Part: part.Name, Kind: proof.KindReach, Check: "front reaches it", Instance: i.Name,
			Want: "a connection from the front", Got: "connected", Pass: true, Took: time.Since(begun),
		}
		switch {
		case errors.Is(err, front.ErrUnknown):
			r.Got = p.Secrets.Hide(err.Error()) // nothing speaks against it
		case err != nil:
			r.Pass, r.Got = false, fmt.Sprintf("the front cannot connect to %s (%s); from this host it %s", i.Name,
				p.Secrets.Hide(check.Words(err)), p.answers(limited, i))
		}
		p.add(r)
	})
}

// answers says whether an instance takes connections from this host.
func (p *proving) answers(ctx context.Context, i reading.Instance) string {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
	defer cancel()
	if front.ReachFrom(ctx, p.Standing.From(i), i.Address) != nil {
		return "does not answer either"
	}
	return "answers"
}

// sameBuild compares an identity with what an instance says, which may be short.
func sameBuild(said, recorded string) bool {
	const certain = 7 // digits
	said, recorded = strings.TrimPrefix(said, "sha256:"), strings.TrimPrefix(recorded, "sha256:")
	return said == recorded || len(said) >= certain && strings.HasPrefix(recorded, said) ||
		len(recorded) >= certain && strings.HasPrefix(said, recorded)
}

func orNothing(text string) string {
	if text == "" {
		return "nothing"
	}
	return text
}

// health reads every instance until it is judged.
func (p *proving) health(ctx context.Context, _ *About) {
	p.each(func(part plan.Part, i reading.Instance) {
		r := p.target(p.Standing.From(i), i).Judge(ctx, part.Health)
		r.Part, r.Kind, r.Check, r.Instance = part.Name, proof.KindHealth, "health", i.Name
		p.add(r)
	})
}

// smokes makes the checks of the side's own addresses.
func (p *proving) smokes(ctx context.Context, _ *About) {
	var wait sync.WaitGroup
	p.each(func(part plan.Part, i reading.Instance) {
		t := p.target(p.Standing.From(i), i)
		for _, c := range part.Smoke {
			if c.Settle == 0 {
				c.Settle = part.Settle
			}
			wait.Go(func() {
				r := t.Judge(ctx, c)
				r.Part, r.Kind, r.Instance = part.Name, proof.KindSmoke, i.Name
				p.add(r)
			})
		}
	})
	wait.Wait()
}

// needs asks for what each part depends on from where its instances stand, and
// from the live side's.
func (p *proving) needs(ctx context.Context, _ *About) {
	for _, part := range p.Plan.Parts {
		if len(part.Needs) == 0 {
			continue
		}
		var lists [2][]proof.Result
		var wait sync.WaitGroup
		for _, side := range split.Sides {
			instances := p.of(part, side)
			if side != p.Target {
				instances = instances[:min(len(instances), 1)] // one of the live side shows what works there
			}
			lists[side] = make([]proof.Result, len(instances)*len(part.Needs))
			for n, i := range instances {
				wait.Go(func() {
					from := p.needsOf(ctx, part, i)
					copy(lists[side][n*len(part.Needs):], from)
				})
			}
		}
		wait.Wait()
		p.compared(part, lists)
		live := lists[p.Target.Other()]
		for n, r := range lists[p.Target] {
			if len(live) > 0 {
				other := live[n%len(part.Needs)]
				switch took := other.Took.Round(time.Millisecond); {
				case !r.Pass && other.Pass:
					r.Got += fmt.Sprintf("; reached from %v in %v", p.Target.Other(), took)
				case !r.Pass:
					r.Ask = true // it does not work for the live side either
					r.Got += fmt.Sprintf("; from %v as well: %s", p.Target.Other(), other.Got)
					r.Found += "; as well: " + other.Found
				}
			}
			p.add(r)
		}
	}
}

// compared keeps what the needs came to on both sides, to be set side by side.
func (p *proving) compared(part plan.Part, lists [2][]proof.Result) {
	if len(lists[split.Blue]) == 0 || len(lists[split.Green]) == 0 {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for side, list := range lists {
		for _, r := range list {
			value := "reached"
			if !r.Pass {
				value = "not reached"
			}
			p.checks[side] = append(p.checks[side],
				difference.Fact{Part: part.Name, Area: difference.Checks, Name: r.Check, Value: value})
		}
	}
}

// needsOf makes the checks of one instance's needs.
func (p *proving) needsOf(ctx context.Context, part plan.Part, i reading.Instance) []proof.Result {
	results := make([]proof.Result, len(part.Needs))
	from, err := p.Standing.Place(ctx, i)
	if err == nil {
		if err = prepare(ctx, from); err != nil {
			_ = from.Close()
		}
	}
	if err != nil {
		for n, c := range part.Needs {
			results[n] = proof.Result{
				Part: part.Name, Kind: proof.KindNeed, Check: c.Name, Instance: i.Name,
				Want: "to ask from where it stands", Got: p.Secrets.Hide(err.Error()),
			}
		}
		return results
	}
	defer from.Close()
	var wait sync.WaitGroup
	for n, c := range part.Needs {
		wait.Go(func() {
			r := p.target(from, i).Judge(ctx, c)
			r.Part, r.Kind, r.Instance = part.Name, proof.KindNeed, i.Name
			results[n] = r
		})
	}
	wait.Wait()
	return results
}

// prepare does what a place needs before anything is asked from there.
func prepare(ctx context.Context, from place.Place) error {
	d, ok := from.(place.Preparer)
	if !ok {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, stack.PlaceLimit)
	defer cancel()
	return d.Prepare(ctx)
}

// differences compares the sides, unless there is no other.
func (p *proving) differences(ctx context.Context, about *About) {
	if len(p.Sides[p.Target.Other()]) == 0 || len(p.Sides[p.Target]) == 0 {
		return
	}
	p.certificates(ctx)
	about.Differences = differ.Compare(ctx, differ.Question{
		Plan: p.Plan, Secrets: p.Secrets, Standing: p.Standing, Sides: p.Sides, Checks: p.checks,
	})
	questioned := about.Differences.Questioned()
	r := p.judged(proof.KindDifference, "differences", p.Plan.Differences.Then, len(questioned) == 0 &&
		len(about.Differences.Missing) == 0)
	r.Want = "no unplanned difference"
	switch missing := about.Differences.Missing; {
	case len(questioned) > 0:
		var names []string
		for _, d := range questioned {
			name := d.What()
			if len(p.Plan.Parts) > 1 {
				name = d.Part + " " + name
			}
			names = append(names, name)
		}
		r.Got, r.Found = fmt.Sprintf("%d: %s", len(names), few(names)), digest(questioned)
	case len(missing) > 0:
		r.Got, r.Found = "not all could be read: "+few(missing), digest(missing)
	default:
		r.Got = fmt.Sprintf("none among %d", about.Differences.Compared)
	}
	p.add(r)
}

// certificates looks at both sides' own certificates, where the plan has a check of
// them: one that is still good on the spare side may be older than the live one's.
func (p *proving) certificates(ctx context.Context) {
	for _, part := range p.Plan.Parts {
		for _, c := range part.Smoke {
			if _, ok := c.What.(plan.TLS); !ok {
				continue
			}
			for _, side := range split.Sides {
				for _, i := range p.of(part, side) {
					r := p.target(p.Standing.From(i), i).Read(ctx, c)
					if !r.Reached {
						continue // for the check itself to say
					}
					p.mu.Lock()
					p.checks[side] = append(p.checks[side],
						difference.Fact{Part: part.Name, Area: difference.Checks, Name: c.Name, Value: r.Got})
					p.mu.Unlock()
				}
			}
		}
	}
}

// few are the first of a list in words.
func few(list []string) string {
	const most = 3
	if len(list) > most {
		return strings.Join(list[:most], ", ") + fmt.Sprintf(" and %d more", len(list)-most)
	}
	return strings.Join(list, ", ")
}

// judged is a result of the whole side that is judged as the plan says.
func (p *proving) judged(kind proof.Kind, name string, then plan.Judgement, pass bool) proof.Result {
	return proof.Result{
		Part: p.Plan.Main().Name, Kind: kind, Check: name, Instance: p.Target.String(), Pass: pass ||
			then == plan.Note, Ask: then == plan.Ask,
	}
}

// config is what the same request needs; false if there is nothing to send or
// nobody to send it to.
func (p *proving) config() (c pairs.Config, left pairs.Left, err error) {
	main := *p.Plan.Main()
	var addresses [2][]string
	var headers [2][]map[string]string
	from := map[string]place.Place{} // by address
	for _, side := range split.Sides {
		for _, i := range p.of(main, side) {
			addresses[side], from[i.Address] = append(addresses[side], i.Address), p.Standing.From(i)
			filled := map[string]string{}
			for name, value := range p.Plan.Pairs.Headers {
				filled[name] = p.Secrets.Fill(value, i.Values(p.Plan.Service), nil)
			}
			headers[side] = append(headers[side], filled)
		}
	}
	c = pairs.Config{
		Sides: addresses, Rate: p.Plan.Pairs.Rate, Repeat: p.Plan.Pairs.Repeat, Ignore: p.Plan.Pairs.Ignore,
		Within: p.Plan.Pairs.Within,
		Built:  p.Raised[main.Name].Built, Spare: p.Target, Headers: headers, Hide: p.Secrets.HideCut,
		Dial: func(ctx context.Context, network, address string) (net.Conn, error) {
			return from[address].Dial(ctx, network, address)
		},
	}
	c.Requests, left, err = pairs.Requests(p.Plan.Pairs)
	for n := range c.Requests { // as users send them
		q := &c.Requests[n]
		own := map[string]string{}
		for name, value := range p.Plan.Door.Headers {
			own[http.CanonicalHeaderKey(name)] = p.Secrets.Fill(value, nil, nil)
		}
		if p.Plan.Door.Host != "" {
			own["Host"] = p.Plan.Door.Host
		}
		for name, value := range q.Headers {
			own[http.CanonicalHeaderKey(name)] = value
		}
		q.Headers = own
	}
	return c, left, err
}

// pairs sends both sides the same requests.
func (p *proving) pairs(ctx context.Context, about *About) {
	if !p.Plan.Pairs.On() || len(p.Sides[p.Target.Other()]) == 0 || len(p.Sides[p.Target]) == 0 {
		return
	}
	c, left, err := p.config()
	if err == nil && len(c.Requests) == 0 {
		err = errors.New("there is no request that only reads")
	}
	if err != nil {
		p.add(proof.Result{
			Part: p.Plan.Main().Name, Kind: proof.KindPairs, Check: "same request", Instance: p.Target.String(),
			Want: "requests to send", Got: p.Secrets.Hide(err.Error()),
		})
		return
	}
	report := pairs.Compare(ctx, c)
	report.Left = left
	about.Pairs = report
	r := p.judged(proof.KindPairs, "same request", p.Plan.Pairs.Then, len(report.Findings) == 0 && report.Cached == 0)
	r.Want = fmt.Sprintf("the same answers to %d requests", report.Pairs)
	switch {
	case report.Cached > 0:
		r.Pass, r.Got = false, fmt.Sprintf("%d answers from a cache", report.Cached)
	case len(report.Findings) > 0:
		f := report.Findings[0]
		r.Got = fmt.Sprintf("%d differ, most often %s of %s (%s → %s)", report.Pairs-report.Same, f.What, f.Request,
			f.Value[0], f.Value[1])
		r.Answer = "blue " + f.Answer[0] + "\n\ngreen " + f.Answer[1]
		r.Found = digest(places(report.Findings))
	default:
		r.Got = fmt.Sprintf("all the same; p50 %.1f ms and %.1f ms", report.Times[0].P50, report.Times[1].P50)
	}
	p.add(r)
}

// places are findings without their counts and answers, which change from try to try, in
// an order of their own.
func places(findings []pairs.Finding) []string {
	list := make([]string, len(findings))
	for n, f := range findings {
		list[n] = fmt.Sprintf("%q", []string{f.Request, f.What, f.Value[0], f.Value[1]})
	}
	slices.Sort(list)
	return list
}

// digest is a short text that is the same for the same list alone, so that a person who
// accepts many findings accepts these.
func digest[T any](list []T) string {
	h := sha256.New()
	for _, v := range list {
		fmt.Fprintf(h, "%#v\n", v)
	}
	return hex.EncodeToString(h.Sum(nil)[:12])
}

// warmUp sends the side requests that nobody judges but for failing.
func (p *proving) warmUp(ctx context.Context, about *About) {
	w := p.Plan.WarmUp
	if w.Requests == 0 || len(p.of(*p.Plan.Main(), p.Target)) == 0 {
		return
	}
	c, _, err := p.config()
	if err != nil || len(c.Requests) == 0 {
		c.Requests = []plan.Request{{Method: "GET", Path: p.Plan.Prober.Path}}
	}
	c.Rate = w.Rate
	var both sync.WaitGroup
	if len(p.Control) > 0 { // as warm, or guards would compare what is not alike
		beside := proving{Question: p.Question}
		beside.Sides[p.Target.Other()] = p.Control
		if g, _, err := beside.config(); err == nil || len(c.Requests) > 0 {
			g.Requests, g.Rate = c.Requests, c.Rate
			both.Go(func() { pairs.WarmUp(ctx, g, p.Target.Other(), w.Requests) })
		}
	}
	about.Warmth = pairs.WarmUp(ctx, c, p.Target, w.Requests)
	both.Wait()
	p.add(proof.Result{
		Part: p.Plan.Main().Name, Kind: proof.KindWarmUp, Check: "warm-up", Instance: p.Target.String(),
		Pass: about.Warmth.AtLast == 0 && about.Warmth.Requests == w.Requests, // what fails at first is what it is for
		Want: fmt.Sprintf("%d answers, none failing at last", w.Requests),
		Got: fmt.Sprintf("%d, %d of them failing; p50 %.1f ms at first, %.1f ms at last", about.Warmth.Requests,
			about.Warmth.Failing, about.Warmth.First, about.Warmth.Last),
	})
}

// Again makes what a result stands for once more: one check of one instance, the
// comparison of the sides, or the same request to both. Of about it changes what
// belongs to that. It is false if there is no such check.
func Again(ctx context.Context, q Question, cell proof.Result, about *About) (proof.Result, bool) {
	var step func(*proving, context.Context, *About)
	switch cell.Kind {
	case proof.KindDifference:
		step = (*proving).differences
	case proof.KindPairs:
		step = (*proving).pairs
	case proof.KindWarmUp:
		step = (*proving).warmUp
	case proof.KindReach:
		step = (*proving).reach
	case proof.KindThrough:
		step = func(p *proving, ctx context.Context, about *About) {
			p.smokes(ctx, about) // which it is held against
			p.through(ctx, about)
		}
	default:
		return one(ctx, q, cell)
	}
	p := newProving(q)
	p.Told = nil
	step(p, ctx, about)
	list := p.sofar().Results
	if n := slices.IndexFunc(list, cell.SameCell); n >= 0 {
		return list[n], true
	}
	if len(list) == 0 {
		return cell, false
	}
	return list[0], true
}

// one makes one check of one instance again.
func one(ctx context.Context, q Question, cell proof.Result) (proof.Result, bool) {
	for _, part := range q.Plan.Parts {
		if part.Name != cell.Part {
			continue
		}
		for _, i := range q.Sides[q.Target] {
			if i.Name != cell.Instance {
				continue
			}
			c, ok := checkOf(part, cell)
			if !ok {
				return cell, false
			}
			from := q.Standing.From(i)
			if cell.Kind == proof.KindNeed {
				var err error
				if from, err = q.Standing.Place(ctx, i); err != nil {
					cell.Pass, cell.Got, cell.At = false, q.Secrets.Hide(err.Error()), time.Now()
					return cell, true
				}
				defer from.Close()
				if err = prepare(ctx, from); err != nil {
					cell.Pass, cell.Got, cell.At = false, q.Secrets.Hide(err.Error()), time.Now()
					return cell, true
				}
			}
			r := q.target(from, i).Judge(ctx, c)
			r.Part, r.Kind, r.Check, r.Instance = cell.Part, cell.Kind, cell.Check, cell.Instance
			r.History = append(slices.Clone(cell.History), r.History...)
			if r.Pass == cell.Pass {
				r.Since = cell.Since
			}
			return r, true
		}
	}
	return cell, false
}

// checkOf is the plan's check behind a result.
func checkOf(part plan.Part, cell proof.Result) (plan.Check, bool) {
	list := map[proof.Kind][]plan.Check{proof.KindHealth: {part.Health}, proof.KindSmoke: part.Smoke,
		proof.KindNeed: part.Needs}[cell.Kind]
	for _, c := range list {
		if c.Name == cell.Check || cell.Kind == proof.KindHealth {
			return c, true
		}
	}
	return plan.Check{}, false
}
