package testkit

import (
	"sync"
	"testing"
	"time"
)

// Long skips a test that takes long, where only the short ones are wanted (go test -short, as make test does it): make
// long runs it.
func Long(t testing.TB) {
	t.Helper()
	if testing.Short() {
		t.Skip("it takes long: make long runs it")
	}
}

// Steadily holds a program to what only the times of a machine that goes on can show. What fails while the machine was
// held up, because others took its processors, says nothing of the program: it is tried again, and after the third time
// not judged. On a machine that goes on, a failure is one at once.
func Steadily(t *testing.T, try func() error) {
	t.Helper()
	StoodStill(time.Now())
	for range 3 {
		begun, late := time.Now(), lateness()
		err := try()
		if err == nil {
			return
		}
		held := float64(lateness()-late) / float64(time.Since(begun))
		if held < heldUp && StoodStill(begun) == 0 {
			t.Errorf("%v\n(the machine was held up %.1f %% of the time)", err, 100*held)
			return
		}
		t.Logf("the machine was held up %.1f %% of the time, while this failed: %v", 100*held, err)
	}
	t.Skip("not judged: the machine was held up again and again")
}

// heldUp is the part of the time in which a goroutine that wants to run could not, from which on a machine's times say
// nothing.
const heldUp = 0.15

var (
	pulse sync.Once
	beats struct {
		mu    sync.Mutex
		late  time.Duration
		still []pause
	}
)

// stillFor is how long a machine has to stand still for that to be a reason for what fails: keepers freeze a crossing
// that nobody watched for so long.
const stillFor = 2 * time.Second

// pause is when the machine stood still.
type pause struct {
	until time.Time
	took  time.Duration
}

// StoodStill is the longest that the machine has stood still at a time since then, 0 for less than two seconds. It is
// known from the first call on.
func StoodStill(since time.Time) (longest time.Duration) {
	pulse.Do(func() { go beat() })
	beats.mu.Lock()
	defer beats.mu.Unlock()
	for _, p := range beats.still {
		if p.until.After(since) {
			longest = max(longest, p.took)
		}
	}
	return longest
}

// lateness is by how much all beats were late until now.
func lateness() time.Duration {
	beats.mu.Lock()
	defer beats.mu.Unlock()
	return beats.late
}

// beat sleeps and works for a little again and again, and adds up how much longer that takes than at its fastest.
func beat() {
	const sleep = 10 * time.Millisecond
	fastest := time.Hour
	for {
		begun := time.Now()
		time.Sleep(sleep)
		x := uint64(1)
		for n := range uint64(1_000_000) { // some half a millisecond
			x ^= x<<13 + n
			x ^= x >> 7
		}
		took := time.Since(begun)
		if x == 0 { // it never is, and the work is done
			took = 0
		}
		fastest = min(fastest, took)
		beats.mu.Lock()
		beats.late += took - fastest
		if took-fastest >= stillFor {
			beats.still = append(beats.still, pause{time.Now(), took - fastest})
		}
		beats.mu.Unlock()
	}
}
