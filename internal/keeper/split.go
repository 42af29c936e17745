package keeper

import (
	"fmt"
	"time"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/split"
	"vaiven/internal/plan"
)

const (
	// splitGrace is how long requests that began before a change may still be counted.
	splitGrace = 1500 * time.Millisecond
	// splitSpan is how far back a split is judged by: what was wrong for a while and was
	// put right must not be held against it for ever.
	splitSpan = 5 * time.Minute
)

// judgeSplit holds what was counted since the last change against the share in force.
func (k *Keeper) judgeSplit(now time.Time) {
	s := k.view.Front.Split
	since := s.Since
	if k.settled.After(since) {
		since = k.settled
	}
	since = since.Add(splitGrace)
	if from := now.Add(-splitSpan); from.After(since) {
		since = from
	}
	green, blue := k.series.Count(split.Green, since, 0).Requests, k.series.Count(split.Blue, since, 0).Requests
	counts := evidence.Count{Bad: green, Of: green + blue}
	probed := k.Prober.Seen(since)
	before := k.view.Split
	k.view.Split = JudgeSplit(s.Share, k.Plan.Front, counts, probed)
	if v := &k.view.Split; v.Off {
		if v.Since = now; before.Off {
			v.Since = before.Since
		}
		v.Said += ", since " + v.Since.Local().Format("15:04:05")
	}
}

// JudgeSplit says whether requests are split as asked: by the front's counts of those on
// green and in all, and by the answers of each side that the prober got.
func JudgeSplit(share split.Share, f plan.Front, counts evidence.Count, probed [2]int64) SplitView {
	tolerance := evidence.Independent
	if f.Key.From != plan.KeyRandom || f.Sticky {
		tolerance = evidence.Clustered
	}
	door := evidence.Count{Bad: probed[split.Green], Of: probed[split.Blue] + probed[split.Green]}
	if f.Key.From == plan.KeyClient || f.Key.From != plan.KeyRandom && f.Kind() != plan.FrontEmbedded {
		door = evidence.Count{} // the prober is one client: it sees one side
	}
	v := SplitView{Counts: counts, Front: evidence.Asked(share.Fraction(), counts, tolerance), Prober: evidence.Asked(share.Fraction(), door, evidence.Independent)}
	v.Off = v.Front.Verdict == evidence.Off || v.Prober.Verdict == evidence.Off
	switch {
	case v.Front.Verdict == evidence.Off:
		v.Said = fmt.Sprintf("%s where %v is asked: %s", offBy(v.Front), share, seen(v.Front, counts, "the front's counts"))
	case v.Prober.Verdict == evidence.Off:
		v.Said = fmt.Sprintf("%s where %v is asked: %s", offBy(v.Prober), share, seen(v.Prober, door, "answers at the front door"))
	case v.Front.Verdict == evidence.AsAsked:
		v.Said = "as asked: " + seen(v.Front, counts, "requests")
	case v.Prober.Verdict == evidence.AsAsked && counts.Of == 0:
		v.Said = "as asked: " + seen(v.Prober, door, "answers at the front door")
	default:
		v.Said = fmt.Sprintf("too few requests yet, about %d more", v.Front.More)
	}
	return v
}

// offBy is how far a split is off: "off by +12.3 points".
func offBy(s evidence.Seen) string { return fmt.Sprintf("off by %+.1f points", 100*s.Off) }

func seen(s evidence.Seen, c evidence.Count, of string) string {
	return fmt.Sprintf("%.1f %% ±%.1f of %d %s", 100*s.Share, 50*(s.Range.High-s.Range.Low), c.Of, of)
}
