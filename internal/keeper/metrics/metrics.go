package metrics

import (
	"context"
	"log/slog"
	"net/http"
	"strconv"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/keeper"
	"vaiven/internal/world/page"
)

// Told is what the page needs of a keeper.
type Told interface {
	// Now is the newest snapshot.
	Now() keeper.Snapshot
	// FrontRead is the last reading of the front; its time is zero if there was none.
	FrontRead() reading.Front
	// Outcomes is how many crossings of the logbook have ended how.
	Outcomes(context.Context) (map[crossing.Stage]int, error)
}

// The figures. Each has the label service; an instance's label is its name, since Prometheus has another use for
// "instance".
var (
	share    = describe("share_ratio", "Part of the requests that a side gets, as the front has it.", "side")
	stage    = describe("stage", "1 for the stage that the service is in: resting if nothing is crossing.", "stage")
	number   = describe("crossing_number", "Number of the last crossing.")
	asks     = describe("asks", "1 while a person is asked something.")
	frozen   = describe("frozen", "1 while the route stands still.")
	standbys = describe("standbys", "Standbys that follow the keeper.")
	proven   = describe("proven", "1 while the side crossed to has passed its proof.")
	wayOut   = describe("way_back", "1 for the state that the way back is in.", "state")
	home     = describe("home_seconds", "How long the last rehearsal of a rollback took.")
	state    = describe("guard_state", "1 for the state that a guard is in.", "guard", "state")
	proof    = describe("guard_evidence", "Evidence that the new side is worse, as a power of ten.", "guard")
	needed   = describe("guard_evidence_needed", "The power of ten at which the guard trips.", "guard")
	healthy  = describe("instances_healthy", "Healthy instances of a side.", "side")
	wanted   = describe("instances_wanted", "Instances that a side is to have.", "side")
	ended    = describe("crossings_total", "Crossings of the logbook by how they ended.", "outcome")
	read     = describe("front_read_timestamp_seconds", "When the front was read last.")
	answered = describe("front_requests_total", "Requests that an instance answered through the front, by the class of status.",
		"side", "name", "class")
	lost = describe("front_lost_requests_total", "Requests of a side that got no instance's answer.", "side")
	took = describe("front_answer_seconds", "Times to the first byte of answers through the front.", "side", "name")
)

func describe(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("vaiven_"+name, help, append([]string{"service"}, labels...), nil)
}

// stages are those that a service can be in.
var stages = []crossing.Stage{crossing.Raising, crossing.Proving, crossing.Shifting, crossing.Keeping}

// states are those that a guard can be in.
var states = []guard.State{guard.Off, guard.Idle, guard.Unknown, guard.Clear, guard.Watching, guard.Tripped}

// Resting is the stage of a service that is not crossing.
const Resting = "resting"

// collector tells what a keeper knows whenever somebody asks for it.
type collector struct {
	service string
	keeper  Told
}

// Describe names no figure: which there are depends on the front. It makes collector a [prometheus.Collector].
func (c collector) Describe(chan<- *prometheus.Desc) {}

// Collect tells all of them.
func (c collector) Collect(to chan<- prometheus.Metric) {
	s := c.keeper.Now()
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, append([]string{c.service}, labels...)...)
	}
	is := func(b bool) float64 {
		if b {
			return 1
		}
		return 0
	}
	if !s.Front.At.IsZero() {
		for _, side := range split.Sides {
			gauge(share, s.Front.Split.Share.Of(side).Fraction(), side.String())
		}
		gauge(read, float64(s.Front.At.UnixMilli())/1000)
	}
	under := s.Crossing.Stage.UnderWay()
	for _, of := range stages {
		gauge(stage, is(under && s.Crossing.Stage == of), string(of))
	}
	gauge(stage, is(!under), Resting)
	gauge(number, float64(s.Crossing.Number))
	gauge(asks, is(s.Crossing.Question.ID != 0))
	gauge(frozen, is(s.Crossing.Frozen()))
	gauge(standbys, float64(len(s.Standbys)))
	gauge(proven, is(under && s.Crossing.Proven))
	if s.WayBack.State != "" {
		for _, of := range []wayback.State{wayback.Open, wayback.Narrow, wayback.Closed} {
			gauge(wayOut, is(s.WayBack.State == of), string(of))
		}
	}
	for _, condition := range s.WayBack.Conditions {
		f, ok := condition.Is.(wayback.Front)
		if ok && !f.Rehearsal.At.IsZero() && f.Rehearsal.Failed == "" {
			gauge(home, f.Rehearsal.Took.Seconds())
		}
	}
	for _, g := range s.Guards {
		for _, of := range states {
			gauge(state, is(g.State == of), g.Name, string(of))
		}
		if g.Watch.Gathers() && g.Needed > 0 {
			gauge(proof, g.Evidence, g.Name)
			gauge(needed, g.Needed, g.Name)
		}
	}
	for _, side := range split.Sides {
		gauge(healthy, float64(s.Sides[side].Healthy), side.String())
		gauge(wanted, float64(s.Sides[side].Wanted), side.String())
	}
	c.outcomes(to)
	c.front(to)
}

// outcomes are the crossings by how they ended.
func (c collector) outcomes(to chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), readLimit)
	defer cancel()
	list, err := c.keeper.Outcomes(ctx)
	if err != nil {
		slog.Debug("crossings cannot be counted", "err", err)
		return
	}
	for _, of := range []crossing.Stage{crossing.Settled, crossing.RolledBack, crossing.CalledOff} {
		to <- prometheus.MustNewConstMetric(ended, prometheus.CounterValue, float64(list[of]), c.service, string(of))
	}
}

// bounds are those of the histogram of times, in seconds.
var bounds = []float64{0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10}

// front is what the front has counted, where it counts.
func (c collector) front(to chan<- prometheus.Metric) {
	r := c.keeper.FrontRead()
	if r.At.IsZero() || !r.Tells.Counts {
		return
	}
	count := func(d *prometheus.Desc, v int64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, float64(v),
			append([]string{c.service}, labels...)...)
	}
	for _, side := range split.Sides {
		count(lost, r.Sides[side].Lost, side.String())
		for _, i := range r.Sides[side].Instances {
			if i.Untold {
				continue
			}
			for class, n := range i.Status {
				if class > 0 {
					count(answered, n, side.String(), i.Name, strconv.Itoa(class)+"xx")
				}
			}
			if !r.Tells.Times || len(i.Latency) == 0 {
				continue
			}
			h, err := i.Histogram()
			if err != nil {
				continue
			}
			buckets, all, sum := map[float64]uint64{}, uint64(0), 0.0
			for _, b := range h.Distribution() {
				if b.Count == 0 {
					continue
				}
				at := float64(b.To) / 1e6
				all, sum = all+uint64(b.Count), sum+at*float64(b.Count)
				for _, bound := range bounds {
					if at <= bound {
						buckets[bound] += uint64(b.Count)
					}
				}
			}
			to <- prometheus.MustNewConstHistogram(took, all, sum, buckets, c.service, side.String(), i.Name)
		}
	}
}

// Handler is the page.
func Handler(service string, k Told) http.Handler {
	all := prometheus.NewRegistry()
	all.MustRegister(collector{service, k})
	return promhttp.HandlerFor(all, promhttp.HandlerOpts{EnableOpenMetrics: true})
}

// readLimit is how long the logbook may take.
const readLimit = 5 * time.Second

// Serve serves the page, and nothing else, at an address until the context ends.
func Serve(ctx context.Context, address, service string, k Told) {
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", Handler(service, k))
	page.Serve(ctx, page.Place{Address: address}, "the page of figures", mux)
}
