package main

import (
	"bytes"
	"cmp"
	"flag"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"os"
	"runtime"
	"slices"
	"sync"
	"time"

	"gonum.org/v1/gonum/stat/distuv"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/front/clients"
)

// What the crossings go by: 35 minutes, and a certainty of 99 % shared by three guards, of which this is
// one.
const (
	every  = forecast.Every
	before = 2 * time.Minute // that is watched before the first request moves
	keep   = 25 * time.Minute
	alpha  = 0.01
	margin = 0.005
)

var usual = route.Route{{Part: 500, Dwell: 3 * time.Minute}, {Part: 2500, Dwell: 4 * time.Minute},
	{Part: 5000, Dwell: 3 * time.Minute}, {Part: split.Whole}}

// cell is a kind of crossing.
type cell struct {
	name  string
	rate  float64 // requests a second
	base  float64 // of them, that fail on both sides
	legs  route.Route
	fault float64       // more, on the new side
	from  time.Duration // when that begins, after the first request that moves
	// incident is what fails beside, on both sides alike.
	incident func(at time.Duration) float64
	clients  crowd         // that make the requests and stay on their sides; none: each request is placed anew
	restart  time.Duration // when a keeper takes over that knows nothing; 0: never
	each     int           // instances of a side; 0: one
	// half of what each of them is asked fails for two seconds, once in so long on average, on both sides; 0: never
	bursts time.Duration
	bad    float64       // more that fails at one instance of the new side
	watch  time.Duration // before the first request moves; 0: as usual
	wander float64       // how far each side's rate wanders by itself: the deviation of its logarithm
	rolls  bool          // only what rolls back counts
	cold   float64       // of what instances answer that start with the crossing, more fails, less and less
}

// warms is how long it takes until what is cold fails half as much.
const warms = 20 * time.Second

// wanders is how long it takes a rate that wanders to forget where it was, for the most part.
const wanders = time.Minute

// rules are three guards, so that certainty is shared as in most plans; two of them see nothing.
var rules = []plan.Guard{
	{Name: "failing", Watch: plan.Failing, Margin: margin, Find: 0.01, Then: plan.RollBack},
	{Name: "slow", Watch: plan.Slow, After: time.Second, Margin: 0.02, Find: 0.04, Then: plan.RollBack},
	{Name: "door", Watch: plan.Door, Margin: 0.05, Find: 0.1, Then: plan.RollBack},
}

