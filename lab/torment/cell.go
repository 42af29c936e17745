package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/keeper"
	"vaiven/internal/proving/door"
	"vaiven/internal/world/durable"
	"vaiven/internal/world/secret"
	"vaiven/lab/demo"
)

// cell is one way to hurt users.
type cell struct {
	Front   string
	Fault   string
	Where   string
	Variant string
}

func (c cell) String() string {
	return fmt.Sprintf("%s, %s %s, %s", c.Front, c.Fault, c.Where, c.Variant)
}

// The axes. What they are called is what the tables say.
var (
	fronts = []string{"embedded", "haproxy", "nginx", "httpd, manager", "httpd, include", "cluster", "queue"}
	faults = []string{"5 % errors", "all errors", "everything hangs", "page hangs", "500 ms slower", "wrong content",
		"killed", "health only", "5 % slow", "cut in the middle", onePath, oneMethod, oneGroup, errorPage, busy,
		onAndOff, oneInstance, bothFail, frontAgain, reloads, logOff, wired}
	wheres   = []string{asItBegins, atOne, atShare, inKeep}
	variants = []string{plain, unreadable, cutOff, overruled, restarted}
)

const (
	onePath     = "one path fails"
	oneMethod   = "one method fails"
	oneGroup    = "one group of clients fails"
	errorPage   = "error page with status 200"
	busy        = "20 % busy, come again"
	onAndOff    = "on and off every 10 s"
	oneInstance = "one instance fails"
	bothFail    = "a dependency of both fails"

	// What is no fault of the release.
	frontAgain = "front killed, up again"
	reloads    = "operator reloads"
	logOff     = "operator turns the log off"
	wired      = "operator wires it to the new side"

	asItBegins = "as the leg begins"
	atOne      = "at 1 %"
	atShare    = "at 25 %"
	inKeep     = "in the keep"

	plain      = "nothing else"
	unreadable = "front unreadable for 10 s"
	cutOff     = "prober cut off"
	overruled  = "a guard overruled before"
	restarted  = "keeper killed and started again"
)

// cells are all that make sense: whoever has accepted 10 % of errors has accepted 5 %, and the
// embedded front makes its socket again when somebody takes it away.
func cells() []cell {
	var list []cell
	for _, v := range variants {
		for _, where := range wheres {
			for _, fault := range faults {
				for _, f := range fronts {
					c := cell{f, fault, where, v}
					if v == overruled && fault == "5 % errors" || v == unreadable && f == "embedded" {
						continue
					}
					if v != plain && !slices.Contains(faults[:first], fault) || !c.makesSense() {
						continue
					}
					list = append(list, c)
				}
			}
		}
	}
	return list
}

// first is how many faults are tried in every variant, and also as a leg begins.
const first = 8

// makesSense reports whether the fault can be, there and then: some are of proxies whose configuration an operator
// writes, and a few requests a second tell only of what hits all of them.
func (c cell) makesSense() bool {
	if (c.Front == "cluster" || c.Front == "queue") && (c.Variant == unreadable || c.Fault == frontAgain) {
		return false // there is no such way to make it so
	}
	switch c.Where {
	case asItBegins:
		return c.Variant == plain && slices.Contains(faults[:first], c.Fault)
	case atOne:
		return c.Variant == plain && (c.Fault == oneInstance || c.Fault == "all errors")
	}
	switch c.Fault {
	case reloads:
		return c.Front == "nginx" || strings.HasPrefix(c.Front, "httpd")
	case logOff:
		return c.Front == "nginx" || strings.HasPrefix(c.Front, "httpd")
	case wired:
		return c.Front == "nginx"
	}
	return true
}

// harmless reports whether the release is well all the time.
func (c cell) harmless() bool {
	return c.Fault == frontAgain || c.Fault == reloads || c.Fault == logOff || c.Fault == wired
}

// outcome is what came of a cell. Times are in seconds from when the fault began.
type outcome struct {
	Cell    cell
	Noticed float64 // until a guard had tripped, or the route stood still for want of knowledge; 0: never
	Home    float64 // until all requests went home; 0: they did not
	Called  float64 // until a person was called, where they did not; 0: nobody was
	Hit     int     // requests that came to nothing good, until then or for as long as was waited
	Why     string
	WentOn  bool   // it went on as if nothing had happened
	Failed  string // why it could not be tried
}

