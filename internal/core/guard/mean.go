package guard

import (
	"time"

	"vaiven/internal/core/figures"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// MeanFigure is what a guard on slow answers is about where the front tells no times, but what answers took on average.
const MeanFigure = "mean_time_seconds"

// By how much answers may take longer on average than the live side's: a part of those, or so much where they are
// quick.
const (
	meanPart  = 0.5
	meanLeast = 25 * time.Millisecond
)

// means reports whether a guard goes by what answers took on average.
func means(rule plan.Guard, f Facts) bool {
	return rule.Watch == plan.Slow && f.Tells.Means && !f.Tells.Times
}

// byMean is the guard on a figure that a guard on slow answers is then. Readings count once what was under way when the
// share was changed has been answered.
func byMean(rule plan.Guard) plan.Guard {
	return plan.Guard{Name: rule.Name, Watch: plan.Higher, Figure: plan.Figure{Name: MeanFigure}, Then: rule.Then,
		Settle: 2 * time.Second}
}

// takeMean takes in what answers took on average since the last time. Each side is one that tells it.
func (g *Guards) takeMean(n int, rule plan.Guard, f Facts) {
	st := &g.states[n]
	if st.figure == nil {
		live := f.Series.Count(f.Target.Other(), f.Now.Add(-10*time.Minute), 0)
		if live.Requests < Least(plan.Slow) {
			return // what is usual is not known yet
		}
		st.figure = &Figure{Margin: max(meanPart*live.Mean().Seconds(), meanLeast.Seconds()), Part: g.part()}
	}
	for step := range f.Series.After(g.taken) {
		if r := meanOf(step); len(r.Of) > 0 {
			st.figure.take(byMean(rule), f, r, g.terms.Seconds)
		}
	}
}

// meanOf is what each side's answers took on average in a step: of those that answered anything.
func meanOf(st figures.Step) reading.Figures {
	r := reading.Figures{At: st.To}
	for _, side := range split.Sides {
		if took, of := st.Took(side); of > 0 && !st.Mixed {
			r.Of = append(r.Of, reading.Told{Name: side.String(), Side: side,
				Values: map[string]float64{MeanFigure: took.Seconds() / float64(of)}})
		}
	}
	return r
}

// mean is how such a guard stands.
func (g *Guards) mean(n int, rule plan.Guard, s Status, f Facts, mark bool) Status {
	s.Watch, s.Find = plan.Higher, 0
	s = g.figured(n, byMean(rule), s, f, mark, f.FrontRead)
	s.Instance = "" // the side has no other
	return s
}
