package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"math"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"vaiven/internal/world/check"
	"vaiven/internal/world/delivered"
	"vaiven/internal/world/durable"
	"vaiven/internal/world/place"
)

// Fault is a way in which a release goes bad.
type Fault string

// The faults.
const (
	None         Fault = "none"
	NeverHealthy Fault = "never-healthy" // runs, but its health check never passes
	Errors       Fault = "errors"        // one answer in six has status 500
	Crash        Fault = "crash"         // ends in the middle of its work
	Slow         Fault = "slow"          // one answer in six takes most of a second
	Hang         Fault = "hang"          // one in six never comes
	OneBad       Fault = "one-bad"       // one of the instances fails half of its answers
	Leak         Fault = "leak"          // memory is never given back
	Unbooked     Fault = "unbooked"      // searches are well, and half as many of them end in a booking
)

// Faults lists all faults.
var Faults = []Fault{None, NeverHealthy, Errors, Crash, Slow, Hang, OneBad, Leak, Unbooked}

// passengerCookie tells passengers from one another, and from checks and probes.
const passengerCookie = "passenger"

// faultFile is where a build's folder says how the build is bad; nobody looks there.
const faultFile = ".fault"

// Trouble is something that befalls a release while it serves, whoever asks.
type Trouble struct {
	Kind TroubleKind
	Part float64       // of the answers, in [0, 1]: of Failing, Slower, Page, Busy and Cut; 0, of Slower: all of them
	More time.Duration // that each answer takes: of Slower

	// Which searches it befalls: all, where they are not set.
	Instance string        // of the instance whose name ends so
	Method   string        // with this method
	Query    string        // with this in the query
	Group    string        // of passengers who say this in [GroupHeader]
	Every    time.Duration // it comes and goes: there for so long, and not there for so long
}

// GroupHeader is where passengers say which group they are of.
const GroupHeader = "Passenger-Group"

// befalls reports whether a trouble befalls a search at an instance.
func (t *Trouble) befalls(instance string, r *http.Request, at time.Time) bool {
	return strings.HasSuffix(instance, t.Instance) && (t.Method == "" || r.Method == t.Method) &&
		strings.Contains(r.URL.RawQuery, t.Query) &&
		(t.Group == "" || r.Header.Get(GroupHeader) == t.Group) && (t.Every == 0 || at.UnixNano()/int64(t.Every)%2 == 0)
}

// TroubleKind is a kind of trouble.
type TroubleKind string

// The kinds. The health check passes with all of them but Hanging and Ill.
const (
	NoTrouble   TroubleKind = "none"
	Failing     TroubleKind = "failing"      // answers have status 500
	Hanging     TroubleKind = "hanging"      // nothing is answered any more
	PageHanging TroubleKind = "page-hanging" // searches are not
	Slower      TroubleKind = "slower"       // searches take longer
	Wrong       TroubleKind = "wrong"        // searches are answered with status 200 and nothing in it
	Page        TroubleKind = "page"         // searches are answered with status 200 and a page that says sorry
	Busy        TroubleKind = "busy"         // searches are answered with status 503, and when to come again
	Cut         TroubleKind = "cut"          // searches are answered with status 200, and broken off in the middle
	Ill         TroubleKind = "ill"          // the health check fails, and searches are well
)

// troubleOf is where it is said what has befallen a build: beside the builds, which stay as
// they were made.
func troubleOf(folder string) string {
	return filepath.Join(folder, "..", "..", "trouble-"+filepath.Base(folder))
}

// Befall has a trouble befall the instances of a version that run, within a tenth of a second.
func (s *Scenario) Befall(version string, t Trouble) error {
	data, err := json.Marshal(t)
	if err != nil {
		return err
	}
	return durable.WriteFile(troubleOf(filepath.Join(s.Folder, "builds", version)), data)
}