// run plays a crossing, and says when a guard tripped, after the first request that moved; infinite if
// none did.
func (c cell) run(seed uint64) float64 {
	r := rand.New(rand.NewPCG(seed, 15))
	total, before := c.legs.Forecast(keep, 0).Total, cmp.Or(c.watch, before)
	var clumps evidence.Clumps
	restarts := 0
	terms := func() guard.Terms {
		return guard.Terms{Alpha: alpha, Blocks: int(total / every), Seconds: int(total.Seconds()), Restarts: restarts}
	}
	g := guard.New(rules, terms())
	var series figures.Series
	start := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
	moves := start.Add(before)
	var sides [2]reading.Side
	for side := range sides {
		for n := range max(c.each, 1) {
			name := fmt.Sprintf("%v-%d", split.Side(side), n+1)
			sides[side].Instances = append(sides[side].Instances, reading.Count{Server: reading.Server{Name: name,
				Address: name + ":1"}})
		}
	}
	stood := len(sides[split.Blue].Instances)
	if c.legs.Controls() {
		for n := range max(c.each, 1) {
			name := fmt.Sprintf("control-%d", n+1)
			sides[split.Blue].Instances = append(sides[split.Blue].Instances, reading.Count{Server: reading.Server{
				Name: name, Address: name + ":1"}})
		}
	}
	people := newPeople(r, c, start)
	f := guard.Facts{Target: split.Green, FrontRead: true, SideRead: true,
		Tells: reading.Capabilities{Counts: true, Both: true, Clients: c.clients.of > 0}, Together: c.clients.of > 0}
	share, control := split.Share(0), c.legs.Controls()
	var beside *figures.Series
	for at := time.Duration(0); at < before+total; at += every {
		now := start.Add(at)
		moved := at - before
		next := split.Share(0)
		if moved >= 0 {
			for _, s := range c.legs.Forecast(keep, 0).Stops {
				if moved >= s.Begins {
					next, control = s.Part, s.Control
				}
			}
		}
		by := &series
		if beside != nil {
			by = beside
		}
		if next != share {
			f.Now, f.Series, f.Share = now, by, share
			if f.Since.IsZero() || next == split.Whole {
				if list := g.Baselines(f, time.Time{}); len(list) > 0 {
					f.Baselines = list
				}
			}
			if f.Since.IsZero() {
				f.Since = moves
			}
			f.Changed, share = now, next
			people.now = now
			people.count.Changed(share)
		}
		base := c.base
		if c.incident != nil {
			base = min(base+c.incident(moved), 1)
		}
		fault := 0.0
		if moved >= c.from {
			fault = c.fault
		}
		people.now = now
		chill := c.cold * math.Exp2(-moved.Seconds()/warms.Seconds())
		for n := range sides[split.Blue].Instances {
			sides[split.Blue].Instances[n].Control = control && n >= stood
		}
		if f.Control = control; control && beside == nil {
			beside = series.Beside()
		}
		people.ask(r, c, share, base, fault, chill, &sides)
		reading := reading.Front{At: now.Add(every), Split: reading.Split{Share: share}, Tells: f.Tells, Sides: sides}
		reading.Sides[0].Instances, reading.Sides[1].Instances = slices.Clone(sides[0].Instances),
			slices.Clone(sides[1].Instances)
		if err := series.Add(reading); err != nil {
			panic(err) // times were made up wrongly
		}
		if beside != nil {
			if err := beside.Add(reading); err != nil {
				panic(err)
			}
		}
		for st := range series.After(now) {
			f.Swings.Learn(st.To, st.Failing(split.Blue))
		}
		if c.watch > 0 && share == 0 {
			for st := range series.After(now) {
				for _, b := range st.Blocks(split.Blue) {
					clumps.Learn(b.Count)
					f.Bursts = clumps.Bursts()
				}
			}
		}
		if c.restart > 0 && moved >= c.restart && restarts == 0 {
			restarts++
			g, series = guard.New(rules, terms()), figures.Series{}
			f.Since = reading.At
		}
		if by = &series; beside != nil {
			by = beside
		}
		f.Now, f.Series, f.Share = reading.At, by, share
		if moved >= 0 {
			f.Share = share
		}
		for _, s := range g.Evaluate(f) {
			if s.State == guard.Tripped && (s.Then == plan.RollBack || !c.rolls) {
				return (moved + every).Seconds()
			}
		}
	}
	return math.Inf(1)
}

// crowd is how clients are that stay where they are.
type crowd struct {
	of     int
	bad    float64       // the part of them whose requests fail on either side
	fails  float64       // how many of those requests fail
	uneven bool          // some ask a thousand times as much as others
	stays  time.Duration // on average, until another comes in its place; 0: for ever
}

// people are who asks: nobody in particular, or clients that stay where they are.
type people struct {
	now   time.Time
	all   []person
	sums  []float64 // of how much they ask, up to each
	count *clients.Counts
	burst [2][]time.Time // by side and instance: until when it has one
	drift [2]float64     // of each side that wanders
}

type person struct {
	place split.Place
	bad   bool
	until time.Time
}

func newPeople(r *rand.Rand, c cell, now time.Time) *people {
	p := &people{now: now}
	p.count = clients.New(0, func() time.Time { return p.now })
	sum := 0.0
	for range c.clients.of {
		p.all = append(p.all, p.another(r, c))
		weight := 1.0
		if c.clients.uneven {
			weight = math.Exp(r.Float64() * math.Log(1000))
		}
		sum += weight
		p.sums = append(p.sums, sum)
	}
	return p
}

// another is a client that has just come.
func (p *people) another(r *rand.Rand, c cell) person {
	who := person{place: split.Place(r.Uint64()), bad: r.Float64() < c.clients.bad}
	if c.clients.stays > 0 {
		who.until = p.now.Add(time.Duration(r.ExpFloat64() * float64(c.clients.stays)))
	}
	return who
}

