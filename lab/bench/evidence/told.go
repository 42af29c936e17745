package main

import (
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"slices"
	"time"

	"vaiven/internal/core/figures"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// telling is a kind of crossing on which instances tell a figure of themselves, three of each side, every second.
type telling struct {
	name  string
	rule  plan.Guard
	from  func(r *rand.Rand) teller
	bad   bool          // the new side is worse
	after time.Duration // in which it is to be found then
}

// teller is what an instance tells at a moment, with a part of the requests on its side; moved is since when the new
// side has some, and negative before.
type teller func(side split.Side, instance int, moved time.Duration, share float64) float64

const (
	toldBefore = 5 * time.Minute
	toldFor    = 35 * time.Minute
	toldShare  = split.Share(2500)
)

// run plays one, and says when the guard tripped, after the first request that moved; infinite if it did not.
func (c telling) run(seed uint64) float64 {
	r := rand.New(rand.NewPCG(seed, 31))
	tell := c.from(r)
	g := guard.New([]plan.Guard{c.rule}, guard.Terms{Alpha: alpha, Seconds: int(toldFor.Seconds()),
		Blocks: int(toldFor / every)})
	start := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
	f := guard.Facts{Target: split.Green, FrontRead: true, SideRead: true, Series: &figures.Series{},
		Tells: reading.Capabilities{Counts: true, Both: true}}
	front := reading.Front{Tells: f.Tells}
	for _, side := range split.Sides {
		front.Sides[side].Instances = []reading.Count{{Server: reading.Server{Name: side.String()}}}
	}
	for at := time.Second; at < toldBefore+toldFor; at += time.Second {
		f.Now = start.Add(at)
		front.At, front.Split.Share = f.Now, f.Share
		for _, side := range split.Sides {
			asked := front.Sides[side].Instances
			front.Sides[side].Instances = slices.Clone(asked)
			front.Sides[side].Instances[0].Requests += int64(200 * f.Share.Of(side).Fraction())
		}
		if err := f.Series.Add(front); err != nil {
			panic(err)
		}
		moved := at - toldBefore
		if moved >= 0 && f.Since.IsZero() {
			f.Since, f.Changed, f.Share = f.Now, f.Now, toldShare
		}
		told := reading.Figures{At: f.Now}
		for _, side := range split.Sides {
			for n := range 3 {
				is := tell(side, n, moved, f.Share.Of(side).Fraction())
				told.Of = append(told.Of, reading.Told{Name: fmt.Sprintf("%v-%d", side, n+1), Side: side,
					Started: start, Values: map[string]float64{c.rule.Figure.Name: is}})
			}
		}
		g.TakeFigures(f, told)
		if g.Evaluate(f)[0].State == guard.Tripped {
			return moved.Seconds()
		}
	}
	return math.Inf(1)
}

// late are bookings that are counted so long after their requests, on a side that has a part of those it should have.
func late(least, most time.Duration, part float64) func(*rand.Rand) teller {
	return func(r *rand.Rand) teller {
		var booked [2][3]float64
		return func(side split.Side, n int, moved time.Duration, _ float64) float64 {
			rate := 0.0
			const parts = 12
			for k := range parts { // of what is counted now some was asked then
				share := float64(1 - side)
				if moved-least-(most-least)*time.Duration(k)/parts >= 0 {
					share = toldShare.Of(side).Fraction()
				}
				rate += 8 * share / parts
			}
			if side == split.Green {
				rate *= part
			}
			for p := r.Float64(); p > math.Exp(-rate); p *= r.Float64() {
				booked[side][n]++
			}
			return booked[side][n]
		}
	}
}

// sawn is memory that is swept every so many minutes at half of the requests, and leaks so much a minute on the new
// side, which stands so much higher.
func sawn(period, leak, more float64) func(*rand.Rand) teller {
	return func(r *rand.Rand) teller {
		var held, leaked [2][3]float64
		for n := range held[split.Blue] { // these have been running for long
			held[split.Blue][n] = 80e6 * r.Float64()
		}
		return func(side split.Side, n int, _ time.Duration, share float64) float64 {
			held[side][n] += 80e6 / period / 60 * 2 * share * (0.9 + 0.2*r.Float64())
			if held[side][n] > 80e6 {
				held[side][n] = 2e6 * r.Float64()
			}
			if side == split.Green && share > 0 {
				leaked[side][n] += leak / 60
			}
			return 100e6 + held[side][n] + leaked[side][n] + more*float64(side) + 1e6*r.NormFloat64()
		}
	}
}

func tellings() []telling {
	fewer := func(after time.Duration) plan.Guard {
		return plan.Guard{Name: "fewer", Watch: plan.Fewer, Figure: plan.Figure{Name: "booked_total"}, Margin: 0.1,
			After: after, Then: plan.RollBack}
	}
	memory := func(watch plan.Watch, by float64) plan.Guard {
		return plan.Guard{Name: string(watch), Watch: watch, Figure: plan.Figure{Name: "memory_bytes"}, Margin: by,
			Settle: 10 * time.Second, Then: plan.RollBack}
	}
	const second, minute = time.Second, time.Minute
	return []telling{
		{"bookings counted 10 s late, which the plan says", fewer(10 * second), late(10*second, 10*second, 1), false, 0},
		{"bookings counted 60 s late, which the plan does not say", fewer(plan.Unsaid), late(minute, minute, 1), false, 0},
		{"bookings counted within a minute", fewer(plan.Unsaid), late(0, minute, 1), false, 0},
		{"40 % fewer of these", fewer(plan.Unsaid), late(0, minute, 0.6), true, 10 * minute},
		{"memory swept each minute: grows", memory(plan.Grows, 10e6), sawn(1, 0, 0), false, 0},
		{"memory swept every three minutes: grows", memory(plan.Grows, 10e6), sawn(3, 0, 0), false, 0},
		{"memory swept every eight minutes: grows", memory(plan.Grows, 10e6), sawn(8, 0, 0), false, 0},
		{"a leak of twice the margin, swept each minute", memory(plan.Grows, 10e6), sawn(1, 20e6, 0), true, 10 * minute},
		{"a leak of twice the margin, swept every three minutes", memory(plan.Grows, 10e6), sawn(3, 20e6, 0), true,
			18 * minute},
		{"memory swept every three minutes: higher", memory(plan.Higher, 20e6), sawn(3, 0, 0), false, 0},
		{"memory that stands higher by 50 MB, swept each minute", memory(plan.Higher, 20e6), sawn(1, 0, 50e6), true,
			10 * minute},
	}
}

func writeTold(b io.Writer, runs int) {
	fmt.Fprintf(b, "\nFigures that instances tell of themselves, with 25 %% of the requests on the new side for 35 minutes. "+
		"Found in time is within ten\nminutes, or three of its periods.\n\n| figure | alarms | found in time | after, in the "+
		"middle |\n| --- | --- | --- | --- |\n")
	for _, c := range tellings() {
		took := each(runs, c.run)
		slices.Sort(took)
		trips := 0
		for _, at := range took {
			if !math.IsInf(at, 1) && (!c.bad || at <= c.after.Seconds()) {
				trips++
			}
		}
		if !c.bad {
			fmt.Fprintf(b, "| %s | %d of %d | | |\n", c.name, trips, runs)
			continue
		}
		fmt.Fprintf(b, "| %s | | %d of %d | %.0f s |\n", c.name, trips, runs, took[runs/2])
	}
}