func (o outcome) String() string {
	switch {
	case o.Failed != "":
		return "NOT TRIED: " + o.Failed
	case o.Cell.harmless() && o.Home == 0 && o.Called == 0:
		return fmt.Sprintf("stayed, %d", o.Hit)
	case o.Cell.harmless() && o.Home > 0:
		return fmt.Sprintf("ROLLED BACK %.1f s, %d", o.Home, o.Hit)
	case o.WentOn:
		return fmt.Sprintf("WENT ON, %d hit", o.Hit)
	case o.Home > 0:
		return fmt.Sprintf("%.1f s, %d", o.Home, o.Hit)
	case o.Called > 0:
		return fmt.Sprintf("called %.1f s, %d", o.Called, o.Hit)
	case o.Noticed > 0:
		return fmt.Sprintf("seen %.1f s, %d", o.Noticed, o.Hit)
	}
	return fmt.Sprintf("NOT NOTICED, %d", o.Hit)
}

// The times of a cell.
const (
	arriveLimit = 60 * time.Second // to raise, prove and shift
	knowLimit   = 40 * time.Second // until guards know enough
	faultLimit  = 40 * time.Second // for all to be home
	unreadFor   = 10 * time.Second
)

func (c cell) trouble() demo.Trouble {
	return map[string]demo.Trouble{
		"5 % errors": {Kind: demo.Failing, Part: 0.05}, "all errors": {Kind: demo.Failing, Part: 1},
		"everything hangs": {Kind: demo.Hanging},
		"page hangs":       {Kind: demo.PageHanging},
		"500 ms slower":    {Kind: demo.Slower, More: 500 * time.Millisecond},
		"wrong content":    {Kind: demo.Wrong},
		"health only":      {Kind: demo.Ill}, "5 % slow": {Kind: demo.Slower, Part: 0.05, More: 2 * time.Second},
		"cut in the middle": {Kind: demo.Cut, Part: 0.5},
		onePath:             {Kind: demo.Failing, Part: 1, Query: "harbour"},
		oneMethod:           {Kind: demo.Failing, Part: 1, Method: http.MethodPost},
		oneGroup:            {Kind: demo.Failing, Part: 1, Group: "3"}, errorPage: {Kind: demo.Page, Part: 0.2},
		busy:        {Kind: demo.Busy, Part: 0.2},
		onAndOff:    {Kind: demo.Failing, Part: 0.5, Every: 10 * time.Second},
		oneInstance: {Kind: demo.Failing, Part: 1, Instance: "-2"},
		bothFail:    {Kind: demo.Failing, Part: 0.6},
	}[c.Fault]
}

// trial is a cell being tried.
type trial struct {
	cell
	self     string
	scenario *demo.Scenario
	file     string // the keeper's plan
	keeper   *child
	client   client
	door     *relay // between prober and front, nil where it is not to be cut off
	manager  *relay // between keeper and balancer manager, likewise
}

// try tries it.
func (c cell) try(ctx context.Context, vaiven string) (o outcome, err error) {
	t := &trial{cell: c}
	if t.self, err = os.Executable(); err != nil {
		return o, err
	}
	kind, way, _ := strings.Cut(c.Front, ", ")
	t.scenario, err = demo.Build(ctx, demo.Options{
		Program: vaiven, Fault: demo.None, Front: plan.FrontKind(kind), Way: way, Quick: true, Rate: 0.01,
	})
	if err != nil {
		return o, err
	}
	defer func() { err = errors.Join(err, t.scenario.Remove(context.WithoutCancel(ctx))) }()
	if err := t.plan(); err != nil {
		return o, err
	}
	if t.keeper, err = keeperOf(t.self, t.file); err != nil {
		return o, err
	}
	defer func() { t.keeper.end() }()
	if err := t.arrive(ctx); err != nil {
		return o, err
	}
	if err := t.prelude(ctx); err != nil {
		return o, err
	}
	return t.hurt(ctx)
}

var (
	routeAndKeep = regexp.MustCompile(`(?s)\nroute:\n.*?\nkeep: [^\n]*\n`)
	managerURL   = regexp.MustCompile(`manager: http://([0-9.:]+)/`)
)