func (p *people) ask(r *rand.Rand, c cell, share split.Share, base, fault, chill float64,
	sides *[2]reading.Side) {
	n := int64(distuv.Poisson{Lambda: c.rate * every.Seconds(), Src: r}.Rand())
	if c.clients.of > 0 {
		for range n {
			k, _ := slices.BinarySearch(p.sums, r.Float64()*p.sums[len(p.sums)-1])
			who := &p.all[k]
			if !who.until.IsZero() && p.now.After(who.until) {
				*who = p.another(r, c)
			}
			side := who.place.Side(share)
			rate := base
			if who.bad {
				rate = c.clients.fails
			}
			if side == split.Green {
				rate += fault
			}
			bad := r.Float64() < rate
			i := &sides[side].Instances[0]
			i.Requests++
			if bad {
				i.Status[5]++
			}
			p.count.Answered(side, uint64(who.place), bad, 0)
		}
		p.now = p.now.Add(every)
		for side := range sides {
			sides[side].Clients = p.count.Read(split.Side(side))
		}
		return
	}
	green := binomial(r, n, share.Fraction())
	p.now = p.now.Add(every)
	for side, of := range [2]int64{n - green, green} {
		list := sides[side].Instances
		keeps := math.Exp(-every.Seconds() / wanders.Seconds())
		p.drift[side] = keeps*p.drift[side] + c.wander*math.Sqrt(1-keeps*keeps)*r.NormFloat64()
		base := base * math.Exp(p.drift[side])
		if p.burst[side] == nil {
			p.burst[side] = make([]time.Time, len(list))
		}
		group := int64(0) // of a control group
		if list[len(list)-1].Control && share > 0 {
			group = binomial(r, of, share.Fraction()/(1-share.Fraction()))
			of -= group
		}
		stood := slices.IndexFunc(list, func(c reading.Count) bool { return c.Control })
		if stood < 0 {
			stood = len(list)
		}
		for n := range list {
			rate, last := base, stood
			if split.Side(side) == split.Green {
				if rate = min(base+fault+chill, 1); n == 0 {
					rate = min(rate+c.bad, 1)
				}
			}
			if n == stood {
				of = group
			}
			if n >= stood {
				rate, last = min(base+chill, 1), len(list)
			}
			if c.bursts > 0 && r.Float64() < float64(every)/float64(c.bursts) {
				p.burst[side][n] = p.now.Add(2 * time.Second)
			}
			if p.now.Before(p.burst[side][n]) {
				rate = min(rate+0.5, 1)
			}
			part := binomial(r, of, 1/float64(last-n))
			of -= part
			list[n].Requests += part
			list[n].Status[5] += binomial(r, part, rate)
		}
	}
}

func binomial(r *rand.Rand, n int64, p float64) int64 {
	switch {
	case n == 0 || p <= 0:
		return 0
	case p >= 1:
		return n
	}
	return int64(distuv.Binomial{N: float64(n), P: p, Src: r}.Rand())
}

// shock is half a minute in which so much fails on both sides, around a time.
func shock(at time.Duration, part float64) func(time.Duration) float64 {
	return func(now time.Duration) float64 {
		if (now - at).Abs() < 15*time.Second {
			return part
		}
		return 0
	}
}

func nulls() []cell {
	var list []cell
	for _, rate := range []float64{10, 100, 1000} {
		for _, base := range []float64{0, 0.001, 0.01, 0.05} {
			list = append(list, cell{name: fmt.Sprintf("equal, %g %% fail", 100*base), rate: rate, base: base,
				legs: usual})
		}
		list = append(list, cell{name: "exactly at the margin, 1 % fail", rate: rate, base: 0.01, fault: margin,
			legs: usual})
	}
	once := route.Route{{Part: split.Whole}}
	return append(list,
		cell{name: "an incident of 30 % as the share goes from 5 to 25 %", rate: 100, base: 0.001, legs: usual,
			incident: shock(3*time.Minute, 0.3)},
		cell{name: "an incident of 5 % as the share goes from 25 to 50 %", rate: 1000, base: 0.001, legs: usual,
			incident: shock(7*time.Minute, 0.05)},
		cell{name: "a wave: 0.5 to 3 % fail, over ten minutes", rate: 100, base: 0.005, legs: usual[:3],
			incident: func(at time.Duration) float64 { return 0.0125 * (1 - math.Cos(at.Minutes()*2*math.Pi/10)) }},
		cell{name: "a keeper that begins in the middle", rate: 100, base: 0.01, legs: usual, restart: 5 * time.Minute},
		cell{name: "all at once", rate: 100, base: 0.01, legs: once},
		cell{name: "all at once, nothing fails", rate: 100, legs: once},
	)
}

