package headless

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/situation"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/keeper/api"
	"vaiven/internal/keeper/logbook"
	"vaiven/internal/keeper/service"
	"vaiven/internal/proving/prober"
	"vaiven/internal/words"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/state"
)

// Sent is what came of requests that were sent by hand.
type Sent struct {
	Service string            `json:"service"`
	Asked   split.Share       `json:"asked"`   // on green, as the first front has it
	Answers [2]int64          `json:"answers"` // blue, green
	Nobody  int64             `json:"nobody"`  // of which it is not known whose they are
	Failing int64             `json:"failing"`
	Lost    int64             `json:"lost"`
	Share   float64           `json:"share"`          // of green among those that are known, 0 to 1
	Sure    evidence.Interval `json:"sure"`           // where it lies, 99 % sure however often it is looked at
	Last    string            `json:"last,omitempty"` // why the last one failed or was lost
}

// SentNow is what has come of them so far.
func SentNow(p *plan.Plan, asked split.Share, d reading.Door) Sent {
	seen := d.Over(time.Time{})
	w := Sent{Service: p.Service, Asked: asked, Failing: d.Failing, Lost: d.Lost,
		Nobody: seen.Nobody.Of + seen.Unreached}
	for _, side := range split.Sides {
		w.Answers[side] = seen.Sides[side].Of
	}
	c := evidence.Count{Bad: w.Answers[split.Green], Of: w.Answers[split.Green] + w.Answers[split.Blue]}
	w.Share, w.Sure = c.Rate(), evidence.Rate(c, 0.01)
	if n := len(d.Bad); n > 0 {
		w.Last = d.Bad[n-1].Why
	}
	return w
}

// Line says it for people, of so many that were to be sent.
func (w Sent) Line(of int) string {
	n := w.Answers[split.Blue] + w.Answers[split.Green]
	text := fmt.Sprintf("%d of %d: blue %d, green %d", n+w.Nobody, of, w.Answers[split.Blue], w.Answers[split.Green])
	if n > 0 {
		text += fmt.Sprintf(": %.1f %% on green (%.1f to %.1f %%), %v is in force", 100*w.Share, 100*w.Sure.Low,
			100*w.Sure.High, w.Asked)
	}
	if w.Nobody > 0 {
		text += fmt.Sprintf("; of %d it is not known whose they are", w.Nobody)
	}
	text += fmt.Sprintf("; %d failing, %d lost", w.Failing, w.Lost)
	if w.Last != "" {
		text += ", the last: " + w.Last
	}
	return text
}

// Where is where a service's requests go.
type Where struct {
	Service string       `json:"service"`
	Fronts  []FrontPlace `json:"fronts"`
	Keeper  *KeeperPlace `json:"keeper,omitempty"`
}

// KeeperPlace is how far the service's keeper is.
type KeeperPlace struct {
	Process  int               `json:"process"` // 0 if none answers: then the crossing is what the logbook ends with
	Since    time.Time         `json:"since"`
	Crossing crossing.State    `json:"crossing"`
	WayBack  wayback.Readiness `json:"way_back"`
	Watching int               `json:"watching"`
	// what has to be said first, as the screen's second line has it, and what comes next by itself
	Says string `json:"says,omitempty"`
	Next string `json:"next,omitempty"`
	// how bad it is: 0 all right, 1 a person is waited for, 2 something is wrong
	Gravity  situation.Gravity `json:"gravity"`
	Waiting  string            `json:"waiting,omitempty"`  // how it stands with a version that waits for its turn
	Standbys []string          `json:"standbys,omitempty"` // where standbys are that follow it
	// it is no keeper, but a standby; the crossing is what it has taken down
	Standby *api.Standing `json:"standby,omitempty"`
}

// AtKeeper asks the keeper how far it is, and where none answers the logbook whether a crossing was left; nil if
// there is nothing to say. What the fronts say does not depend on it.
func AtKeeper(ctx context.Context, r service.Reach) *KeeperPlace {
	if k, err := r.Open(ctx); err == nil {
		defer k.Close()
		if s, err := k.View(ctx); err == nil {
			is := situation.Of(s.View, situation.Seen{Trouble: s.Trouble, Heard: s.At}, s.At)
			return &KeeperPlace{k.Info.Process, k.Info.Since, s.Crossing, s.WayBack, s.Watching,
				words.Situation(is, s.View, "", s.At), words.Next(is.Then, s.Crossing), is.Gravity, Waiting(s),
				s.Standbys, nil}
		}
	} else if is, ok := errors.AsType[service.StandsBy](err); ok {
		return standing(ctx, r.Plan, is.Info)
	}
	if s, err := LeftAt(ctx, r.Plan); err == nil && s.Number > 0 {
		return &KeeperPlace{Crossing: s}
	}
	return nil
}

