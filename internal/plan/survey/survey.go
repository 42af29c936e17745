package survey

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/stack/stand"
	"vaiven/internal/world/place"
)

// Question is what is surveyed.
type Question struct {
	On      place.Machine // that the proxy runs on
	At      plan.Login    // the same, as a plan says it; zero for this machine
	Target  string        // a socket, a configuration, or the URL of a balancer manager
	Only    string        // the backend, group or balancer, where there are several; "" for the only one
	Service string        // name of the service; "" for that of the backend
	Sticky  bool          // sessions are to stay on their side
	Ports   [2]int        // that green's instances may have, the first and the last; none if that is not known
	For     time.Duration // how long requests are counted; 0 counts none
}

// Found is what a survey found.
type Found struct {
	Question
	Kind plan.FrontKind
	front.Surveyed
	Service string
	Change  front.Adoption // that it needs, where that is known
	Kept    string         // the folder that the change was written to; "" for none
	Base    string         // the file that its plan shares with others; "" for none
	Sides   [2][]Instance
	Odd     []Instance // of which it is not known whose they are
	Checks  Checks
	Names   []string // that its certificate is for
	Trusted bool     // this machine trusts it
	Rate    float64  // requests a second, -1 if none were counted
	Counted time.Duration
}

// Instance is one instance behind the proxy.
type Instance struct {
	front.SurveyedServer
	Who stand.Who
}

// Checks are what was tried and passes on every instance that gets requests.
type Checks struct {
	Health  string // path that answers with a status from 200 to 299; "" for none
	Smoke   string // path that users ask for, with the status that it answered
	Status  int
	Says    string // path at which it says its version, and where in the answer
	Version string // the JSON path
	Build   string
	Root    bool     // what users ask for says it too
	Failed  []string // instances that answered nothing
	Runs    []string // the versions that they say, each once
}

// Several is the error of a proxy with several backends, of which one has to be named.
type Several struct{ Names []string }

// Error names them.
func (s Several) Error() string {
	return "there are several behind it, and a plan is for one: say which with --of, or survey all with --all FOLDER: " +
		strings.Join(s.Names, ", ")
}

// nobody is the error of a proxy with nobody behind it who could be asked, with what is to be known of those that
// there are.
func nobody(list []front.Surveyed) error {
	text := "nobody is behind it: it has no backend with a server"
	for _, s := range list {
		if len(s.Notes) > 0 {
			text = "nobody is behind it who could be asked: " + strings.Join(s.Notes, "; ")
		}
	}
	return errors.New(text)
}

// Read surveys what one service stands behind.
func Read(ctx context.Context, q Question) (Found, error) {
	kind, list, err := behind(ctx, q)
	if err != nil {
		return Found{}, err
	}
	one, err := choose(list, q.Only)
	if err != nil {
		return Found{}, err
	}
	f := q.found(kind, one)
	f.look(ctx)
	return f, ctx.Err()
}

// atATime is how many services are asked at the same time.
const atATime = 8

// ReadAll surveys all that somebody is behind, in the order of their names.
func ReadAll(ctx context.Context, q Question) ([]Found, error) {
	kind, list, err := behind(ctx, q)
	if err != nil {
		return nil, err
	}
	some := slices.DeleteFunc(slices.Clone(list), func(s front.Surveyed) bool { return len(s.Servers) == 0 })
	if len(some) == 0 {
		return nil, nobody(list)
	}
	list = some
	slices.SortFunc(list, func(a, b front.Surveyed) int { return strings.Compare(a.Name, b.Name) })
	var all []Found
	taken := map[string]bool{}
	for _, s := range list {
		f := q.found(kind, s)
		for n := 2; taken[f.Service]; n++ {
			f.Service = fmt.Sprintf("%s-%d", name(s.Name), n)
		}
		taken[f.Service] = true
		all = append(all, f)
	}
	var wait sync.WaitGroup
	turns := make(chan struct{}, atATime)
	for n := range all {
		wait.Go(func() {
			turns <- struct{}{}
			defer func() { <-turns }()
			all[n].look(ctx)
		})
	}
	wait.Wait()
	return all, ctx.Err()
}

