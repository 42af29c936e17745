package several

import (
	"fmt"
	"time"
)

// Seen is what one look at a plan, and at its keeper, found. Times are by a clock that nobody sets.
type Seen struct {
	At      time.Time
	Plan    string    // digest of what is to be kept; "" if the plan is gone
	Wrong   string    // why it cannot be kept
	Process string    // which process keeps it; "" if none does
	Keeps   string    // digest of what that keeps; "" if it does not say
	Stays   bool      // it does not end by itself
	Standby bool      // it only follows another machine's: it is ended and started, and nobody goes on in its place
	Beat    string    // changes as long as its loop goes round
	Memory  int64     // of its own, in bytes; 0 if it is not known
	Starts  bool      // a process that was started for it runs, and does not keep it yet
	Begun   time.Time // when that was
	// UnderWay reports whether a crossing is under way, which an end of its keeper would leave to itself.
	UnderWay func() bool
}

// Act is what is to be done about a keeper.
type Act string

// The acts.
const (
	Nothing  Act = ""
	Start    Act = "start"
	TakeOver Act = "take over" // another process goes on in its place
	Replace  Act = "replace"   // as well, and it is killed if it does not answer
	End      Act = "end"
	Kill     Act = "kill"   // the process that was started and does not get to keep it, or a standby that hangs
	Forget   Act = "forget" // plan and keeper are gone
)

// The limits.
const (
	leastPause = time.Second      // before a start that follows one
	mostPause  = time.Minute      //
	calmAfter  = 2 * time.Minute  // that a keeper has to run, and nothing to be tried, for pauses to be short again
	goneFor    = 10 * time.Second // that a plan has to be gone: who writes a file may move it
	stillFor   = 30 * time.Second // that a keeper may go without a beat
	startFor   = time.Minute      // that a process may take to keep it
	endEvery   = 30 * time.Second // between two tries to end one
	mostMemory = 1 << 30          // that a keeper may have of its own
)

// Keeper is what is known of a plan's keeper from one look to the next. The zero value knows nothing.
type Keeper struct {
	process string
	since   time.Time // it is that process
	beat    string
	round   time.Time // the beat changed
	tries   int       // in a row
	tried   time.Time // the last of them
	gone    time.Time // since when the plan is
	ended   time.Time // when it was last told to end
	said    string    // what was last said of it
}

// Next is what is to be done by what was seen, and why; the reason is told once as long as it stays the same.
func (k *Keeper) Next(s Seen) (act Act, why string) {
	if s.Process != k.process {
		k.process, k.since, k.beat, k.round = s.Process, s.At, s.Beat, s.At
	}
	if s.Beat != k.beat {
		k.beat, k.round = s.Beat, s.At
	}
	if s.Process != "" && s.At.Sub(k.since) >= calmAfter && s.At.Sub(k.tried) >= calmAfter {
		k.tries = 0
	}
	act, why = k.next(s)
	switch act {
	case Start, TakeOver, Replace:
		k.tries, k.tried = k.tries+1, s.At
	case End:
		k.ended = s.At
	}
	if act == Nothing && why == k.said {
		return act, ""
	}
	k.said = why
	return act, why
}

func (k *Keeper) next(s Seen) (Act, string) {
	if s.Plan != "" || s.Wrong != "" {
		k.gone = time.Time{}
	}
	switch {
	case s.Plan == "" && s.Wrong == "":
		return k.vanished(s)
	case s.Starts && s.At.Sub(s.Begun) >= startFor:
		return Kill, fmt.Sprintf("the process that was started does not keep it after %v", startFor)
	case s.Starts:
		return Nothing, ""
	case s.Process == "" && s.Wrong != "":
		return Nothing, s.Wrong
	case s.Process == "":
		if !k.paused(s.At) {
			return Start, ""
		}
		return Nothing, ""
	case s.Standby:
		return k.follows(s)
	case k.hangs(s) != "":
		if !k.paused(s.At) {
			return Replace, k.hangs(s)
		}
	case s.Wrong != "":
		return Nothing, "the keeper goes by the plan as it was: " + s.Wrong
	case !s.Stays: // it was started beside a terminal, and ends when nobody needs it
	case s.outdated() != "":
		if !k.paused(s.At) {
			return TakeOver, s.outdated()
		}
	}
	return Nothing, ""
}

// hangs is why what runs is taken for something that hangs, "" if it is not.
func (k *Keeper) hangs(s Seen) string {
	if still := s.At.Sub(k.round); still >= stillFor {
		return fmt.Sprintf("it has not gone round for %v", still.Round(time.Second))
	}
	return ""
}

// outdated is why another process is to run in place of this one, "" for no reason.
func (s Seen) outdated() string {
	switch {
	case s.Memory > mostMemory:
		return fmt.Sprintf("it takes %d MiB of memory", s.Memory>>20)
	case s.Keeps != "" && s.Keeps != s.Plan:
		return "the plan has changed"
	}
	return ""
}

// follows is what is to be done about a standby: one that is ended is started again.
func (k *Keeper) follows(s Seen) (Act, string) {
	switch {
	case k.hangs(s) != "":
		return Kill, k.hangs(s)
	case s.Wrong != "":
		return Nothing, "the standby goes by the plan as it was: " + s.Wrong
	case s.outdated() == "", k.justEnded(s.At):
		return Nothing, k.said
	}
	return End, s.outdated()
}

// justEnded reports whether it was told to end a moment ago.
func (k *Keeper) justEnded(now time.Time) bool {
	return !k.ended.IsZero() && now.Sub(k.ended) < endEvery
}

// vanished is what is to be done where there is no plan any more.
func (k *Keeper) vanished(s Seen) (Act, string) {
	if k.gone.IsZero() {
		k.gone = s.At
	}
	switch {
	case s.Process == "" && !s.Starts:
		return Forget, ""
	case s.At.Sub(k.gone) < goneFor, k.justEnded(s.At):
		return Nothing, k.said
	case s.UnderWay():
		return Nothing, "its plan is gone; the keeper goes on until the crossing has ended"
	}
	return End, "its plan is gone"
}

// paused reports whether the last start was not long enough ago: each that failed doubles the pause.
func (k *Keeper) paused(now time.Time) bool {
	if k.tries == 0 {
		return false
	}
	return now.Sub(k.tried) < min(leastPause<<min(k.tries-1, 10), mostPause)
}