// crowds are crossings on which clients stay, and no side is worse.
func crowds() []cell {
	of := func(name string, rate, base float64, c crowd) cell {
		return cell{name: name, rate: rate, base: base, legs: usual, clients: c}
	}
	return []cell{
		of("10 clients, 1 % fail", 10, 0.01, crowd{of: 10}),
		of("100 clients, 2 of them fail always", 100, 0.001, crowd{of: 100, bad: 0.02, fails: 1}),
		of("100 clients, some ask a thousand times as much, 1 % fail", 100, 0.01, crowd{of: 100, uneven: true}),
		of("1,000 clients, 20 of them fail half of the time", 100, 0.001, crowd{of: 1000, bad: 0.02, fails: 0.5}),
		of("1,000 clients, 100 of them fail one time in ten", 100, 0.001, crowd{of: 1000, bad: 0.1, fails: 0.1}),
		of("1,000 clients, some ask a thousand times as much, 50 fail half", 100, 0.01,
			crowd{of: 1000, bad: 0.05, fails: 0.5, uneven: true}),
		of("1,000 clients that come for two minutes, 50 of them fail half", 100, 0.001,
			crowd{of: 1000, bad: 0.05, fails: 0.5, stays: 2 * time.Minute}),
		of("10,000 clients, 200 of them fail half of the time", 1000, 0.001, crowd{of: 10_000, bad: 0.02, fails: 0.5}),
	}
}

// clumps are crossings on which bad answers come in bursts at single instances, and no side is worse.
func clumps() []cell {
	of := func(rate float64) cell {
		return cell{name: "each of 4 instances a side has a burst in five minutes, watched for 25 min before", rate: rate,
			base: 0.001, legs: usual, each: 4, bursts: 5 * time.Minute, watch: 25 * time.Minute}
	}
	return []cell{of(100), of(500)}
}

// wandering are crossings on which each side's rate wanders by itself, and no side is worse; and one that is.
func wandering() []cell {
	var list []cell
	for _, watch := range []time.Duration{before, time.Hour} {
		for _, wander := range []float64{0.5, 1} {
			for _, rate := range []float64{100, 500} {
				list = append(list, cell{name: fmt.Sprintf("by a factor of %.1f, watched for %.0f min before",
					math.Exp(wander), watch.Minutes()), rate: rate, base: 0.003, legs: usual, each: 4, wander: wander,
					watch: watch})
			}
		}
	}
	return list
}

// colds are crossings to a side that starts cold: beside all of the live side, and beside a control group that started
// with it.
func colds() []cell {
	var list []cell
	for _, control := range []bool{false, true} {
		legs := route.Route{{Part: 1000, Dwell: 5 * time.Minute, Control: control},
			{Part: 2500, Dwell: 3 * time.Minute, Control: control}, {Part: 5000, Dwell: 2 * time.Minute},
			{Part: split.Whole}}
		name := "beside the live side"
		if control {
			name = "beside control"
		}
		for _, rate := range []float64{20, 100, 500} {
			list = append(list, cell{name: name, rate: rate, base: 0.001, legs: legs, each: 4, cold: 0.1})
		}
	}
	return list
}