// behind is what is behind the proxy, and what kind that is.
func behind(ctx context.Context, q Question) (plan.FrontKind, []front.Surveyed, error) {
	for _, k := range all.Kinds {
		if k.Survey == nil || strings.Contains(q.Target, "://") && k.Name != schemes(q.Target) {
			continue
		}
		found, err := k.Survey(ctx, q.On, front.Target{Name: q.Target, Sticky: q.Sticky, Ports: q.Ports})
		if !errors.Is(err, front.ErrNotOurs) {
			return k.Name, found, err
		}
	}
	return "", nil, fmt.Errorf("%s is neither HAProxy's socket or configuration, nor that of nginx or httpd, nor "+
		"the URL of a balancer manager, nor a name at a server (dns://SERVER/NAME:PORT)", q.Target)
}

// schemes is the kind of front that a URL leads to.
func schemes(target string) plan.FrontKind {
	if strings.HasPrefix(target, "dns://") {
		return "dns"
	}
	return "httpd"
}

func (q Question) found(kind plan.FrontKind, one front.Surveyed) Found {
	return Found{Question: q, Kind: kind, Surveyed: one, Service: cmp.Or(q.Service, name(one.Name)), Rate: -1}
}

// look looks at what is there, and asks it.
func (f *Found) look(ctx context.Context) {
	f.sides(ctx)
	if f.Adopt != nil {
		f.Change = f.Adopt(ctx, f.Service)
	}
	var wait sync.WaitGroup
	wait.Go(func() { f.Checks = f.try(ctx) })
	wait.Go(func() { f.count(ctx) })
	wait.Go(func() { f.shake(ctx) })
	wait.Wait()
}

// choose finds the one that is meant: the one that is named, or the only one that anybody is behind.
func choose(list []front.Surveyed, name string) (front.Surveyed, error) {
	var names []string
	var some []front.Surveyed
	for _, s := range list {
		if name == s.Name {
			return s, nil
		}
		if len(s.Servers) > 0 {
			some, names = append(some, s), append(names, s.Name)
		}
	}
	switch {
	case name != "":
		return front.Surveyed{}, fmt.Errorf("there is no %q behind it, but %s", name, strings.Join(names, ", "))
	case len(some) == 0:
		return front.Surveyed{}, nobody(list)
	case len(some) > 1:
		return front.Surveyed{}, Several{names}
	}
	return some[0], nil
}

// name makes a service's name of a backend's.
func name(text string) string {
	return strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '-'
	}, text), "-")
}

// sides tells the sides apart: by names that say them, else those that get requests are blue.
func (f *Found) sides(ctx context.Context) {
	said := slices.ContainsFunc(f.Servers, func(s front.SurveyedServer) bool { return s.Side == "green" })
	seen := map[string]bool{}
	for _, s := range f.Servers {
		if seen[s.Address] {
			continue
		}
		seen[s.Address] = true
		i := Instance{SurveyedServer: s}
		if f.At.Host == "" {
			i.Who = stand.WhoListens(ctx, s.Address)
		}
		side, err := split.ParseSide(s.Side)
		switch {
		case said && err == nil:
			f.Sides[side] = append(f.Sides[side], i)
		case said:
			f.Odd = append(f.Odd, i)
		case s.In:
			f.Sides[split.Blue] = append(f.Sides[split.Blue], i)
		default:
			f.Sides[split.Green] = append(f.Sides[split.Green], i)
		}
	}
}

// live are the instances that get requests.
func (f *Found) live() []Instance {
	var list []Instance
	for _, side := range f.Sides {
		for _, i := range side {
			if i.In {
				list = append(list, i)
			}
		}
	}
	return list
}

// The paths that are tried, the usual ones first.
var (
	healthPaths = []string{"/healthz", "/health", "/readyz", "/ready", "/livez", "/status", "/ping"}
	saysPaths   = []string{"/about", "/version", "/info", "/healthz", "/health", "/"}
)

// tryLimit is how long one instance has for one path.
const tryLimit = 3 * time.Second

