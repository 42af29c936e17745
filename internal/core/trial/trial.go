package trial

import (
	"maps"
	"math"
	"slices"
	"time"

	"vaiven/internal/core/split"
)

// The bounds of what is kept.
const (
	mostWindows = 240
	mostClients = 1 << 16
)

// Trial is one key on one stream of requests. Make it with New.
type Trial struct {
	shares  []split.Share
	start   time.Time
	width   time.Duration // of a window
	windows []window
	clients map[uint64]reach
	level   uint // only clients whose number ends in so many zero bits are kept
	total   window
	scales  []scale
	last    time.Time // of the requests that have been placed in time
	far     []asked   // that are far from it, until it is known whether time has moved on or one clock was wrong
	astray  int64
}

// asked is a request.
type asked struct {
	at     time.Time
	place  split.Place
	client uint64
}

const (
	// near is how far from the one before a request may lie without a second look.
	near = time.Hour
	// agreeing is how many requests in a row have to lie near each other, and far from the others,
	// for time to have moved on.
	agreeing = 5
)

// scale looks for bursts at one length of time: sums over its windows, from which the
// deviations from any share follow.
type scale struct {
	length   time.Duration
	window   int64 // number of the present one
	now      window
	windows  float64
	squares  float64   // of all requests
	products []float64 // of green and all requests, by share
	greens   []float64 // squares of green requests, by share
}

// scaleLengths are the lengths at which bursts are looked for.
var scaleLengths = []time.Duration{time.Second, 10 * time.Second, time.Minute}

// window is the requests of a time.
type window struct {
	all   int64
	green []int64 // by share
}

// reach is where a client's requests were placed, in basis points, and how many there were.
type reach struct {
	low, high uint16
	requests  uint32
}

// New makes a trial of some shares on green.
func New(shares []split.Share) *Trial {
	t := &Trial{shares: shares, width: time.Second, clients: map[uint64]reach{},
		total: window{green: make([]int64, len(shares))}}
	for _, length := range scaleLengths {
		t.scales = append(t.scales,
			scale{length: length, now: window{green: make([]int64, len(shares))},
				products: make([]float64, len(shares)), greens: make([]float64, len(shares))})
	}
	return t
}

// Add takes a request in: when it was made, where its key places it, and whose it was.
// Requests may come a little out of order. One whose time is far from the others' counts for nothing,
// unless those that follow agree with it.
func (t *Trial) Add(at time.Time, place split.Place, client uint64) {
	if !t.last.IsZero() && at.Sub(t.last).Abs() <= near {
		t.astray += int64(len(t.far))
		t.far = t.far[:0]
		t.add(at, place, client)
		return
	}
	if n := len(t.far); n > 0 && at.Sub(t.far[n-1].at).Abs() > near {
		t.astray += int64(n)
		t.far = t.far[:0]
	}
	if t.far = append(t.far, asked{at, place, client}); len(t.far) >= agreeing {
		t.settle()
	}
}

// settle places the requests that were far from the others, and agree.
func (t *Trial) settle() {
	for _, a := range t.far {
		t.add(a.at, a.place, a.client)
	}
	t.far = t.far[:0]
}

// add places a request in time.
func (t *Trial) add(at time.Time, place split.Place, client uint64) {
	if t.start.IsZero() {
		t.start = at
	}
	t.last = at
	point := uint16(split.Point(place))
	w := t.window(at)
	for k := range t.scales {
		t.scales[k].move(at)
		t.scales[k].now.all++
	}
	w.all++
	t.total.all++
	for n, s := range t.shares {
		if split.Share(point) < s {
			w.green[n]++
			t.total.green[n]++
			for k := range t.scales {
				t.scales[k].now.green[n]++
			}
		}
	}
	client = mix(client)
	if client&(1<<t.level-1) != 0 {
		return
	}
	switch r, known := t.clients[client]; {
	case !known:
		t.clients[client] = reach{point, point, 1}
	default:
		t.clients[client] = reach{min(r.low, point), max(r.high, point), r.requests + 1}
	}
	for len(t.clients) > mostClients {
		t.level++
		for c := range t.clients {
			if c&(1<<t.level-1) != 0 {
				delete(t.clients, c)
			}
		}
	}
}