// stays are faults among clients that stay where they are, and among bursts.
func stays() []cell {
	var list []cell
	legs := route.Route{{Part: 2500, Dwell: 25 * time.Minute}, {Part: split.Whole}}
	for _, from := range []time.Duration{0, 15 * time.Minute} {
		for _, fault := range []float64{0.05, 0.99} {
			for _, of := range []int{100, 1000} {
				list = append(list, cell{name: fmt.Sprintf("%d clients", of), rate: 100, base: 0.001, fault: fault,
					from: from, legs: legs, clients: crowd{of: of}})
			}
		}
	}
	burst := clumps()[1]
	burst.name, burst.legs = "bursts, at one of 4 instances", legs
	for _, bad := range []float64{0.05, 0.3} {
		burst.bad = bad
		list = append(list, burst)
	}
	burst.name, burst.bad, burst.fault = "bursts, at all instances", 0, 0.05
	return append(list, burst)
}

func faults() []cell {
	var list []cell
	for _, from := range []time.Duration{0, 5 * time.Minute} {
		for _, fault := range []float64{0.01, 0.05, 0.2} {
			for _, rate := range []float64{10, 100, 1000} {
				list = append(list, cell{rate: rate, base: 0.01, fault: fault, from: from,
					legs: route.Route{{Part: 2500, Dwell: 10 * time.Minute}, {Part: split.Whole}}})
			}
		}
	}
	return list
}

// play plays a cell so many times.
func play(c cell, runs int) []float64 { return each(runs, c.run) }

// each plays something with so many seeds, as many at a time as there are processors.
func each(runs int, run func(seed uint64) float64) []float64 {
	times := make([]float64, runs)
	var wait sync.WaitGroup
	next := make(chan int)
	for range runtime.NumCPU() {
		wait.Go(func() {
			for n := range next {
				times[n] = run(uint64(n))
			}
		})
	}
	for n := range runs {
		next <- n
	}
	close(next)
	wait.Wait()
	return times
}

func main() {
	runs := flag.Int("runs", 200, "crossings of each kind")
	out := flag.String("out", "", "file whose part between the marks is written anew; nothing: print it")
	flag.Parse()
	var b bytes.Buffer
	write(&b, *runs)
	if *out == "" {
		_, _ = b.WriteTo(os.Stdout)
		return
	}
	if err := put(*out, b.Bytes()); err != nil {
		fmt.Fprintln(os.Stderr, "evidence:", err)
		os.Exit(1)
	}
}

func write(b io.Writer, runs int) {
	fmt.Fprintf(b, "Whole crossings of 35 minutes (5, 25, 50 and 100 %%, kept for 25 minutes) through the guards, "+
		"reading by reading, %d of each kind. Three guards share\na certainty of 99 %%; one of them sees what "+
		"happens here, so that 0.3 %% of the crossings may alarm.\n\n", runs)
	fmt.Fprintf(b, "| no fault | requests a second | alarms | at most (99 %% sure) |\n| --- | --- | --- | --- |\n")
	for _, c := range slices.Concat(nulls(), crowds(), clumps()) {
		alarms := int64(0)
		for _, at := range play(c, runs) {
			if !math.IsInf(at, 1) {
				alarms++
			}
		}
		fmt.Fprintf(b, "| %s | %.0f | %d of %d | %.1f %% |\n", c.name, c.rate, alarms, runs,
			100*evidence.Exact(evidence.Count{Bad: alarms, Of: int64(runs)}, 0.02).High)
	}
	writeWandering(b, few(runs))
	writeColds(b, runs)
	writeTold(b, runs)
	fmt.Fprintf(b, "\nA fault on the new side, at 25 %% of the requests and 1 %% that fail anyway. *By information* "+
		"is what no judgement that is as\nseldom wrong beats on average.\n\n")
	fmt.Fprintf(b, "| fault | begins | requests a second | found within ten minutes | after, in the middle | by "+
		"information |\n| --- | --- | --- | --- | --- | --- |\n")
	few := few(runs)
	for _, c := range faults() {
		var took []float64
		for _, at := range play(c, few) {
			if at <= 600 {
				took = append(took, at-c.from.Seconds())
			}
		}
		level := guard.Level(rules, alpha)
		begins := "with the leg"
		if c.from > 0 {
			level /= c.from.Seconds() / every.Seconds()
			begins = fmt.Sprintf("after %.0f min", c.from.Minutes())
		}
		bound := (evidence.Flow{Live: c.rate * 0.75, Trial: c.rate * 0.25, Base: c.base}).ToFind(c.fault, margin, level)
		middle := "—"
		if slices.Sort(took); 2*len(took) > few {
			middle = fmt.Sprintf("%.1f s", took[few/2])
		}
		fmt.Fprintf(b, "| %g %% | %s | %.0f | %d of %d | %s | %.1f s |\n", 100*c.fault, begins, c.rate, len(took), few,
			middle, bound)
	}
	fmt.Fprintf(b, "\nThe same at 25 %% where clients stay on their side and 0.1 %% fail anyway, and where bad answers come in "+
		"bursts.\n\n| who | fault | begins | requests a second | found within ten minutes | after, in the middle | at most |\n"+
		"| --- | --- | --- | --- | --- | --- | --- |\n")
	for _, c := range stays() {
		var took []float64
		for _, at := range play(c, few) {
			if at -= c.from.Seconds(); at <= 600 {
				took = append(took, at)
			}
		}
		slices.Sort(took)
		middle, most := "—", "—"
		if 2*len(took) > few {
			middle, most = fmt.Sprintf("%.0f s", took[few/2]), fmt.Sprintf("%.0f s", took[len(took)-1])
		}
		fmt.Fprintf(b, "| %s | %g %% | after %.0f min | %.0f | %d of %d | %s | %s |\n", c.name, 100*max(c.fault, c.bad),
			c.from.Minutes(), c.rate, len(took), few, middle, most)
	}
}

