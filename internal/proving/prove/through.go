package prove

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/reading"
	"vaiven/internal/proving/door"
)

// way is the spare side's own door of a front, which is asked as users ask.
type way struct {
	door    *door.Door
	address string // host:port
	spare   plan.SpareDoor
	secret  string
}

// Transport makes one for a single request.
func (w way) Transport() *http.Transport { return w.door.Transport(false) }

// Request makes a request for a path, with the secret.
func (w way) Request(ctx context.Context, method, path string) (*http.Request, error) {
	r, err := w.door.Request(ctx, method, w.address, path)
	switch {
	case err != nil:
	case w.spare.Header != "":
		r.Header.Set(w.spare.Header, w.secret)
	case w.spare.Cookie != "":
		r.AddCookie(&http.Cookie{Name: w.spare.Cookie, Value: w.secret})
	}
	return r, err
}

// through asks again what the instances were asked, by the spare side's own door of each front: what is good directly
// and bad through the front is found before a user finds it.
func (p *proving) through(ctx context.Context, _ *About) {
	main := p.Plan.Main()
	instances := p.of(*main, p.Target)
	checks := slices.DeleteFunc(slices.Clone(main.Smoke), func(c plan.Check) bool {
		h, ok := c.What.(plan.HTTP)
		return !ok || !strings.HasPrefix(h.URL, "/")
	})
	fronts := p.Plan.Fronts()
	open := slices.ContainsFunc(fronts, func(f plan.Front) bool { return f.Spare != plan.SpareDoor{} })
	if p.Doors == nil || !open || len(checks) == 0 || len(instances) == 0 {
		return
	}
	limited, cancel := context.WithTimeout(ctx, reachLimit)
	doors, err := p.Doors(limited)
	cancel()
	for n, f := range fronts {
		if f.Spare == (plan.SpareDoor{}) {
			continue
		}
		w := way{door: door.New(p.Plan.Door, p.Secrets), address: f.Listen, spare: f.Spare}
		if n < len(doors) {
			w.secret = doors[n].Secret
		}
		wrong := ""
		switch {
		case err != nil:
			wrong = p.Secrets.Hide(err.Error())
		case n >= len(doors) || w.secret == "" && f.Spare.Asks():
			wrong = "the front has no such door yet"
		case doors[n].Side != p.Target:
			wrong = fmt.Sprintf("the door leads to %v", doors[n].Side)
		}
		if !f.Spare.Asks() {
			w.address = f.Spare.Listen
		}
		for _, c := range checks {
			r := proof.Result{Check: c.Name, Ask: true, Want: fmt.Sprintf("an answer of %v by its own door", p.Target),
				Got: wrong}
			if wrong == "" {
				r = p.asked(ctx, w, instances[0], c)
				r.Check = c.Name
			}
			r.Part, r.Kind, r.Instance = main.Name, proof.KindThrough, p.Target.String()
			if len(fronts) > 1 {
				r.Check += " (" + f.Name() + ")"
			}
			p.add(r)
		}
	}
}

// asked makes a check by a front, and says where what it found is not what the instances say themselves.
func (p *proving) asked(ctx context.Context, w way, i reading.Instance, c plan.Check) proof.Result {
	t := p.target(p.Standing.From(i), i)
	t.Way = w
	r := t.Judge(ctx, c)
	if w.secret != "" {
		r.Answer = strings.ReplaceAll(r.Answer, w.secret, "…")
		r.Got, r.Found = strings.ReplaceAll(r.Got, w.secret, "…"), strings.ReplaceAll(r.Found, w.secret, "…")
	}
	if r.Pass {
		return r
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	direct := 0
	for _, d := range p.results {
		if d.Kind == proof.KindSmoke && d.Check == c.Name && d.Part == p.Plan.Main().Name {
			if !d.Pass {
				return r
			}
			direct++
		}
	}
	if direct > 0 {
		r.Got, r.Found = "good directly, bad through the front: "+r.Got,
			"good directly, bad through the front: "+r.Found
	}
	return r
}