// plan writes the keeper's plan.
func (t *trial) plan() error {
	data, err := os.ReadFile(t.scenario.File)
	if err != nil {
		return err
	}
	dwell := "1h"
	if t.Where == inKeep {
		dwell = "3s"
	}
	share := "25 %"
	if t.Where == atOne {
		share = "1 %"
	}
	text := routeAndKeep.ReplaceAllString(string(data),
		fmt.Sprintf("\nroute:\n  - %s for %s\n  - 100 %%\nkeep: 1h\n", share, dwell))
	text = strings.Replace(text, "within: 5s\n  contains", "within: 2s\n  contains", 1)
	text = strings.Replace(text, "worse-by: 5 %, then: roll back}", "worse-by: 1 %, then: roll back}", 1)
	text = regexp.MustCompile(`(?m)^  fewer: .*$`).ReplaceAllString(text, "  fewer: off") // the client books nothing
	if t.Variant == overruled {
		for _, name := range []string{"failing", "door"} {
			line := regexp.MustCompile(`(\n  ` + name + `: \{.*)then: roll back`)
			text = line.ReplaceAllString(text, "${1}then: freeze")
		}
	}
	if t.Variant == cutOff {
		if t.door, err = newRelay(t.scenario.Plan.Front.Listen); err != nil {
			return err
		}
		text = strings.Replace(text, "listen: "+t.scenario.Plan.Front.Listen, "listen: "+t.door.address, 1)
	}
	if m := managerURL.FindStringSubmatch(text); m != nil && t.Variant == unreadable {
		if t.manager, err = newRelay(m[1]); err != nil {
			return err
		}
		text = strings.Replace(text, m[0], "manager: http://"+t.manager.address+"/", 1)
	}
	t.file = filepath.Join(t.scenario.Folder, "torment.yaml")
	return durable.WriteFile(t.file, []byte(text))
}

// arrive brings the crossing to where users are to be hurt, and waits until its guards know
// enough.
func (t *trial) arrive(ctx context.Context) error {
	if v, ok := t.keeper.until(ctx, arriveLimit, func(v told) bool { return v.Ready }); !ok {
		return fmt.Errorf("the keeper is not ready: %v", v.State)
	}
	t.client.door, t.client.at, t.client.late = door.Of(t.scenario.Plan, secret.Values{}), t.scenario.Plan.Front.Listen,
		clientLate
	t.client.posts = t.Fault == oneMethod
	go t.client.run(ctx)
	if err := t.keeper.do(keeper.Command{Act: crossing.Begin{Version: demo.NewVersion}, By: "torment"}); err != nil {
		return err
	}
	stage := crossing.Shifting
	if t.Where == inKeep {
		stage = crossing.Keeping
	}
	v, ok := t.keeper.until(ctx, arriveLimit,
		func(v told) bool { return v.State.Stage == stage && v.State.Task.ID == 0 || v.State.Stage.Over() })
	if !ok || v.State.Stage != stage {
		return fmt.Errorf("it did not come to %q: %v, %s %s", stage, v.State, v.Lacks, strings.Join(v.Guards, "; "))
	}
	if t.Where == asItBegins {
		return nil
	}
	limit := knowLimit
	if t.Where == atOne {
		limit = 2 * knowLimit
	}
	if v, ok = t.keeper.until(ctx, limit, func(v told) bool { return len(v.Blind) == 0 && v.Lacks == "" }); !ok {
		return fmt.Errorf("its guards do not know enough: %s %s", v.Lacks, strings.Join(v.Guards, "; "))
	}
	return sleep(ctx, 3*time.Second)
}