// standing is how it stands with a standby.
func standing(ctx context.Context, p *plan.Plan, i api.Info) *KeeperPlace {
	b := i.Standby
	k := &KeeperPlace{Process: i.Process, Since: i.Since, Standby: b,
		Says: words.Standby(b.For, b.Follows, b.Since, b.After, b.Trouble)}
	if !b.Follows {
		k.Gravity = situation.Waits
	}
	if s, err := LeftAt(ctx, p); err == nil {
		k.Crossing = s
	}
	return k
}

// Print says it for people.
func (k KeeperPlace) Print(w io.Writer) error {
	text := words.State(k.Crossing)
	if k.Crossing.Number > 0 {
		text = fmt.Sprintf("crossing %d: %s", k.Crossing.Number, text)
	}
	if k.Standby != nil {
		if k.Crossing.Number > 0 {
			text = ". By what it has taken down, " + text
		} else {
			text = ""
		}
		_, err := fmt.Fprintf(w, "%s%s\n", k.Says, text)
		return err
	}
	if k.Process == 0 && k.Crossing.Term.Over {
		_, err := fmt.Fprintln(w, "no keeper runs: another one has taken over, on another machine or from another state "+
			"folder; vaiven keep PLAN --take-over takes it back")
		return err
	}
	if k.Process == 0 && !k.Crossing.Stage.UnderWay() {
		_, err := fmt.Fprintf(w, "no keeper runs, so nobody watches %v, and nothing that ends is started again: "+
			"vaiven keep PLAN does, and vaiven keep PLAN --unit prints a unit file for one that stays\n",
			k.Crossing.Live())
		return err
	}
	if k.Process == 0 {
		_, err := fmt.Fprintf(w, "no keeper answers: %s, as the logbook has it; vaiven open PLAN, or vaiven keep "+
			"PLAN, goes on with it\n", text)
		return err
	}
	if k.WayBack.State != "" {
		text += fmt.Sprintf("; way back %s", k.WayBack.State)
		if why := words.WayBack(k.WayBack, time.Now()); why != "" {
			text += " (" + why + ")"
		}
	}
	if k.Says != "" {
		next := ""
		if k.Next != "" {
			next = "; " + k.Next
		}
		if _, err := fmt.Fprintf(w, "%s%s\n", k.Says, next); err != nil {
			return err
		}
	}
	if k.Waiting != "" {
		if _, err := fmt.Fprintln(w, k.Waiting); err != nil {
			return err
		}
	}
	_, err := fmt.Fprintf(w, "keeper, process %d since %s: %s; %s, %d watch%s\n", k.Process,
		k.Since.Local().Format("15:04:05"), text, words.Wheel(k.Crossing.Wheel), k.Watching, words.Followed(k.Standbys))
	return err
}

// FrontPlace is where one front sends requests.
type FrontPlace struct {
	Front  string        `json:"front"`
	Split  reading.Split `json:"split"`
	Notice string        `json:"notice,omitempty"`
	// requests and connections that it refused or cut off since it started, by reason
	Refused map[string]int64 `json:"refused,omitempty"`
	Sides   [2]SidePlace     `json:"sides"` // blue, green
	// requests that the front answered itself with an error while they were counted, assigned to no side
	Own     int64         `json:"own,omitempty"`
	Counted time.Duration `json:"counted"`
	// addresses that it sends requests to, where it is not steered yet; the rest says nothing then
	Passes   []string          `json:"passes,omitempty"`
	Judgment *engine.SplitView `json:"judgment,omitempty"` // none if nothing was counted
}

// refusedText is what a front refused, most often first.
func refusedText(counts map[string]int64) string {
	reasons := slices.SortedFunc(maps.Keys(counts), func(a, b string) int {
		return cmp.Or(cmp.Compare(counts[b], counts[a]), strings.Compare(a, b))
	})
	var list []string
	for _, why := range reasons {
		list = append(list, fmt.Sprintf("%d %s", counts[why], why))
	}
	return strings.Join(list, " · ")
}

