package keeper

import (
	"strings"
	"testing"

	"vaiven/internal/core/evidence"
	"vaiven/internal/plan"
)

func TestASplitIsJudged(t *testing.T) {
	random := plan.Front{Key: plan.Key{From: plan.KeyRandom}}
	byCookie := plan.Front{Key: plan.Key{From: plan.KeyCookie, Name: "passenger"}, Nginx: &plan.Included{}}
	for _, c := range []struct {
		what   string
		front  plan.Front
		counts evidence.Count
		probed [2]int64
		off    bool
		says   string
	}{
		{"nothing yet", random, evidence.Count{}, [2]int64{}, false, "too few requests yet, about 1849 more"},
		{"as asked", random, evidence.Count{Bad: 1000, Of: 4000}, [2]int64{75, 25}, false, "as asked: 25.0 % ±1.4 of 4000 requests"},
		{"the front ignores it", random, evidence.Count{Bad: 0, Of: 300}, [2]int64{}, true, "off by -25.0 points where 25 % is asked: 0.0 % ±0.6 of 300 the front's counts"},
		{"only the door shows it", random, evidence.Count{Bad: 1000, Of: 4000}, [2]int64{20, 80}, true, "answers at the front door"},
		{"clients", byCookie, evidence.Count{Bad: 1150, Of: 4000}, [2]int64{0, 80}, false, "as asked"},
		{"no clients at all", byCookie, evidence.Count{Bad: 0, Of: 4000}, [2]int64{80, 0}, true, "off by -25.0 points"},
	} {
		v := JudgeSplit(2500, c.front, c.counts, c.probed)
		if v.Off != c.off || !strings.Contains(v.Said, c.says) {
			t.Errorf("%s: off %v, %q, want %v, %q", c.what, v.Off, v.Said, c.off, c.says)
		}
	}
}