func sleep(ctx context.Context, d time.Duration) error {
	select {
	case <-time.After(d):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// prelude is what happens before the fault.
func (t *trial) prelude(ctx context.Context) error {
	switch t.Variant {
	case unreadable:
		if err := t.unread(true); err != nil {
			return err
		}
		if v, ok := t.keeper.until(ctx, 15*time.Second, func(v told) bool { return v.Lacks != "" }); !ok {
			return fmt.Errorf("the front is read all the same: %v", v.State)
		}
	case cutOff:
		t.door.cut()
		return sleep(ctx, 3*time.Second)
	case overruled:
		if err := t.scenario.Befall(demo.NewVersion, demo.Trouble{Kind: demo.Failing, Part: 0.1}); err != nil {
			return err
		}
		v, ok := t.keeper.until(ctx, faultLimit, func(v told) bool { return v.State.Frozen() })
		if !ok {
			return fmt.Errorf("10 %% of errors do not freeze it: %v, %s", v.State, strings.Join(v.Guards, "; "))
		}
		// Both guards that see it are overruled, whichever comes first.
		for range 3 {
			if err := sleep(ctx, 4*time.Second); err != nil {
				return err
			}
			if t.keeper.now().State.Frozen() {
				if err := t.keeper.do(keeper.Command{Act: crossing.Resume{}, By: "torment"}); err != nil {
					return err
				}
			}
		}
		if v, ok := t.keeper.until(ctx, 5*time.Second, func(v told) bool { return !v.State.Frozen() }); !ok {
			return fmt.Errorf("it is still frozen: %v", v.State)
		}
	}
	return nil
}

// unread makes the front unreadable, or readable again.
func (t *trial) unread(gone bool) error {
	if t.manager != nil {
		if gone {
			t.manager.cut()
			return nil
		}
		return t.manager.mend()
	}
	file := filepath.Join(t.scenario.Folder, "proxy",
		map[string]string{"haproxy": "admin.sock", "nginx": "sailings.conf",
			"httpd, include": "sailings.conf"}[t.Front])
	if gone {
		return os.Rename(file, file+".away")
	}
	return os.Rename(file+".away", file)
}

// hurt begins the fault, and waits for what comes of it.
func (t *trial) hurt(ctx context.Context) (o outcome, err error) {
	o.Cell = t.cell
	stage := t.keeper.now().State.Stage
	begun := time.Now()
	switch t.Fault {
	case "killed":
		err = t.killAll()
	case frontAgain:
		t.scenario.KillFront()
		if err = sleep(ctx, time.Second); err == nil {
			err = t.scenario.FrontAgain(ctx)
		}
	case reloads, logOff, wired:
		err = t.scenario.Reload(t.reload())
	case bothFail:
		err = errors.Join(t.scenario.Befall(demo.OldVersion, t.trouble()),
			t.scenario.Befall(demo.NewVersion, t.trouble()))
	default:
		err = t.scenario.Befall(demo.NewVersion, t.trouble())
	}
	if err != nil {
		return o, err
	}
	if t.Variant == restarted {
		t.keeper.kill()
		if t.keeper, err = keeperOf(t.self, t.file); err != nil {
			return o, err
		}
	}
	after := func(at time.Time) float64 { return max(at.Sub(begun).Seconds(), 0.1) }
	found := map[uint64]bool{} // freezes that are not about this
	for _, f := range t.keeper.now().State.Freezes {
		found[f.ID] = true
	}
	mended := t.Variant != unreadable
	end := time.Time{}
	for limit := begun.Add(faultLimit); time.Now().Before(limit) && end.IsZero(); {
		v, _ := t.keeper.until(ctx, 200*time.Millisecond, func(v told) bool { return v.State.Stage.Over() && v.Ready })
		if ctx.Err() != nil {
			return o, ctx.Err()
		}
		called := false
		for _, f := range v.State.Freezes {
			called = called || !oneof.IsA[crossing.FoundAgain](f.Cause) && !found[f.ID]
		}
		if o.Noticed == 0 && (v.State.GoingBack || v.State.Stage.Over() || v.Tripped || called ||
			v.Lacks != "" && !mended) {
			o.Noticed = after(v.At)
		}
		if o.Called == 0 && called {
			o.Called, o.Why = after(v.At), v.Frozen
		}
		o.WentOn = o.WentOn || v.State.Stage == crossing.Settled ||
			stage == crossing.Shifting && v.State.Stage == crossing.Keeping
		if v.State.Stage == crossing.RolledBack {
			end = v.State.Since
			o.Home, o.Why = after(end), v.Why
		}
		if !mended && time.Since(begun) > unreadFor {
			mended = true
			if err := t.unread(false); err != nil {
				return o, err
			}
		}
	}
	if end.IsZero() {
		end = time.Now()
		o.Why = strings.TrimSpace(o.Why + " " + strings.Join(t.keeper.now().Guards, "; "))
	}
	if err := sleep(ctx, clientWaits+500*time.Millisecond); err != nil {
		return o, err
	}
	o.Hit = t.client.hit(begun, end)
	return o, nil
}

// reload is what an operator writes into the proxy's configuration: what, and in place of what; nothing where it is
// only reloaded.
func (t *trial) reload() (was, is string) {
	switch {
	case t.Fault == logOff && t.Front == "nginx":
		return `access_log [^;]*;`, "access_log off;"
	case t.Fault == logOff:
		return `(?m)^(\s*)CustomLog .*$`, ""
	case t.Fault == wired:
		return `proxy_pass http://[^;]*;`, "proxy_pass http://sailings_green;"
	}
	return "", ""
}

// killAll ends all instances of the new version that the front sends requests to.
func (t *trial) killAll() error {
	files, err := filepath.Glob("/proc/[0-9]*/cmdline")
	if err != nil {
		return err
	}
	n := 0
	for _, file := range files {
		data, err := os.ReadFile(file)
		line := strings.ReplaceAll(string(data), "\x00", " ")
		if err != nil || !strings.Contains(line, filepath.Join(t.scenario.Folder, "builds", demo.NewVersion)) ||
			!strings.Contains(line, "--instance green-") || strings.Contains(line, "berths") {
			continue
		}
		pid, err := strconv.Atoi(filepath.Base(filepath.Dir(file)))
		if err != nil {
			return err
		}
		if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
			return err
		}
		n++
	}
	if n == 0 {
		return errors.New("no instance was found to be killed")
	}
	return nil
}

// freeAddress is one that nobody listens on.
func freeAddress() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	return l.Addr().String(), l.Close()
}