// passes are the addresses that a front sends requests to whose configuration is not Vaiven's to change yet.
func passes(ctx context.Context, p *plan.Plan, f plan.Front, why error) ([]string, error) {
	kind := all.Of(f)
	c, ok := f.Settings.(interface{ Configuration() string })
	if !ok || kind.Survey == nil {
		return nil, why
	}
	on, end := all.On(f.At)
	defer end()
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	found, err := kind.Survey(ctx, on, front.Target{Name: c.Configuration()})
	if err != nil {
		return nil, errors.Join(why, err)
	}
	behind := ""
	if b, ok := f.Settings.(interface{ Behind() string }); ok {
		behind = b.Behind()
	}
	var list []string
	for _, s := range found {
		switch {
		case behind != "" && s.Name != behind:
			continue
		case behind == "" && s.Listen != front.AtPort(f.Listen, "80"):
			continue
		case behind == "" && p.Door.Host != "" && s.Host != "" && s.Host != p.Door.Host: // another virtual host's
			continue
		}
		for _, i := range s.Servers {
			if i.In {
				list = append(list, i.Address)
			}
		}
	}
	if len(list) == 0 {
		return nil, why
	}
	return list, nil
}

// SidePlace is one side at a front, and what was counted there.
type SidePlace struct {
	Instances []ServerPlace `json:"instances"`
	Requests  int64         `json:"requests"`
	Failing   int64         `json:"failing"`
	// ended before the length that they named, beside the failing ones
	Cut    int64 `json:"cut,omitempty"`
	Probes int64 `json:"probes,omitempty"` // the prober's, beside the requests, where the front knows them
	Kept   int64 `json:"kept,omitempty"`   // sessions that keep somebody there, as far as this reading tells
}

// ServerPlace is one instance as the front has it.
type ServerPlace struct {
	reading.Server
	Ended string `json:"ended,omitempty"` // how, of one that does not run any more
}

// running is how many of a side's instances run, as far as can be told.
func (s SidePlace) running() int {
	n := 0
	for _, i := range s.Instances {
		if i.Ended == "" {
			n++
		}
	}
	return n
}

// WhoStands are the instances that requests go to, by address, as far as can be asked:
// some fronts know no more than addresses.
func WhoStands(ctx context.Context, p *plan.Plan) map[string]reading.Instance {
	known := map[string]reading.Instance{}
	y, err := service.OpenStacks(p, secret.Values{}) // nothing is started here
	if err != nil {
		return known
	}
	defer y.Set.Close()
	for _, side := range split.Sides {
		list, _ := y.Set.List(ctx, side)
		for _, i := range list {
			if i.Part == p.Main().Name {
				known[i.Address] = i
			}
		}
	}
	return known
}

// named gives instances that a front knows by no more than their addresses the names and versions that are known.
func named(r reading.Front, known map[string]reading.Instance) {
	for _, s := range r.Sides {
		for n := range s.Instances {
			if i, ok := known[s.Instances[n].Address]; ok && s.Instances[n].Version == "" {
				s.Instances[n].Name, s.Instances[n].Version = i.Name, i.Version
			}
		}
	}
}

// CountAt counts what the fronts of a plan answer for a while, and says of each where its requests go.
func CountAt(ctx context.Context, p *plan.Plan, span time.Duration) ([]FrontPlace, error) {
	var list []FrontPlace
	known := WhoStands(ctx, p)
	for _, f := range p.Fronts() {
		at, err := whereIs(ctx, p, f, known, span)
		if errors.Is(err, front.ErrNotMade) || errors.Is(err, front.ErrNotIncluded) {
			at.Passes, err = passes(ctx, p, f, err)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Name(), err)
		}
		list = append(list, at)
	}
	return list, nil
}

