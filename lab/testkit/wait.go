package testkit

import (
	"os"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"
)

// waitLimit is how long a wait goes on, in time of a processor that is free for it: see [Available].
const waitLimit = 60 * time.Second

// A Wait is a test's wait for something outside of it: a program, a server, a screen. Nothing else in tests waits.
//
//	for w := testkit.Waiting(t, "the front answers"); !answers(); w.Again() {
//	}
//
// It fails the test after a minute of processor time that was really available, so that the same limit holds on a busy
// machine. It is for one goroutine.
type Wait struct {
	t      testing.TB
	what   string
	begun  time.Time
	had    time.Duration // of processor time until it began
	last   any           // what was seen last
	far    int64         // by Goes
	tries  int
	looked time.Time // when it began to look last
}

// Waiting begins a wait.
func Waiting(t testing.TB, what string) *Wait {
	t.Helper()
	return &Wait{t: t, what: what, begun: time.Now(), looked: time.Now(), had: Available()}
}

// Again returns in a moment, to look again; at the limit it fails the test.
func (w *Wait) Again() {
	w.t.Helper()
	w.check()
	w.tries++
	// Between two looks, not to be right: a look that starts a program has a pause that lets others work.
	time.Sleep(min(max(10*time.Millisecond, 2*time.Since(w.looked)), time.Second/2))
	w.looked = time.Now()
}

func (w *Wait) check() {
	w.t.Helper()
	if used := Available() - w.had; used > waitLimit {
		w.t.Fatalf("%s: not so after %v, in which %v of a processor were available; last seen: %v", w.what,
			time.Since(w.begun).Round(time.Second), used.Round(time.Second), w.last)
	}
}

// Goes says how far it has come, and returns at once: where that is further than before, the limit counts from now on.
func (w *Wait) Goes(far int64) {
	w.t.Helper()
	if far > w.far {
		w.far, w.begun, w.had = far, time.Now(), Available()
	}
	w.check()
}

// Tries is how often it has looked again.
func (w *Wait) Tries() int { return w.tries }

// Last says what was seen last, for the message at the limit.
func (w *Wait) Last(seen any) { w.last = seen }

// Until waits until a try goes well; it is tried again and again.
func Until(t testing.TB, what string, try func() error) {
	t.Helper()
	for w := Waiting(t, what); ; w.Again() {
		err := try()
		if err == nil {
			return
		}
		w.Last(err)
	}
}

// Eventually waits until a condition holds. It is asked again and again.
func Eventually(t testing.TB, what string, ok func() bool) {
	t.Helper()
	for w := Waiting(t, what); !ok(); w.Again() {
	}
}

var (
	pulse sync.Once
	beats struct {
		mu        sync.Mutex
		available time.Duration
		still     []pause
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

// Available is how much time of one processor this program could have had until now, from the first call on: less than
// the time that has passed where others want to run, or where the machine stands still.
func Available() time.Duration {
	pulse.Do(func() { go beat() })
	beats.mu.Lock()
	defer beats.mu.Unlock()
	return beats.available
}

// beat sleeps again and again, and adds up how much of that time was this program's to have.
func beat() {
	const sleep = 50 * time.Millisecond
	for {
		begun := time.Now()
		time.Sleep(sleep) // it is what is measured
		late := time.Since(begun) - sleep
		beats.mu.Lock()
		beats.available += time.Duration(float64(sleep) * share())
		if late >= stillFor {
			beats.still = append(beats.still, pause{time.Now(), late})
		}
		beats.mu.Unlock()
	}
}

// share is the part of a processor that each thread that wants to run has at this moment, by the number of them
// (proc_loadavg(5)).
func share() float64 {
	text, err := os.ReadFile("/proc/loadavg")
	if err != nil {
		return 1
	}
	f := strings.Fields(string(text))
	if len(f) < 4 {
		return 1
	}
	wanting, _, _ := strings.Cut(f[3], "/")
	n, err := strconv.Atoi(wanting)
	if err != nil || n <= runtime.NumCPU() {
		return 1
	}
	return float64(runtime.NumCPU()) / float64(n)
}