func writeWandering(b io.Writer, runs int) {
	fmt.Fprintf(b, "\nEach side's rate wanders by itself, around 0.3 %% and within a minute or so: by its logarithm's deviation.\n\n| "+
		"rates wander | requests a second | stopped without a fault | of them, rolled back | a fault of 5 %% is rolled back |\n"+
		"| --- | --- | --- | --- | --- |\n")
	for _, c := range wandering() {
		within := func(limit float64) (n int) {
			for _, at := range play(c, runs) {
				if at <= limit {
					n++
				}
			}
			return n
		}
		stopped := within(math.MaxFloat64)
		c.rolls = true
		back := within(math.MaxFloat64)
		c.fault = 0.05
		fmt.Fprintf(b, "| %s | %.0f | %d of %d | %d | %d of %d |\n", c.name, c.rate, stopped, runs, back, within(600), runs)
	}
}

func writeColds(b io.Writer, runs int) {
	fmt.Fprintf(b, "\nA new side that starts cold: one answer in ten fails at first, and half as many after each 20 s; 10 and 25 %% "+
		"of the requests, then 50.\n\n| compared | requests a second | alarms without a fault | a fault of 5 %% after a minute is "+
		"found | after, in the middle |\n| --- | --- | --- | --- | --- |\n")
	for _, c := range colds() {
		alarms := 0
		for _, at := range play(c, runs) {
			if !math.IsInf(at, 1) {
				alarms++
			}
		}
		c.fault, c.from = 0.05, time.Minute
		var took []float64
		for _, at := range play(c, few(runs)) {
			if at >= 60 && at <= 660 {
				took = append(took, at-60)
			}
		}
		middle := "—"
		if slices.Sort(took); 2*len(took) > few(runs) {
			middle = fmt.Sprintf("%.0f s", took[len(took)/2])
		}
		fmt.Fprintf(b, "| %s | %.0f | %d of %d | %d of %d | %s |\n", c.name, c.rate, alarms, runs, len(took),
			few(runs), middle)
	}
}

// few is how many crossings there are of kinds that show more by one.
func few(runs int) int { return max(runs/4, 1) }

// The marks of what is written anew.
const (
	begin = "<!-- evidence: made by make evidence -->\n"
	end   = "<!-- end of evidence -->\n"
)

func put(name string, text []byte) error {
	data, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	head, rest, ok := bytes.Cut(data, []byte(begin))
	_, tail, closed := bytes.Cut(rest, []byte(end))
	if !ok || !closed {
		return fmt.Errorf("%s has no part between %q and %q", name, begin, end)
	}
	return os.WriteFile(name, slices.Concat(head, []byte(begin), text, []byte(end), tail), 0o644)
}
