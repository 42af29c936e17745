package embedded

import (
	"fmt"
	"io"
	"net/http"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/lab/testkit"
)

// crowdOfClients asks again and again until it is stopped, and counts what came
// of it.
type crowdOfClients struct {
	wait   sync.WaitGroup
	stop   chan struct{}
	asked  atomic.Int64
	lost   atomic.Int64
	reason atomic.Pointer[string]
}

// ask starts n clients. check sees each answer with what the clients' watch said
// before and after.
func (c *crowdOfClients) ask(n int, url string, keepAlive bool, watch *atomic.Int64,
	check func(before, after int64, body string)) {
	if c.stop == nil {
		c.stop = make(chan struct{})
	}
	for range n {
		client := &http.Client{
			Transport: &http.Transport{DisableKeepAlives: !keepAlive, MaxIdleConnsPerHost: 1},
			Timeout:   20 * time.Second,
		}
		c.wait.Go(func() {
			defer client.CloseIdleConnections()
			for {
				select {
				case <-c.stop:
					return
				default:
				}
				before := watch.Load()
				body, err := once(client, url)
				c.asked.Add(1)
				if err != nil {
					c.lost.Add(1)
					text := err.Error()
					c.reason.Store(&text)
					continue
				}
				check(before, watch.Load(), body)
			}
		})
	}
}

func (c *crowdOfClients) end() {
	close(c.stop)
	c.wait.Wait()
}

// once makes a request; anything but a whole answer with status 200 is an error.
func once(client *http.Client, url string) (string, error) {
	w, err := client.Get(url)
	if err != nil {
		return "", err
	}
	defer w.Body.Close()
	body, err := io.ReadAll(w.Body)
	if err == nil && w.StatusCode != http.StatusOK {
		err = fmt.Errorf("status %d: %s", w.StatusCode, body)
	}
	return string(body), err
}

// To and fro sixty times under load: nothing is lost, and no request that
// began after a switch was answered by the side that was left.
func TestSwitchingLosesNothing(t *testing.T) {
	url, c, _, _ := twoSides(t, nil)
	var phase atomic.Int64 // even: all on blue, odd: all on green; negative: being switched
	var strays atomic.Int64
	check := func(before, after int64, body string) {
		if before != after || before < 0 {
			return // it was switched meanwhile
		}
		if want := []string{"blue-1", "green-1"}[before%2]; body != want {
			strays.Add(1)
		}
	}
	var clients crowdOfClients
	clients.ask(24, url, true, &phase, check)
	clients.ask(4, url, false, &phase, check)
	const switches = 60
	for n := int64(1); n <= switches; n++ {
		answered := clients.asked.Load()
		for w := testkit.Waiting(t, "clients go on"); clients.asked.Load() < answered+50; w.Again() {
		}
		phase.Store(-1)
		setShare(t, c, split.Share(n%2)*split.Whole)
		phase.Store(n)
	}
	clients.end()
	if n := clients.lost.Load(); n > 0 {
		t.Errorf("%d of %d requests were lost, such as: %s", n, clients.asked.Load(), *clients.reason.Load())
	}
	if n := strays.Load(); n > 0 {
		t.Errorf("%d requests that began after a switch were answered by the side that was left", n)
	}
	r := read(t, c)
	if r.Sides[split.Blue].Lost+r.Sides[split.Green].Lost > 0 {
		t.Errorf("the front counts %d and %d lost", r.Sides[split.Blue].Lost, r.Sides[split.Green].Lost)
	}
	t.Logf("%d requests over %d switches", clients.asked.Load(), switches)
}

// An instance that is killed under load loses only what was in flight on it.
func TestAKilledInstanceLosesOnlyWhatWasInFlight(t *testing.T) {
	const asking = 16
	killed := make(chan struct{})
	hold := func(in *atomic.Int64) http.HandlerFunc { // what comes here stays in flight until then
		return func(w http.ResponseWriter, r *http.Request) {
			in.Add(1)
			<-killed
			fmt.Fprint(w, "fine")
		}
	}
	var there, elsewhere atomic.Int64
	victim, other := newBackend(t, "blue-1", "1", hold(&there)), newBackend(t, "blue-2", "1", hold(&elsewhere))
	url, c, _ := open(t, nil)
	putInstances(t, c, split.Blue, victim, other)
	var clients crowdOfClients
	var watch atomic.Int64
	clients.ask(asking, url, true, &watch, func(int64, int64, string) {})
	testkit.Eventually(t, "each client has a request in flight", func() bool { return there.Load()+elsewhere.Load() == asking })
	most := there.Load()
	victim.Listener.Close()
	victim.CloseClientConnections()
	close(killed)
	was := clients.asked.Load()
	testkit.Eventually(t, "clients go on", func() bool { return clients.asked.Load() >= was+500 })
	clients.end()
	if n := clients.lost.Load(); n != most || most == 0 {
		t.Errorf("%d requests were lost, %d were in flight: %s", n, most, *clients.reason.Load())
	}
}

func BenchmarkEnter(b *testing.B) {
	t := &table{}
	for _, side := range split.Sides {
		t.sides[side].tally = &tally{}
	}
	t.split.Share = 2500
	p := newProxy(Config{Key: plan.Key{From: plan.KeyCookie}, Settings: *Defaults()}, t, &denials{})
	b.ReportAllocs()
	for b.Loop() {
		pass := &passage{}
		p.enter(pass, "a client")
		pass.leave()
	}
}