// answer is what an instance answered.
type answer struct {
	status int
	body   map[string]any // of JSON
}

func (f *Found) ask(ctx context.Context, i Instance, path string) (answer, error) {
	ctx, cancel := context.WithTimeout(ctx, tryLimit)
	defer cancel()
	c := http.Client{
		Transport:     &http.Transport{DisableKeepAlives: true, DialContext: f.On.Dial},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+i.Address+path, nil)
	if err != nil {
		return answer{}, err
	}
	r.Host = cmp.Or(f.Host, r.Host)
	r.Header.Set("User-Agent", "vaiven-survey")
	w, err := c.Do(r)
	if err != nil {
		return answer{}, err
	}
	defer w.Body.Close()
	data, err := io.ReadAll(io.LimitReader(w.Body, 256<<10))
	a := answer{status: w.StatusCode}
	if json.Unmarshal(data, &a.body) != nil {
		a.body = nil
	}
	return a, err
}

// try finds checks that pass on every instance that gets requests.
func (f *Found) try(ctx context.Context) Checks {
	var c Checks
	live := f.live()
	var well []Instance
	for _, i := range live {
		a, err := f.ask(ctx, i, "/")
		if err != nil {
			c.Failed = append(c.Failed, fmt.Sprintf("%s (%s) does not answer: %v", i.Name, i.Address, err))
			continue
		}
		well = append(well, i)
		if c.Smoke == "" {
			c.Smoke, c.Status = "/", a.status
		}
	}
	everywhere := func(path string, good func(answer) bool) bool {
		return len(well) > 0 && !slices.ContainsFunc(well, func(i Instance) bool {
			a, err := f.ask(ctx, i, path)
			return err != nil || !good(a)
		})
	}
	for _, path := range healthPaths {
		if everywhere(path, func(a answer) bool { return a.status >= 200 && a.status <= 299 }) {
			c.Health = path
			break
		}
	}
	c.Root = everywhere("/", func(a answer) bool { _, ok := a.body["version"].(string); return ok })
	for _, path := range saysPaths {
		c.Runs = nil
		field := func(a answer, name string) bool {
			_, ok := a.body[name].(string)
			return ok && a.status == http.StatusOK
		}
		if everywhere(path, func(a answer) bool {
			if v, _ := a.body["version"].(string); v != "" && !slices.Contains(c.Runs, v) {
				c.Runs = append(c.Runs, v)
			}
			return field(a, "version")
		}) {
			c.Says, c.Version = path, "version"
			if everywhere(path, func(a answer) bool { return field(a, "build") }) {
				c.Build = "build"
			}
			break
		}
	}
	return c
}

// shake looks at the certificate that the proxy has for its users.
func (f *Found) shake(ctx context.Context) {
	if !f.Secure || f.Listen == "" {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, tryLimit)
	defer cancel()
	conn, err := f.On.Dial(ctx, "tcp", f.Listen)
	if err != nil {
		return
	}
	defer conn.Close()
	// it is looked at, and nothing is said to it
	c := tls.Client(conn, &tls.Config{ServerName: f.Host, InsecureSkipVerify: true})
	if c.HandshakeContext(ctx) != nil {
		return
	}
	chain := c.ConnectionState().PeerCertificates
	f.Names = chain[0].DNSNames
	between := x509.NewCertPool()
	for _, one := range chain[1:] {
		between.AddCert(one)
	}
	_, err = chain[0].Verify(x509.VerifyOptions{Intermediates: between})
	f.Trusted = err == nil
}

// count counts requests for a while.
func (f *Found) count(ctx context.Context) {
	if f.Requests == nil || f.For <= 0 {
		return
	}
	before, err := f.Requests(ctx)
	if err != nil {
		return
	}
	begun := time.Now()
	select {
	case <-ctx.Done():
		return
	case <-time.After(f.For):
	}
	if after, err := f.Requests(ctx); err == nil && after >= before {
		f.Counted = time.Since(begun)
		f.Rate = float64(after-before) / f.Counted.Seconds()
	}
}
