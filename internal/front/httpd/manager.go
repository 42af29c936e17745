package httpd

import (
	"context"
	"errors"
	"fmt"
	"html"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/front/logged"
	"vaiven/internal/front/told"
	"vaiven/internal/world/place"
)

// mostFactor is the largest load factor of a worker, in whole numbers.
const mostFactor = 100

// scheme begins the names of workers.
const scheme = "http://"

// Manager steers a balancer through its manager. It is safe for concurrent use.
type Manager struct {
	on     place.Machine
	config *Settings
	sticky bool
	carry  [2]plan.Capacity
	client http.Client
	stands front.Known // instances that a plan names by their addresses

	steering told.Remote[balancer]
	tally    *logged.Tally
}

// NewManager makes a driver. Requests are counted from now on.
func NewManager(on place.Machine, f plan.Front) *Manager {
	c := f.Settings.(*Settings)
	m := &Manager{on: on, config: c, sticky: f.Sticky, carry: f.Carry, tally: logged.New(on, c.Log, f.Key, nil)}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.DialContext, transport.Proxy = on.Dial, nil
	m.client.Transport = transport
	m.steering = told.Remote[balancer]{
		Look: m.look, Share: m.share, Print: balancer.print, Work: m.work, Most: mostFactor,
		Mark: front.NewOrderFile(on, f.Order),
		Has:  func(b balancer, side split.Side) int { return len(m.of(b, side, m.steering.Instances())) },
	}
	return m
}

// state is which requests a worker gets.
type state string

const (
	on       state = "on"
	sessions state = "sessions" // of those that have one only
	off      state = "off"
)

// worker is a member of the balancer.
type worker struct {
	address string
	route   string // by which sessions and log lines name it; see routeOf
	factor  int
	state   state
	busy    int64
	failing bool // httpd holds it for broken
	unwell  bool // its own check has found it so
}

// balancer is what is read in one go.
type balancer struct {
	workers []worker
	nonce   string
}

var (
	noncePattern   = regexp.MustCompile(`nonce=([0-9A-Fa-f-]+)`)
	sectionPattern = regexp.MustCompile(`LoadBalancer Status for <a [^>]*>balancer://([^<]+)</a>`)
	rowPattern     = regexp.MustCompile(`<td><a href="[^"]*">([^<]+)</a></td><td>([^<]*)</td><td>[^<]*</td><td>([0-9.]+)</td><td>\d+</td><td>([^<]*)</td><td>\d+</td><td>(\d+)</td>`)
)

// parse reads the manager's page.
func parse(page, name string) (balancer, error) {
	sections := sectionPattern.FindAllStringSubmatchIndex(page, -1)
	for n, m := range sections {
		if html.UnescapeString(page[m[2]:m[3]]) != name {
			continue
		}
		text := page[m[0]:]
		if n+1 < len(sections) {
			text = page[m[0]:sections[n+1][0]]
		}
		var b balancer
		if m := noncePattern.FindStringSubmatch(text); m != nil {
			b.nonce = m[1]
		}
		for _, m := range rowPattern.FindAllStringSubmatch(text, -1) {
			factor, err := strconv.ParseFloat(m[3], 64)
			if err != nil || factor < 0 || factor > 1e6 {
				return b, fmt.Errorf("%w: the balancer manager says %q for a load factor", front.ErrRefused, m[3])
			}
			w := worker{
				address: strings.TrimSuffix(strings.TrimPrefix(html.UnescapeString(m[1]), scheme), "/"),
				route:   html.UnescapeString(m[2]), factor: int(100*factor + 0.5), state: on,
			}
			flags := strings.Fields(m[4])
			switch {
			case slices.Contains(flags, "Dis"), slices.Contains(flags, "Stop"):
				w.state = off
			case slices.Contains(flags, "Drn"):
				w.state = sessions
			}
			w.failing = slices.Contains(flags, "Err")
			w.unwell = slices.Contains(flags, "HcFl")
			w.busy, _ = strconv.ParseInt(m[5], 10, 64)
			b.workers = append(b.workers, w)
		}
		return b, nil
	}
	return balancer{}, fmt.Errorf("%w: the balancer manager has no balancer %q", front.ErrRefused, name)
}