// befallen looks again and again what has befallen the build in a folder.
func (a *App) befallen(ctx context.Context, folder string) {
	ticker := time.NewTicker(100 * time.Millisecond)
	defer ticker.Stop()
	for {
		t := &Trouble{}
		if data, err := os.ReadFile(troubleOf(folder)); err == nil {
			_ = json.Unmarshal(data, t) // what cannot be read is no trouble
		}
		a.trouble.Store(t)
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

// Home takes what the folder of a build says of it: its digest, and how it is bad.
func (a *App) Home(folder string) (err error) {
	a.folder = folder
	if a.Build, err = delivered.Digest(folder); err != nil {
		return err
	}
	text, err := os.ReadFile(filepath.Join(folder, faultFile))
	a.Fault = Fault(text)
	return err
}

// crashAfter is how many searches the first instance with the fault answers.
const crashAfter = 60

// App is the sailing search.
type App struct {
	Version  string
	Instance string
	Build    string // what it says it was built as
	Runtime  string
	Fault    Fault

	searches atomic.Int64 // of passengers
	booked   prometheus.Counter
	leaked   leaked
	folder   string // of the build, "" if there is none
	trouble  atomic.Pointer[Trouble]
}

// sailing is one line of an answer.
type sailing struct {
	Ship    string `json:"ship"`
	From    string `json:"from"`
	To      string `json:"to"`
	Departs string `json:"departs"`
	Price   int    `json:"price"` // in cents
}

var (
	ships   = []string{"Aurelia", "Brisa", "Cormorán", "Dorothea", "Estela", "Fata"}
	islands = []string{"Marenda", "Isla Perdix", "Quillon", "Sant Orso", "Tamarell", "Vessa"}
)

// Listen answers searches until the context ends, then finishes those that are
// open. Where there is a queue to work on, it prints the tickets of its bookings as well.
func (a *App) Listen(ctx context.Context, address string, w Work) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return err
	}
	fmt.Printf("%s listens on %s\n", a.Version, address)
	a.trouble.Store(&Trouble{})
	if a.folder != "" {
		go a.befallen(ctx, a.folder)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /healthz", a.health)
	mux.HandleFunc("GET /about", a.about)
	told := prometheus.NewRegistry()
	answered := prometheus.NewCounterVec(prometheus.CounterOpts{Name: "sailings_requests_total",
		Help: "Searches that were answered, by status."}, []string{"code"})
	open := prometheus.NewGauge(prometheus.GaugeOpts{Name: "sailings_requests_open",
		Help: "Searches that are being answered."})
	answered.WithLabelValues("200")
	told.MustRegister(answered, open)
	counted := promhttp.InstrumentHandlerInFlight(open,
		promhttp.InstrumentHandlerCounter(answered, http.HandlerFunc(a.search)))
	mux.HandleFunc("POST /sailings", counted.ServeHTTP)
	mux.HandleFunc("GET /sailings", func(w http.ResponseWriter, r *http.Request) {
		if here, ok := r.Context().Value(http.LocalAddrContextKey).(net.Addr); ok && r.Host == here.String() {
			a.search(w, r) // it is asked for itself, as checks do, and not for the service
			return
		}
		counted.ServeHTTP(w, r)
	})
	if w.Broker != "" {
		go a.print(ctx, w, counted)
	}
	a.booked = prometheus.NewCounter(prometheus.CounterOpts{Name: "sailings_booked_total",
		Help: "Searches that ended in a booking."})
	told.MustRegister(a.booked, collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	mux.Handle("GET /metrics", promhttp.HandlerFor(told, promhttp.HandlerOpts{}))
	srv := &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second, IdleTimeout: 2 * time.Minute}
	stopped := context.AfterFunc(ctx, func() {
		grace, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		_ = srv.Shutdown(grace) // what is open after that is cut off by the exit
	})
	defer stopped()
	if err := srv.Serve(l); err != http.ErrServerClosed {
		return err
	}
	return nil
}

// crashAfter is how many searches this instance answers before it crashes: the first
// one soonest, so that they do not all go at once.
func (a *App) crashAfter() int64 {
	_, number, _ := strings.Cut(a.Instance, "-")
	n, err := strconv.ParseInt(number, 10, 64)
	if err != nil {
		n = 1
	}
	return crashAfter * n
}

func (a *App) health(w http.ResponseWriter, r *http.Request) {
	t := a.trouble.Load()
	if t.Kind == Hanging {
		<-r.Context().Done()
		return
	}
	if a.Fault == NeverHealthy || t.Kind == Ill {
		http.Error(w, "no connection to the timetable", http.StatusServiceUnavailable)
		return
	}
	fmt.Fprintln(w, "well")
}

func (a *App) search(w http.ResponseWriter, r *http.Request) {
	// A log-normal time around 9 ms with a thin tail, as searches take.
	took := time.Duration(9 * math.Exp(rand.NormFloat64()*0.35) * float64(time.Millisecond))
	status := http.StatusOK
	// A release that is bad for passengers alone is the one that checks do not find.
	if _, err := r.Cookie(passengerCookie); err == nil {
		n := a.searches.Add(1)
		if rand.IntN(5) == 0 && (a.Fault != Unbooked || rand.IntN(2) == 0) {
			defer a.booked.Inc()
		}
		switch {
		case rand.IntN(1500) == 0: // as in every real service, now and then
			status = http.StatusInternalServerError
		case a.Fault == Errors && rand.IntN(6) == 0:
			status = http.StatusInternalServerError
		case a.Fault == OneBad && strings.HasSuffix(a.Instance, "-2") && rand.IntN(2) == 0:
			status = http.StatusInternalServerError
		case a.Fault == Hang && rand.IntN(6) == 0:
			<-r.Context().Done()
			return
		case a.Fault == Leak:
			a.leaked.more()
		case a.Fault == Slow && rand.IntN(6) == 0:
			took += 600 * time.Millisecond
		case a.Fault == Crash && n > a.crashAfter():
			fmt.Println("panic: berth 14 is nil")
			os.Exit(3)
		}
	}
	t := a.trouble.Load()
	if !t.befalls(a.Instance, r, time.Now()) {
		t = &Trouble{}
	}
	took = min(took, time.Second)
	switch t.Kind {
	case Hanging, PageHanging:
		<-r.Context().Done()
		return
	case Slower:
		if t.Part == 0 || rand.Float64() < t.Part {
			took += t.More
		}
	case Failing:
		if rand.Float64() < t.Part {
			status = http.StatusInternalServerError
		}
	}
	select {
	case <-time.After(took):
	case <-r.Context().Done():
		return
	}
	w.Header().Set("X-Sailings-Version", a.Version)
	if status != http.StatusOK {
		http.Error(w, "the timetable does not answer", status)
		return
	}
	if t.Kind == Busy && rand.Float64() < t.Part {
		w.Header().Set("Retry-After", "2")
		http.Error(w, "come again", http.StatusServiceUnavailable)
		return
	}
	if t.Kind == Page && rand.Float64() < t.Part {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintln(w, "<h1>Sorry, something went wrong</h1>")
		return
	}
	if t.Kind == Wrong {
		a.say(w, map[string]any{"error": "no timetable"})
		return
	}
	if t.Kind == Cut && rand.Float64() < t.Part {
		w.Header().Set("Content-Length", "2000")
		_, _ = w.Write(bytes.Repeat([]byte(" "), 1000))
		_ = http.NewResponseController(w).Flush()
		panic(http.ErrAbortHandler)
	}
	answer := map[string]any{"version": a.Version, "instance": a.Instance, "company": "Linea Vessa",
		"sailings": a.sailings(r)}
	a.say(w, answer)
}

// leaked is memory that is never given back, up to what a machine for a demo can bear.
type leaked struct {
	mu   sync.Mutex
	held [][]byte
}

const (
	leakedEach = 20 << 10 // bytes of a search
	leakedMost = 10000    // searches
)

func (l *leaked) more() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.held) < leakedMost {
		l.held = append(l.held, bytes.Repeat([]byte{1}, leakedEach))
	}
}