// whereIs reads one front, twice if requests are to be counted.
func whereIs(ctx context.Context, p *plan.Plan, f plan.Front, known map[string]reading.Instance,
	span time.Duration) (FrontPlace, error) {
	d := all.One(p, f)
	at := FrontPlace{Front: f.Name(), Counted: span}
	if err := front.Included(ctx, d); errors.Is(err, front.ErrNotIncluded) { // what else is in the way, reading says
		return at, err
	}
	var series figures.Series
	read := func() (reading.Front, error) {
		r, err := readFront(ctx, d, &series)
		named(r, known)
		return r, err
	}
	r, err := read()
	var probed [2]int64
	steady := span > 0
	for range recounts {
		before := r.Split
		if err != nil || span <= 0 {
			break
		}
		if probed, err = probe(ctx, p, f, r, span); err == nil {
			r, err = read()
		}
		if steady = err == nil && r.Split.Revision == before.Revision && r.Split.Share == before.Share; steady {
			break
		}
		series = figures.Series{} // what was counted belongs to two shares
		if err == nil {
			err = series.Add(r)
		}
	}
	if err != nil {
		return at, err
	}
	at.Split, at.Refused = r.Split, r.Refused
	at.Notice = cmp.Or(words.ClosedAt(r.Order, "PLAN"), r.Notice)
	if !steady && span > 0 {
		at.Counted = 0
		at.Notice = strings.TrimSpace("the share was changed again and again while requests were counted: not judged. " + at.Notice)
	}
	for _, side := range split.Sides {
		s := &at.Sides[side]
		s.Instances = []ServerPlace{}
		for _, c := range r.Sides[side].Instances {
			i := ServerPlace{Server: c.Server}
			if k, ok := known[c.Address]; ok && !k.Running {
				i.Ended = cmp.Or(k.Exit, k.Waits, "ended")
			}
			s.Instances = append(s.Instances, i)
		}
		figures := series.Count(side, time.Time{}, 0)
		s.Kept = r.Sides[side].Kept
		s.Requests, s.Failing, s.Cut, s.Probes = figures.Requests, figures.Failing, figures.Cut, figures.Probes
	}
	at.Own = series.Own(time.Time{})
	if at.Counted > 0 {
		f.Sticky = f.Sticky || r.Sessions
		v := engine.JudgeSplit(at.Split.Share, f, r.Tells, engine.Split(&series, time.Time{}, f, r.Tells), probed)
		at.Judgment = &v
	}
	return at, nil
}

// recounts is how often requests are counted anew because the share was changed meanwhile.
const recounts = 3

// probe asks at a front for a while, and counts the answers by side.
func probe(ctx context.Context, p *plan.Plan, f plan.Front, r reading.Front, span time.Duration) ([2]int64, error) {
	asking, stop := context.WithTimeout(ctx, span)
	defer stop()
	asker, err := newAsker(p, []plan.Front{f}, r)
	if errors.Is(err, fs.ErrPermission) { // what is asked needs a secret of the keeper's user: users alone are counted
		<-asking.Done()
		return [2]int64{}, ctx.Err()
	}
	if err != nil {
		return [2]int64{}, err
	}
	asker.Run(asking)
	return asker.Report(time.Now()).Seen(time.Time{}), ctx.Err()
}

// NewAsker is the plan's prober for all of its fronts, beside what was read of them.
func NewAsker(ctx context.Context, p *plan.Plan) (*prober.Prober, reading.Front, error) {
	r, err := readFront(ctx, all.Open(p), &figures.Series{})
	if err != nil {
		return nil, r, err
	}
	named(r, WhoStands(ctx, p))
	asker, err := newAsker(p, p.Fronts(), r)
	return asker, r, err
}

// newAsker is the plan's prober for some fronts, which knows by their versions who answers.
func newAsker(p *plan.Plan, fronts []plan.Front, r reading.Front) (*prober.Prober, error) {
	marker, err := os.ReadFile(p.Secret())
	// There is none before the first screen, and another user's is not ours: then versions alone say who answers.
	if err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrPermission) {
		return nil, err
	}
	secrets, err := secret.Read(p.Secrets)
	if err != nil && len(p.Door.Headers) > 0 { // else nothing that is asked needs one
		return nil, err
	}
	asker := service.NewProber(p, fronts, string(marker), secrets)
	var runs [2]prober.Runs
	for side, s := range r.Sides {
		for n, c := range s.Instances {
			if runs[side].Somebody = true; n == 0 {
				runs[side].Version = c.Version
			} else if c.Version != runs[side].Version {
				runs[side].Version = ""
			}
		}
	}
	asker.Sides(runs)
	return asker, nil
}

func readFront(ctx context.Context, d front.Driver, series *figures.Series) (reading.Front, error) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	r, err := d.Read(ctx)
	if err != nil {
		return r, err
	}
	return r, series.Add(r)
}