// look reads the balancer.
func (m *Manager) look(ctx context.Context) (balancer, error) {
	page, err := m.call(ctx, nil)
	if err != nil {
		return balancer{}, err
	}
	return parse(page, m.config.Balancer)
}

// call gets the manager's page, or posts a form to it. Without a Referer of its own it
// answers 200 and changes nothing.
func (m *Manager) call(ctx context.Context, form url.Values) (string, error) {
	method := http.MethodGet
	if form != nil {
		method = http.MethodPost
	}
	r, err := http.NewRequestWithContext(ctx, method, m.config.Manager, strings.NewReader(form.Encode()))
	if err != nil {
		return "", err
	}
	r.Header.Set("Referer", m.config.Manager)
	// httpd may close a kept connection at the moment in which it is used; what a form says
	// may be said again (see net/http.Transport).
	r.Header["Idempotency-Key"] = []string{}
	if form != nil {
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	answer, err := m.client.Do(r)
	if err != nil {
		return "", fmt.Errorf("%w: the balancer manager: %w", front.ErrUnreachable, errors.Unwrap(err))
	}
	defer answer.Body.Close()
	page, err := io.ReadAll(io.LimitReader(answer.Body, 8<<20))
	switch {
	case err != nil:
		return "", fmt.Errorf("%w: the balancer manager: %w", front.ErrUnreachable, err)
	case answer.StatusCode == http.StatusForbidden || answer.StatusCode == http.StatusUnauthorized:
		return "", fmt.Errorf("%w: the balancer manager lets nobody in from here (%s)", front.ErrRefused, answer.Status)
	case answer.StatusCode != http.StatusOK:
		return "", fmt.Errorf("%w: the balancer manager answers %s", front.ErrUnreachable, answer.Status)
	}
	return string(page), nil
}

// of are a side's workers: those whose address was told, and those that get requests under a route that begins with
// the side's, or under none where the plan says that the side stands there. While nothing was told, as in a process
// that only goes home, the route is enough.
func (m *Manager) of(b balancer, side split.Side, known front.Known) []worker {
	var list []worker
	for _, w := range b.workers {
		told := slices.ContainsFunc(known[side], func(i reading.Server) bool { return i.Address == w.address })
		named := strings.HasPrefix(w.route, side.String()+"-") ||
			w.route == "" && slices.ContainsFunc(m.stands[side],
				func(i reading.Server) bool { return i.Address == w.address })
		if told || (w.state == on || known[side] == nil) && named {
			list = append(list, w)
		}
	}
	return list
}

func (m *Manager) share(b balancer) (split.Share, error) {
	var sums [2]uint64
	known := m.steering.Instances()
	for _, side := range split.Sides {
		for _, w := range m.of(b, side, known) {
			if w.state == on {
				sums[side] += uint64(w.factor)
			}
		}
	}
	if sums == [2]uint64{} {
		return 0, fmt.Errorf("%w: no worker of balancer %s gets any requests", front.ErrRefused, m.config.Balancer)
	}
	return split.FromWeights(sums[split.Blue], sums[split.Green])
}

func (b balancer) print() string {
	var text strings.Builder
	for _, w := range b.workers {
		fmt.Fprintln(&text, w.address, w.route, w.factor, w.state)
	}
	return text.String()
}

// blank reports whether a balancer was told nothing since httpd started.
func (b balancer) blank() bool {
	return !slices.ContainsFunc(b.workers, func(w worker) bool { return w.state == on || w.route != "" })
}

// remind tells a balancer again what it has forgotten: httpd keeps what its manager was told over
// a reload and over an orderly end, and not where it was killed.
func (m *Manager) remind(ctx context.Context) (balancer, error) {
	changing, through, err := m.steering.Change(ctx)
	if err != nil {
		return balancer{}, err
	}
	defer through()
	b, err := m.look(changing)
	if err != nil {
		return b, err
	}
	share, ok := m.steering.Last(b)
	if !ok || !b.blank() {
		return b, nil
	}
	list, _, err := m.settings(b, share, false, m.steering.Instances())
	if err != nil {
		return b, err
	}
	if err := m.tell(changing, b.nonce, inOrder(list)); err != nil {
		return b, err
	}
	if err := m.steering.Told(ctx, b, told.Wanted{}); err != nil {
		return b, err
	}
	return m.look(ctx)
}

// Read is the split in force and what was counted. A balancer that has forgotten what this driver
// told it is told again first.
func (m *Manager) Read(ctx context.Context) (reading.Front, error) {
	since := m.steering.ChangeMark()
	b, err := m.look(ctx)
	if err == nil {
		b, err = m.steering.Steady(ctx, b)
	}
	if err != nil {
		return reading.Front{}, err
	}
	known := m.steering.Instances()
	forgot := b.blank() && slices.ContainsFunc(known[:], func(of []reading.Server) bool { return len(of) > 0 })
	if forgot {
		if b, err = m.remind(ctx); err != nil {
			return reading.Front{}, err
		}
	}
	r := reading.Front{At: time.Now(), Forgot: forgot, Tells: reading.Capabilities{Both: true}}
	if r.Split, r.Order, err = m.steering.Known(since, b); err != nil {
		return reading.Front{}, err
	}
	var sides [2][]reading.Server
	var broken []string
	for _, side := range split.Sides {
		for _, w := range m.of(b, side, known) {
			sides[side] = append(sides[side], known.At(side, w.address, w.route))
			if w.failing && w.state == on {
				broken = append(broken, w.route)
			}
		}
	}
	r.Notice = m.tally.Count(ctx, &r, sides)
	for _, side := range split.Sides {
		for n, w := range m.of(b, side, known) {
			r.Sides[side].Instances[n].Open = w.busy
			r.Sides[side].Open += w.busy
		}
		known.Sort(side, r.Sides[side].Instances)
	}
	if len(broken) > 0 {
		r.Notice = fmt.Sprintf("httpd holds %s for broken and sends their requests to others",
			strings.Join(broken, ", "))
	}
	return r, nil
}

// change is what a worker is to become.
type change struct {
	worker
	was  worker
	side split.Side
}

// settings are what the workers of both sides have to become for a share.
func (m *Manager) settings(b balancer, share split.Share, home bool, known front.Known) ([]change, split.Weights,
	error) {
	var list []change
	var sides [2][]reading.Server
	for _, side := range split.Sides {
		workers := m.of(b, side, known)
		if share.Of(side) > 0 && len(workers) == 0 {
			return nil, split.Weights{},
				fmt.Errorf("%w: %v has no instances to send requests to", front.ErrRefused, side)
		}
		for _, w := range workers {
			c := change{worker: w, was: w, side: side}
			if n := slices.IndexFunc(known[side],
				func(i reading.Server) bool { return i.Address == w.address }); n >= 0 {
				c.route = routeOf(side, known[side][n].Name)
			}
			c.state = off
			if m.sticky && !home && w.state != off {
				c.state = sessions
			}
			list = append(list, c)
			sides[side] = append(sides[side], known.At(side, w.address, ""))
		}
	}
	w, of, err := front.Weigh(sides, m.carry, share, mostFactor)
	if err != nil {
		return nil, w, err
	}
	for n, f := range append(of[split.Blue], of[split.Green]...) {
		if f > 0 {
			list[n].factor, list[n].state = 100*f, on
		}
	}
	return list, w, nil
}

// inOrder are the changes that do something, in an order in which somebody takes the requests at every moment, and no
// side more of them than before and after.
func inOrder(list []change) []change {
	steps := make([]split.Step, len(list))
	for n, c := range list {
		steps[n] = split.Step{Side: c.side, From: c.was.weight(), To: c.worker.weight()}
	}
	var all []change
	for _, n := range split.InOrder(steps) {
		if c := list[n]; c.worker != c.was {
			all = append(all, c)
		}
	}
	return all
}

// weight is what a worker gets, 0 for nothing.
func (w worker) weight() int {
	if w.state != on {
		return 0
	}
	return w.factor
}

// String is a change in words.
func (c change) String() string {
	text := fmt.Sprintf("worker %s%s (%s): %s", scheme, c.address, c.route, c.state)
	if c.state == on {
		text += fmt.Sprintf(", load factor %d", c.factor/100)
	}
	return text
}

func words(list []change) []string {
	steps := []string{}
	for _, c := range list {
		steps = append(steps, c.String())
	}
	if len(steps) == 0 {
		steps = append(steps, "nothing: it is in force")
	}
	return steps
}

// tell carries changes out, one request each.
func (m *Manager) tell(ctx context.Context, nonce string, list []change) error {
	for _, c := range list {
		name := scheme + c.address
		flag := func(s state) []string {
			if c.state == s {
				return []string{"1"}
			}
			return []string{"0"}
		}
		form := url.Values{
			"b": {m.config.Balancer}, "w": {name}, "nonce": {nonce}, "w_wr": {c.route},
			"w_status_D": flag(off), "w_status_N": flag(sessions),
		}
		if c.factor > 0 {
			form.Set("w_lf", fmt.Sprintf("%d.%02d", c.factor/100, c.factor%100))
		}
		if _, err := m.call(ctx, form); err != nil {
			return err
		}
	}
	return nil
}

// work is a change of the share.
func (m *Manager) work(b balancer, share split.Share, home *reading.Order) (told.Work, error) {
	list, w, err := m.settings(b, share, home != nil, m.steering.Instances())
	todo := inOrder(list)
	return told.Work{Steps: words(todo), Weights: w, Do: func(ctx context.Context) error {
		return m.carryOut(ctx, b.nonce, todo, home != nil)
	}}, err
}

// carryOut tells the workers. If one cannot be told, what was in force is put back, as
// far as the manager still answers; never over a going home.
func (m *Manager) carryOut(ctx context.Context, nonce string, todo []change, home bool) error {
	err := m.tell(ctx, nonce, todo)
	if err == nil || home || errors.Is(context.Cause(ctx), front.ErrNewer) {
		return err
	}
	back, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
	defer cancel()
	undo := make([]change, len(todo))
	for n, c := range todo {
		undo[n] = change{worker: c.was, was: c.worker, side: c.side}
	}
	if m.tell(back, nonce, inOrder(undo)) != nil {
		return fmt.Errorf("%w; some workers may have been changed already: what is in force shows when it answers "+
			"again", err)
	}
	return err
}

// Foresee is what Set would do.
func (m *Manager) Foresee(ctx context.Context, share split.Share) (front.Change, error) {
	c := front.Change{
		Usually: 60 * time.Millisecond,
		Connections: front.StaysOpen + ". Workers are changed one after the other, so that shares in between are in " +
			"force for some milliseconds",
		Notes: []string{"a reload of httpd by anybody would undo it"},
	}
	if m.sticky {
		c.Notes = append(c.Notes, front.SessionsStay)
	}
	return m.steering.Foresee(ctx, share, c)
}

// Set puts a share on green in force if the balancer still is as expected.
func (m *Manager) Set(ctx context.Context, share split.Share, e front.Expect) (front.Done, error) {
	return m.steering.Set(ctx, share, e)
}

// Rehearse does everything of going home but telling the balancer.
func (m *Manager) Rehearse(ctx context.Context, side split.Side) ([]wayback.Step, error) {
	return m.steering.Rehearse(ctx, side)
}

// Home sends all requests to a side.
func (m *Manager) Home(ctx context.Context, h front.Homing) (front.Done, error) {
	return m.steering.Home(ctx, h)
}

// checksFor is how long httpd's own check of a worker has to find it well.
const checksFor = 90 * time.Second

// Reach waits until httpd's own check of the worker (hcmethod), where it has one, finds it well, and connects to
// the address from the machine that httpd runs on. One whose worker httpd holds for broken is not reached.
func (m *Manager) Reach(ctx context.Context, address string) error {
	for begun := time.Now(); ; {
		b, err := m.look(ctx)
		if err != nil {
			return fmt.Errorf("%w: %w", front.ErrUnknown, err)
		}
		n := slices.IndexFunc(b.workers, func(w worker) bool { return w.address == address })
		if n >= 0 && b.workers[n].failing {
			return errors.New("httpd holds its worker for broken")
		}
		if err := front.ReachFrom(ctx, m.on, address); err != nil || n < 0 || !b.workers[n].unwell {
			return err
		}
		if time.Since(begun) > checksFor {
			return fmt.Errorf("httpd's own check has not found its worker well for %v", checksFor)
		}
		select {
		case <-ctx.Done():
			return errors.New("httpd's own check has not found its worker well so far")
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// NewTerm begins another term.
func (m *Manager) NewTerm(ctx context.Context, after uint64) (uint64, error) {
	return m.steering.NewTerm(ctx, after)
}

// SetInstances gives a side other instances. Their workers have to be members of the
// balancer already; those that are not wanted any more are switched off.
func (m *Manager) SetInstances(ctx context.Context, side split.Side, wanted []reading.Server) error {
	return m.steering.SetInstances(ctx, side, wanted,
		func(changing context.Context, b balancer, known front.Known, as told.Wanted) error {
			return m.give(changing, b, side, known, as)
		})
}

func (m *Manager) give(ctx context.Context, b balancer, side split.Side, known front.Known, as told.Wanted) error {
	wanted := known[side]
	then := balancer{nonce: b.nonce, workers: slices.Clone(b.workers)}
	for _, i := range wanted {
		if !slices.ContainsFunc(then.workers, func(w worker) bool { return w.address == i.Address }) {
			return fmt.Errorf("%w: balancer %s has no worker %s%s: its configuration needs a BalancerMember, with "+
				"status=+D, for every address that an instance may have",
				front.ErrRefused, m.config.Balancer, scheme, i.Address)
		}
	}
	old := m.of(b, side, m.steering.Instances())
	// Those that are not wanted any more are of no side while the rest is weighed.
	for n, w := range then.workers {
		if gone(old, wanted, w) {
			then.workers[n].route = nobodys
		}
	}
	list, _, err := m.settings(then, as.Share, false, known)
	if err != nil {
		return err
	}
	for n := range list {
		if as.Rest {
			list[n].state = off
		}
		list[n].was = b.workers[slices.IndexFunc(b.workers,
			func(w worker) bool { return w.address == list[n].address })]
	}
	for _, w := range old {
		if gone(old, wanted, w) {
			next := w
			next.state, next.route = off, nobodys
			list = append(list, change{worker: next, was: w, side: side})
		}
	}
	return m.tell(ctx, b.nonce, inOrder(list))
}

// routeOf is the route of an instance. It begins with the side, whatever the stack's names
// do: somebody who only goes home, and the log, know the sides by that.
func routeOf(side split.Side, name string) string {
	if begin := side.String() + "-"; !strings.HasPrefix(name, begin) {
		return begin + name
	}
	return name
}

// nobodys is the route of a worker that is no instance's any more.
const nobodys = "-"

// gone reports whether a worker was an instance and is not wanted any more.
func gone(old []worker, wanted []reading.Server, w worker) bool {
	return slices.ContainsFunc(old, func(o worker) bool { return o.address == w.address }) &&
		!slices.ContainsFunc(wanted, func(i reading.Server) bool { return i.Address == w.address })
}

// Drain gives up a side without a share, and says how many requests it is still
// answering. Sessions do not stay any longer.
func (m *Manager) Drain(ctx context.Context, side split.Side) (front.Left, error) {
	changing, through, err := m.steering.Change(ctx)
	if err != nil {
		return front.Left{}, err
	}
	defer through()
	b, err := m.look(changing)
	if err != nil {
		return front.Left{}, err
	}
	if err := m.steering.Quiet(b, side); err != nil {
		return front.Left{}, err
	}
	var left front.Left
	var list []change
	for _, w := range m.of(b, side, m.steering.Instances()) {
		left.Open += w.busy
		next := w
		next.state = off
		list = append(list, change{worker: next, was: w, side: side})
	}
	todo := inOrder(list)
	if len(todo) == 0 {
		return left, nil
	}
	if err := m.tell(changing, b.nonce, todo); err != nil {
		return left, err
	}
	return left, m.steering.Told(ctx, b, told.AsItWas)
}