// sailings are those of a day between two islands: the same to whoever asks.
func (a *App) sailings(r *http.Request) []sailing {
	q := r.URL.Query()
	seed := fnv.New64a()
	fmt.Fprint(seed, q.Get("from"), q.Get("to"))
	draw := rand.New(rand.NewPCG(seed.Sum64(), 7))
	list := make([]sailing, 3)
	for i := range list {
		from := draw.IntN(len(islands))
		list[i] = sailing{
			Ship: ships[draw.IntN(len(ships))], From: islands[from],
			To:      islands[(from+1+draw.IntN(len(islands)-1))%len(islands)],
			Departs: fmt.Sprintf("%02d:%02d", 6+draw.IntN(14), 5*draw.IntN(12)), Price: 900 + 50*draw.IntN(60),
		}
		if a.Runtime == newRuntime && list[i].Price%100 != 0 {
			list[i].Price += 50 // the new runtime rounds to whole coins
		}
	}
	return list
}

// about is what an instance says of itself.
func (a *App) about(w http.ResponseWriter, _ *http.Request) {
	a.say(w, map[string]any{"version": a.Version, "build": a.Build, "runtime": a.Runtime})
}

func (a *App) say(w http.ResponseWriter, answer any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(answer) // a passenger who left needs no answer
}

// Fares is the server that sailing searches depend on: it takes connections and
// says that it is there.
func Fares(ctx context.Context, address string) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return err
	}
	defer context.AfterFunc(ctx, func() { _ = l.Close() })()
	for {
		c, err := l.Accept()
		if err != nil {
			return ctx.Err()
		}
		fmt.Fprintln(c, "fares of Linea Vessa")
		_ = c.Close()
	}
}

// Reach looks whether a build reaches the server of the fares where its
// configuration says it is.
func Reach(ctx context.Context, configuration string) error {
	data, err := os.ReadFile(configuration)
	if err != nil {
		return err
	}
	var c struct {
		Fares struct {
			Address string `yaml:"address"`
		} `yaml:"fares"`
	}
	if err := yaml.Unmarshal(data, &c); err != nil {
		return err
	}
	conn, err := place.Local{}.Dial(ctx, "tcp", c.Fares.Address)
	if err != nil {
		return fmt.Errorf("fares at %s: %s", c.Fares.Address, check.Words(err))
	}
	return conn.Close()
}
