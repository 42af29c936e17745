package prove

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"testing"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

// What is good directly is asked by the front's door of the spare side as well, as users come; what the front makes
// of it, and a door that leads elsewhere, is named. Every result can be had again alone.
func TestByTheFront(t *testing.T) {
	const secret = "ABCDEFGHIJKLMNOPQRSTUVWX27"
	for _, c := range []struct {
		name   string
		change func(q *Question, y *yard, s [2]*service, f *gate)
		want   string // "" if it passes
	}{
		{"all is good", func(*Question, *yard, [2]*service, *gate) {}, ""},
		{"by cookie", func(q *Question, _ *yard, _ [2]*service, _ *gate) {
			q.Plan.Front.Spare = plan.SpareDoor{Cookie: "vessa_try"}
		}, ""},
		{"a header limit", func(_ *Question, _ *yard, _ [2]*service, f *gate) { f.limited = true },
			"good directly, bad through the front: status 431"},
		{"bad everywhere", func(_ *Question, _ *yard, s [2]*service, _ *gate) { s[split.Green].version = "4.2.9" },
			"version 4.2.9"},
		{"no door yet", func(q *Question, _ *yard, _ [2]*service, _ *gate) {
			q.Doors = func(context.Context) ([]front.Spare, error) { return []front.Spare{{}}, nil }
		}, "the front has no such door yet"},
		{"a door elsewhere", func(q *Question, _ *yard, _ [2]*service, _ *gate) {
			q.Doors = func(context.Context) ([]front.Spare, error) { return []front.Spare{{Secret: secret}}, nil }
		}, "the door leads to blue"},
		{"a front that does not answer", func(q *Question, _ *yard, _ [2]*service, _ *gate) {
			q.Doors = func(context.Context) ([]front.Spare, error) { return nil, errors.New("the socket is gone") }
		}, "the socket is gone"},
		{"a front that says the secret", func(_ *Question, _ *yard, _ [2]*service, f *gate) { f.tells = true },
			"status 500"},
	} {
		t.Run(c.name, func(t *testing.T) {
			q, y, s := newQuestion(t)
			f := &gate{to: q.Sides[split.Green][0].Address, secret: secret}
			srv := httptest.NewServer(f)
			t.Cleanup(srv.Close)
			q.Plan.Front = plan.Front{Listen: srv.Listener.Addr().String(),
				Spare: plan.SpareDoor{Header: "X-Vessa-Try"}}
			q.Plan.Door.Host = "sailings.test"
			q.Doors = func(context.Context) ([]front.Spare, error) {
				return []front.Spare{{Secret: secret, Side: split.Green}}, nil
			}
			c.change(&q, y, s, f)
			p, about := Prove(t.Context(), q)
			var found []proof.Result
			for _, r := range p.Results {
				if r.Kind == proof.KindThrough {
					found = append(found, r)
				}
			}
			if len(found) != 1 || found[0].Pass != (c.want == "") || !strings.Contains(found[0].Got, c.want) ||
				found[0].Check != "search" {
				t.Fatalf("by the front it finds %+v, want %q", found, c.want)
			}
			if strings.Contains(fmt.Sprint(p), secret) {
				t.Errorf("the secret is told: %+v", found)
			}
			if again, ok := Again(t.Context(), q, found[0], &about); !ok || again.Pass != found[0].Pass ||
				again.Found != found[0].Found {
				t.Errorf("again it finds %+v, first %+v", again, found[0])
			}
		})
	}
}

// gate is a front with a door to the spare side.
type gate struct {
	to, secret string
	limited    bool
	tells      bool
}

func (g *gate) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	_, errCookie := r.Cookie("vessa_try")
	switch {
	case r.Host != "sailings.test" || r.Header.Get("X-Vessa-Try") != g.secret && errCookie != nil:
		http.Error(w, "nobody comes in so", http.StatusNotFound)
	case g.limited:
		w.WriteHeader(http.StatusRequestHeaderFieldsTooLarge)
	case g.tells:
		http.Error(w, "you have "+r.Header.Get("X-Vessa-Try"), http.StatusInternalServerError)
	default:
		w.Header().Set("Via", "1.1 gate")
		httputil.NewSingleHostReverseProxy(&url.URL{Scheme: "http", Host: g.to}).ServeHTTP(w, r)
	}
}

// A front that does not reach an instance is named, with what there is from here.
func TestTheFrontReachesIt(t *testing.T) {
	q, _, _ := newQuestion(t)
	refusing := q.Sides[split.Green][1].Address
	q.Reach = func(_ context.Context, address string) error {
		if address == refusing {
			return &net.OpError{Op: "dial", Net: "tcp", Err: errors.New("no way out")}
		}
		return nil
	}
	p, about := Prove(t.Context(), q)
	failed, ok := p.Failed()
	if !ok || failed.Instance != "green-2" || !strings.Contains(failed.Got, "the front cannot connect to green-2") ||
		!strings.Contains(failed.Got, "from this host it answers") {
		t.Fatalf("it fails with %+v", failed)
	}
	q.Reach = func(context.Context, string) error { return fmt.Errorf("%w: it is not asked", front.ErrUnknown) }
	if again, ok := Again(t.Context(), q, failed, &about); !ok || !again.Pass || again.Instance != "green-2" {
		t.Errorf("asked again, where it is not known: %+v", again)
	}
}