// window is the one that a time falls into. They are joined in pairs when there are too
// many.
func (t *Trial) window(at time.Time) *window {
	n := int(at.Sub(t.start) / t.width)
	n = max(n, 0)
	for n >= mostWindows {
		var joined []window
		for k := 0; k < len(t.windows); k += 2 {
			w := t.windows[k]
			if k+1 < len(t.windows) {
				w.all += t.windows[k+1].all
				for s := range w.green {
					w.green[s] += t.windows[k+1].green[s]
				}
			}
			joined = append(joined, w)
		}
		t.windows, t.width, n = joined, 2*t.width, n/2
	}
	for len(t.windows) <= n {
		t.windows = append(t.windows, window{green: make([]int64, len(t.shares))})
	}
	return &t.windows[n]
}

// move goes on to the window of a time, and adds up the one before. A request from
// before counts with the present ones.
func (s *scale) move(at time.Time) {
	n := at.UnixNano() / int64(s.length)
	if n <= s.window {
		return
	}
	s.close()
	s.window = n
}

// close adds up the present window.
func (s *scale) close() {
	if s.now.all == 0 {
		return
	}
	all := float64(s.now.all)
	s.windows++
	s.squares += all * all
	for n, g := range s.now.green {
		s.products[n] += float64(g) * all
		s.greens[n] += float64(g) * float64(g)
		s.now.green[n] = 0
	}
	s.now.all = 0
}

// bursts reports whether whole windows go to one side: requests of a window go together
// more than half as much as if all of them did, and far more than by chance.
func (s *scale) bursts(n int, p float64, requests int64) bool {
	if p <= 0 || p >= 1 || s.windows < leastWindows {
		return false
	}
	deviation := s.greens[n] - 2*p*s.products[n] + p*p*s.squares
	chance := p * (1 - p) * float64(requests)
	together := deviation / (p * (1 - p) * s.squares)
	return deviation > bursty*bursty*chance && together > 0.25
}

// leastWindows is how many windows there have to be to speak of bursts.
const leastWindows = 5