// NewSide is the side that a share is said of: that of the new version while something crosses.
func (w Where) NewSide() split.Side {
	if w.Keeper != nil && w.Keeper.Crossing.Stage.UnderWay() {
		return w.Keeper.Crossing.Target
	}
	return split.Green
}

// Print says it for people.
func (w Where) Print(out io.Writer) error {
	if err := w.printFronts(out); err != nil || w.Keeper == nil {
		return err
	}
	return w.Keeper.Print(out)
}

func (here Where) printFronts(w io.Writer) error {
	list, k := here.Fronts, here.Keeper
	for _, at := range list {
		if len(at.Passes) > 0 {
			fmt.Fprintf(w, "%s, %s: not Vaiven's to steer yet: all requests go to %s; vaiven front PLAN says what "+
				"its configuration needs\n", here.Service, at.Front, strings.Join(at.Passes, ", "))
			continue
		}
		fresh := ""
		if k != nil && k.Crossing.Stage.UnderWay() {
			fresh = ", " + words.On(at.Split.Share, k.Crossing.Target) + " (new)"
		}
		fmt.Fprintf(w, "%s, %s: %v of the requests go to green%s\n", here.Service, at.Front, at.Split.Share, fresh)
		for _, side := range split.Sides {
			s := at.Sides[side]
			fmt.Fprintf(w, "  %-5v %2d instances", side, s.running())
			if at.Counted > 0 {
				fmt.Fprintf(w, "   %d requests in %gs, %d failing", s.Requests, at.Counted.Seconds(), s.Failing)
				if s.Cut > 0 {
					fmt.Fprintf(w, ", %d cut short", s.Cut)
				}
				if s.Probes > 0 {
					fmt.Fprintf(w, "; %d of the prober", s.Probes)
				}
				if s.Kept > 0 {
					fmt.Fprintf(w, "; %d sessions", s.Kept)
				}
			}
			fmt.Fprintln(w)
			for _, i := range s.Instances {
				out := ""
				switch {
				case i.Ended != "":
					out = "  does not run: " + i.Ended
				case i.Out:
					out = "  out"
				case i.Control:
					out = "  control"
				}
				fmt.Fprintf(w, "        %-12s %-21s %s%s\n", i.Name, i.Address, i.Version, out)
			}
		}
		if at.Own > 0 {
			fmt.Fprintf(w, "  front               %d requests in %gs that it answered itself with an error: nobody "+
				"was there for them\n", at.Own, at.Counted.Seconds())
		}
		if at.Judgment != nil {
			fmt.Fprintf(w, "  split %s\n", words.Split(*at.Judgment, "requests"))
		}
		if at.Notice != "" {
			fmt.Fprintf(w, "  note  %s\n", at.Notice)
		}
		if len(at.Refused) > 0 {
			fmt.Fprintf(w, "  refused or cut off since the front started: %s\n", refusedText(at.Refused))
		}
	}
	for _, at := range list[1:] {
		if at.Split.Share != list[0].Split.Share {
			fmt.Fprintf(w, "the fronts differ: %s has %v on green, %s has %v\n", at.Front, at.Split.Share,
				list[0].Front, list[0].Split.Share)
		}
	}
	return nil
}

// logLimit is how long the logbook is waited for to say which side is home.
const logLimit = time.Second

// LeftAt is the state that a plan's logbook ends with, if there is one, or where that is another user's what that one's
// keeper shows of it. It ends with the limit, whatever the disk does.
func LeftAt(ctx context.Context, p *plan.Plan) (crossing.State, error) {
	ctx, cancel := context.WithTimeout(ctx, logLimit)
	defer cancel()
	type answer struct {
		state crossing.State
		err   error
	}
	read := make(chan answer, 1)
	go func() {
		s, err := load(ctx, p)
		read <- answer{s, err}
	}()
	select {
	case a := <-read:
		return a.state, a.err
	case <-ctx.Done():
		return crossing.State{}, fmt.Errorf("it has said nothing within %v", logLimit)
	}
}

func load(ctx context.Context, p *plan.Plan) (crossing.State, error) {
	err := service.OwnLogbook(p)
	if errors.Is(err, state.ErrOthers) {
		return service.Shown(p)
	}
	if err != nil {
		return crossing.State{}, err
	}
	book, err := logbook.Read(p.Logbook())
	if err != nil {
		return crossing.State{}, err
	}
	defer func() { _ = book.Close() }()
	s, _, err := book.Load(ctx)
	return s, err
}
