package several

import (
	"testing"
	"time"
)

// A look every second, at something that changes.
type looking struct {
	Keeper
	seen Seen
	beat bool
	acts []Act
}

func newLooks() *looking {
	return &looking{seen: Seen{At: time.Unix(1e9, 0), Plan: "a", UnderWay: func() bool { return false }}, beat: true}
}

// keeps has a process keep the plan as it is.
func (l *looking) keeps(process string) {
	l.seen.Process, l.seen.Keeps, l.seen.Stays, l.seen.Starts = process, l.seen.Plan, true, false
}

// pass lets seconds pass, and returns what was done in them.
func (l *looking) pass(seconds int) (acts []Act) {
	for range seconds {
		l.seen.At = l.seen.At.Add(time.Second)
		if l.beat {
			l.seen.Beat = l.seen.At.String()
		}
		if act, _ := l.Next(l.seen); act != Nothing {
			acts = append(acts, act)
		}
	}
	return acts
}

func (l *looking) want(t *testing.T, what string, seconds int, want ...Act) {
	t.Helper()
	got := l.pass(seconds)
	if len(got) != len(want) {
		t.Fatalf("%s: %v is done, and not %v", what, got, want)
	}
	for n := range got {
		if got[n] != want[n] {
			t.Fatalf("%s: %v is done, and not %v", what, got, want)
		}
	}
}

func TestNext(t *testing.T) {
	l := newLooks()
	l.want(t, "there is no keeper", 1, Start)
	l.seen.Starts, l.seen.Begun = true, l.seen.At
	l.want(t, "it is about to begin", 5)
	l.keeps("1")
	l.want(t, "it keeps", 100)
	l.seen.Process = ""
	l.want(t, "it was killed", 1, Start)
	l.want(t, "it ends at once, again and again", 130, Start, Start, Start, Start, Start, Start)
	l.keeps("2")
	l.want(t, "it runs for a while", 121)
	l.seen.Process = ""
	l.want(t, "and then it was killed", 1, Start)

	l = newLooks()
	l.keeps("1")
	l.want(t, "it was there before us", 10)
	l.beat = false
	l.want(t, "it hangs", 30, Replace)
	l.seen.Starts, l.seen.Begun = true, l.seen.At
	l.want(t, "another one goes on", 10)
	l.seen.Starts, l.beat = false, true
	l.keeps("2")
	l.want(t, "it does", 100)
	l.seen.Plan = "b"
	l.want(t, "the plan has changed", 1, TakeOver)
	l.want(t, "it cannot be taken over just now", 7, TakeOver, TakeOver)
	l.keeps("3")
	l.want(t, "it was", 130)
	l.seen.Wrong = "line 3: what is this?"
	l.want(t, "the plan is wrong: what runs goes on", 70)
	l.seen.Wrong = ""
	l.seen.Memory = 2 << 30
	l.want(t, "it leaks", 1, TakeOver)
}

func TestNextOfAPlanThatIsWrong(t *testing.T) {
	l := newLooks()
	l.seen.Plan, l.seen.Wrong = "", "line 3: what is this?"
	if act, why := l.Next(l.seen); act != Nothing || why != l.seen.Wrong {
		t.Errorf("%v is done, since %q", act, why)
	}
	if _, why := l.Next(l.seen); why != "" {
		t.Errorf("it is said again: %q", why)
	}
	l.seen.Wrong = "line 4: what is this?"
	if _, why := l.Next(l.seen); why != l.seen.Wrong {
		t.Errorf("what is wrong now is not said: %q", why)
	}
	l.seen.Plan, l.seen.Wrong = "c", ""
	l.want(t, "it was mended", 1, Start)
	l.seen.Starts, l.seen.Begun = true, l.seen.At
	l.want(t, "it was started and stands still", 60, Kill)
}

func TestNextOfAPlanThatIsGone(t *testing.T) {
	l := newLooks()
	l.keeps("1")
	l.want(t, "it keeps", 5)
	l.seen.Plan = ""
	l.want(t, "the file was moved", 5)
	l.seen.Plan = "a"
	l.want(t, "and is there again", 20)
	under := true
	l.seen.UnderWay = func() bool { return under }
	l.seen.Plan = ""
	l.want(t, "it is gone, and a crossing is under way", 100)
	under = false
	l.want(t, "it has ended", 1, End)
	l.want(t, "it takes its time", 20)
	l.want(t, "it does not end", 11, End)
	l.seen.Process = ""
	l.want(t, "it did", 1, Forget)
}

// A standby is never replaced by a keeper: it is ended, and started again.
func TestNextOfAStandby(t *testing.T) {
	l := newLooks()
	l.want(t, "there is none", 1, Start)
	l.keeps("1")
	l.seen.Standby = true
	l.want(t, "it follows", 100)
	l.seen.Plan = "b"
	l.want(t, "the plan has changed", 1, End)
	l.want(t, "it takes its time", 29)
	l.want(t, "it does not end", 1, End)
	l.seen.Process = ""
	l.want(t, "it did", 1, Start)
	l.keeps("2")
	l.beat = false
	l.want(t, "it hangs", 31, Kill)
	l.seen.Process, l.beat = "", true
	l.want(t, "it was killed", 1, Start)
	l.keeps("3")
	l.want(t, "it follows again", 130)
	l.seen.Standby = false
	l.seen.Plan = "c"
	l.want(t, "it has taken over and is a keeper", 1, TakeOver)
}

// Who keeps a plan beside a terminal is left alone.
func TestNextOfAnothersKeeper(t *testing.T) {
	l := newLooks()
	l.keeps("1")
	l.seen.Stays, l.seen.Keeps = false, "older"
	l.want(t, "somebody's keeper", 200)
}
