package proof

import "testing"

func TestJudgeWaitsForItsThresholds(t *testing.T) {
	for _, c := range []struct {
		name     string
		readings string // + good, - bad
		want     Health
	}{
		{"nothing read", "", Unknown},
		{"two good of three", "++", Unknown},
		{"three good in a row", "+++", Up},
		{"good, but not in a row", "++-++", Unknown},
		{"up stays up over one bad", "+++-", Up},
		{"down after two bad", "+++--", Down},
		{"down comes up again", "--+++", Up},
		{"flapping changes nothing", "+++-+-+-+-", Up},
	} {
		j := Judge{UpAfter: 3, DownAfter: 2}
		for _, r := range c.readings {
			j = j.Read(r == '+')
		}
		if j.Health != c.want {
			t.Errorf("%s: %q, want %q", c.name, j.Health, c.want)
		}
	}
	if j := (Judge{}).Read(true); j.Health != Up {
		t.Errorf("without thresholds the last reading counts, got %q", j.Health)
	}
}

func TestAProofWithoutResultsProvesNothing(t *testing.T) {
	if (Proof{}).Pass() {
		t.Error("an empty proof passes")
	}
	p := Proof{Results: []Result{{Pass: true}, {Check: "search", Pass: false}}}
	if r, failed := p.Failed(); p.Pass() || p.Passing() != 1 || !failed || r.Check != "search" {
		t.Errorf("pass %v, passing %d, failed %v %q", p.Pass(), p.Passing(), failed, r.Check)
	}
}