// mix spreads numbers over all bits (the finaliser of SplitMix64; Steele, Lea, Flood,
// 2014).
func mix(x uint64) uint64 {
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

// Result is what a trial came to.
type Result struct {
	Requests int64 `json:"requests"`
	Clients  int64 `json:"clients"`
	// of the number of clients, in clients: one standard deviation; 0 if they were counted
	Error float64 `json:"clients_error"`
	// requests whose time is far from all others': they count for nothing
	Astray int64         `json:"astray,omitempty"`
	Span   time.Duration `json:"span_ns"`
	Window time.Duration `json:"window_ns"`
	Shares []ShareResult `json:"shares"`
}

// ShareResult is what a key does at one share. Fractions are of all requests.
type ShareResult struct {
	Share    split.Share `json:"share"`    // asked for, on green
	Achieved float64     `json:"achieved"` // fraction on green
	// Spread is how much the fraction on green differs from window to window (one
	// standard deviation), and Chance how much it would by chance alone.
	Spread float64 `json:"spread"`
	Chance float64 `json:"chance"`
	// Bursts is the length of time whose requests go to one side together, the shortest at
	// which that shows; 0 if they do not.
	Bursts time.Duration `json:"bursts_ns"`
	Split  int64         `json:"clients_split"` // clients with requests on both sides
	// of it, in clients: one standard deviation; 0 if they were counted
	SplitError  float64 `json:"clients_split_error,omitempty"`
	ChangeError float64 `json:"clients_change_error,omitempty"` // of Change
	// Change is clients of whom some request changes sides at the next share of the list,
	// or at 100 % after the last.
	Change int64 `json:"clients_change"`
	// Even is how long it took until the fraction on green so far stayed within two
	// percentage points of the share; negative if it never did.
	Even    time.Duration `json:"even_ns"`
	Windows []float64     `json:"windows"` // fraction on green, window by window; -1 where there were no requests
}

// evenWithin is how near to the share an even split is, as a fraction of all requests.
const evenWithin = 0.02

// bursty is how many times the deviation of chance one is that shows.
const bursty = 3

// Result is what the requests so far come to.
func (t *Trial) Result() Result {
	if t.last.IsZero() {
		t.settle() // there are no others
	}
	r := Result{Astray: t.astray + int64(len(t.far)), Requests: t.total.all, Clients: int64(len(t.clients)) << t.level,
		Window: t.width, Span: time.Duration(len(t.windows)) * t.width}
	r.Error = t.deviation(int64(len(t.clients)))
	for n, share := range t.shares {
		r.Shares = append(r.Shares, t.share(n, share))
	}
	return r
}

func (t *Trial) share(n int, share split.Share) ShareResult {
	r := ShareResult{Share: share, Even: -1}
	if t.total.all == 0 {
		return r
	}
	p := float64(t.total.green[n]) / float64(t.total.all)
	r.Achieved = p
	var squares, chance, used float64
	green, all := int64(0), int64(0)
	for k, w := range t.windows {
		seen := -1.0
		if w.all > 0 {
			seen = float64(w.green[n]) / float64(w.all)
			squares += (seen - p) * (seen - p)
			chance += p * (1 - p) / float64(w.all)
			used++
		}
		r.Windows = append(r.Windows, seen)
		green, all = green+w.green[n], all+w.all
		switch even := all > 0 && math.Abs(float64(green)/float64(all)-share.Fraction()) <= evenWithin; {
		case even && r.Even < 0:
			r.Even = time.Duration(k+1) * t.width
		case !even:
			r.Even = -1
		}
	}
	r.Spread, r.Chance = math.Sqrt(squares/used), math.Sqrt(chance/used)
	for k := len(t.scales) - 1; k >= 0; k-- {
		if s := t.scales[k]; s.bursts(n, p, t.total.all-s.now.all) {
			r.Bursts = s.length
		}
	}
	next := split.Whole
	for _, s := range t.shares {
		if s > share && s < next {
			next = s
		}
	}
	for _, c := range t.clients {
		low, high := split.Share(c.low), split.Share(c.high)
		if low < share && high >= share {
			r.Split++
		}
		if low < next && high >= share {
			r.Change++
		}
	}
	r.SplitError, r.ChangeError = t.deviation(r.Split), t.deviation(r.Change)
	r.Split, r.Change = r.Split<<t.level, r.Change<<t.level
	return r
}

// deviation is that of a number of clients which is made out from so many that were kept, each of
// which stands for 2^level: of n in all, kept with the chance p each, about n·p are, with the variance
// n·p·(1-p). Of none it is as of one.
func (t *Trial) deviation(kept int64) float64 {
	p := 1 / float64(uint64(1)<<t.level)
	return math.Sqrt(max(float64(kept), 1)*(1-p)) / p
}

// Asking is how many clients there are, the time that they were seen in, and how much some of them
// ask, which stand for all: in requests a second, at most so many.
func (t *Trial) Asking(most int) (clients int, span time.Duration, asks []float64) {
	span = time.Duration(len(t.windows)) * t.width
	if span <= 0 {
		return 0, 0, nil
	}
	// by their hashes, which says nothing of how much they ask
	for _, client := range slices.Sorted(maps.Keys(t.clients)) {
		if len(asks) == most {
			break
		}
		asks = append(asks, float64(t.clients[client].requests)/span.Seconds())
	}
	return len(t.clients) << t.level, span, asks
}
