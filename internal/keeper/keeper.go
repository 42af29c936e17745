package keeper

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"os"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/semaphore"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/proving/differ"
	"vaiven/internal/proving/prober"
	"vaiven/internal/proving/prove"
	"vaiven/internal/stack"
	"vaiven/internal/words"
	"vaiven/internal/world/check"
	"vaiven/internal/world/post"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/source"
	"vaiven/internal/world/versions"
)

// Front is all that the keeper asks of a front.
type Front = front.Driver

// Stacks is all that the keeper asks of the stacks of a service.
type Stacks interface {
	differ.Standing
	// Raise makes every part of the side consist of the planned number of instances
	// of a build. It can be repeated.
	Raise(ctx context.Context, side split.Side, builds map[string]stack.Build) error
	// List is every instance of the side, also those that ended. What could be read
	// is there even beside an error.
	List(context.Context, split.Side) ([]reading.Instance, error)
	// Restart starts an instance again that has ended; see [stack.Restarter].
	Restart(context.Context, reading.Instance, stack.Again) (stack.Restarted, error)
	// Rotate keeps what a side's instances print from growing without end.
	Rotate(context.Context, split.Side) error
	// Stop ends all instances of the side, gracefully first.
	Stop(context.Context, split.Side) error
}

// Health reads the health of a side's instances again and again.
type Health interface {
	// Round reads all instances at once, and returns their conditions in the same order.
	Round(context.Context, []reading.Instance) []reading.Condition
}

// Prober asks at the front door.
type Prober interface {
	Run(context.Context)
	Report(now time.Time) reading.Door
	// Sides says which versions the sides run, "" for none or several.
	Sides([2]prober.Runs)
	// Rest has it ask seldom.
	Rest(bool)
	// Learn says whether only the live side is asked: what its answers have in common may be wanted later.
	Learn(bool)
}

// Book is all that the keeper asks of a logbook.
type Book interface {
	// Append records events, all or none, with the state that they led to.
	Append(context.Context, crossing.State, []crossing.Event) error
	// Check writes something of no meaning, to see whether events could be written.
	Check(context.Context) error
	// Load is the state that the book ends with, and how many events were not understood.
	Load(context.Context) (s crossing.State, unknown int, err error)
	// Raises is how long instances took until they were healthy in the last
	// crossings.
	Raises(context.Context) ([]time.Duration, error)
	// Past are earlier crossings, the newest first.
	Past(context.Context) ([]crossing.Past, error)
	// Since are events after the one with a sequence number, in order, at most so many.
	Since(ctx context.Context, seq uint64, most int) ([]crossing.Event, error)
	// Events are a crossing's, in order.
	Events(ctx context.Context, number int) ([]crossing.Event, error)
	// Digest is that of a crossing's events up to one, and how many they are.
	Digest(ctx context.Context, number int, upTo uint64) (sum string, events int, err error)
}

// Trail is what a keeper leaves to the one after it, also where it is killed. It is asked from one goroutine.
type Trail interface {
	// Gathered is the evidence that was kept last; of no crossing if none was.
	Gathered() (engine.Gathered, error)
	// Keep keeps evidence, as JSON of a Gathered.
	Keep([]byte) error
}

// Recording keeps what is seen of each crossing. Take and Close are asked from one goroutine, and wait for no disk; the
// rest may be asked at any time.
type Recording interface {
	// Take records a moment, and the points of the track that are new.
	Take(Snapshot, []engine.Point)
	// Points are the track of the last hour, oldest first.
	Points() ([]engine.Point, error)
	// Read is what was recorded of a crossing, as its file has it.
	Read(number int) ([]byte, error)
	Close()
}

// Memory is what a keeper knows beside its logbook.
type Memory struct {
	Engine engine.Memory `json:"engine"`
	Proof  proof.Proof   `json:"proof"`
	About  prove.About   `json:"about"`
	// the keeper before was ended, and has handed nothing over: what it sent off counts no more
	Ended bool `json:"-"`
}

// Config is what a keeper works with. All fields have to be set, but for those that say
// otherwise.
type Config struct {
	Plan    *plan.Plan
	Secrets secret.Values
	Front   Front
	Stacks  Stacks
	Sources map[string]versions.Source // by part; a part without one takes the first part's versions
	Book    Book
	Prober  Prober
	Trail   Trail // nil: the evidence ends with the keeper
	// nil: nothing is recorded
	Recording Recording
	Memory    Memory // of the keeper that this one goes on for; empty if there is none

	Health func(split.Side) Health // nil: by the plan's checks
	// nil: at their own addresses
	Tell Tell
	// nil: the plan's sources
	Ask   Ask
	Prove func(context.Context, prove.Question) (proof.Proof, prove.About)                 // nil: [prove.Prove]
	Hold  func(context.Context, prove.Question, wayback.Record, []byte, int) wayback.Looks // nil: [prove.Hold]
	// identity of the state folder, "" if it is not known
	Folder string
	// nil: by mail, webhook or command
	Send Send
	// nil: no versions are made
	Make Make
	// for digests of what a side was
	Key []byte
	Log *slog.Logger // nil: the default one
}

// The rhythm of the keeper, and its limits.
const (
	tickEvery    = 100 * time.Millisecond // time passes for the engine, and snapshots are taken while something moves
	idleEvery    = 500 * time.Millisecond // snapshots while nothing does
	frontLimit   = 2 * time.Second        // for one reading of the front
	setLimit     = front.ChangeLimit      // for one change of it
	bookLimit    = 2 * time.Second        // for the logbook to take an entry
	roundLimit   = 15 * time.Second       // for the health of all instances of a side; each check has its own as well
	listLimit    = 10 * time.Second       // for a list of a side's instances
	restartLimit = 20 * time.Second       // for one instance to be started again
	rotateEvery  = time.Minute            // output is looked at

	// What is under way when the keeper ends has little time: whoever asks for its end is
	// heard within a second, and what hangs is left behind. Entries that wait for the logbook
	// have longer if its disk is slow.
	effectsLimit = 400 * time.Millisecond
	flushLimit   = time.Second
	partsLimit   = 300 * time.Millisecond
)

// loop is the goroutine that owns the engine, and all that others see of it: what it takes in is recorded and told.
type loop struct {
	Config

	inbox   chan func(now time.Time) // what it does next
	done    chan struct{}            // closed when it has ended
	effects sync.WaitGroup           // of what goes on beside it
	latest  atomic.Pointer[Snapshot]
	hub     hub
	guests  guests
	log     *journal
	book    *recorder

	mailroom *mailroom

	// What follows belongs to its goroutine.

	engine  *engine.Engine
	proofs  int         // begun so far, the last one's number
	proof   proof.Proof // the last one, or as far as it is
	about   prove.About
	proving bool
	notice  string // what the logbook had to say at the start
	afters  []after
	desk    *desk // of notices
	// how it stands with the version that waits for its turn
	starting Starting
	// how long tasks took until now
	durations crossing.Durations
	usual     map[crossing.TaskKind]time.Duration
}

// watcher reads front, sides and figures, rehearses, and hands in what it read.
type watcher struct {
	loop
	rests atomic.Bool // nothing moves and nobody looks
	read  atomic.Pointer[reading.Front]
	saw   atomic.Pointer[time.Time] // when that was
	term  term
}

// performer does what the engine orders, beside the loop, and reports what came of it.
type performer struct {
	watcher
	kick chan struct{} // has whoever goes home try again at once

	// What follows belongs to the loop.

	running  running
	hooked   passage
	telling  bool                    // the front is being given instances
	toldAt   time.Time               // when it was last
	looks    []func(context.Context) // what was asked for beside a crossing, and has not begun
	aftering bool                    // hooks run that run after what happened
}

// Keeper runs one service's crossings, for its clients. Make it with New. It performs what its engine
// orders, and judges nothing.
type Keeper struct {
	performer
	handed     bool // another goes on; it belongs to the loop
	remembered remembered
}

// running is the task that is being performed.
type running struct {
	id     uint64
	cancel context.CancelCauseFunc
}

// passage is a task that the hooks of a moment have let through: they are not asked again where it was only withheld
// for a while.
type passage struct {
	task   uint64
	moment plan.HookMoment
}

// usualOver is over how many of the last events it is known how long things usually take.
const usualOver = 2000

// learnUsual reads from the logbook how long things usually take. Nothing depends on it.
func (l *loop) learnUsual(ctx context.Context) {
	seq := l.Crossing().Seq
	before, err := l.Book.Since(ctx, seq-min(seq, usualOver), usualOver)
	if err != nil {
		l.log.warn("how long things usually take is not known", "err", err)
		return
	}
	var d crossing.Durations
	for _, e := range before {
		d.Add(e)
	}
	l.tell(func(now time.Time) {
		if len(l.usual) == 0 {
			l.durations, l.usual = d, d.Usual()
			l.publish(now)
		}
	})
}

// New makes a keeper with the state that the logbook ends with. It starts nothing.
func New(ctx context.Context, c Config) (*Keeper, error) {
	k := &Keeper{performer: performer{
		watcher: watcher{loop: loop{Config: c, inbox: make(chan func(time.Time)), done: make(chan struct{})}},
		kick:    make(chan struct{}, 1),
	}}
	k.running.cancel = func(error) {}
	if k.Health == nil {
		k.Health = func(split.Side) Health { return check.NewMonitor(c.Plan, c.Secrets, c.Stacks.From) }
	}
	if k.Tell == nil {
		k.Tell = k.tellFigures
	}
	if k.Ask == nil {
		k.Ask = source.New(c.Plan, c.Secrets).Read
	}
	if k.Send == nil {
		k.Send = post.Post{Mail: c.Plan.Notices.Mail, Secrets: c.Secrets}.Send
	}
	if k.Prove == nil {
		k.Prove = prove.Prove
	}
	if k.Hold == nil {
		k.Hold = prove.Hold
	}
	k.log = newJournal(c.Log)
	state, unknown, err := c.Book.Load(ctx)
	if err != nil {
		return nil, err
	}
	if unknown > 0 {
		k.notice = "the logbook has entries of a newer Vaiven, which are kept and passed over"
		k.log.warn("entries of a newer Vaiven are passed over", "number", unknown)
	}
	k.book = newRecorder(c.Book, state.Seq)
	k.hub.seq = state.Seq
	k.proof, k.about = c.Memory.Proof, c.Memory.About
	m := c.Memory.Engine
	if m.At.IsZero() && c.Recording != nil {
		if m.Track, err = c.Recording.Points(); err != nil {
			k.log.warn("the track until now is not known", "err", err) // nothing depends on it
		}
	}
	if m.At.IsZero() && c.Trail != nil {
		if m.Gathered, err = c.Trail.Gathered(); err != nil {
			k.log.warn("the evidence until now is not known: guards begin anew", "err", err)
		}
	}
	k.term.turn = semaphore.NewWeighted(1)
	// it may still be on its way
	k.term.begins = c.Memory.Ended || m.At.IsZero() &&
		(state.Task.Do == crossing.TaskMove || state.Late.ID != 0 || state.Term.Begins)
	if state.Term.Over && !k.term.begins {
		return nil, ErrTakenOver
	}
	k.term.known, k.term.number = state.Term.Known && !k.term.begins, state.Term.Number
	now := time.Now()
	k.engine = engine.New(c.Plan, state, now, m)
	k.mailroom = newMailroom()
	k.openDesk(state)
	k.typical(ctx)
	k.publish(now)
	return k, nil
}

// typical learns how long a raise usually takes.
func (w *watcher) typical(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, bookLimit)
	defer cancel()
	earlier, err := w.Book.Raises(ctx)
	if err != nil {
		w.log.warn("how long raises took is not known", "err", err) // nothing depends on it
		return
	}
	w.engine.SetTypical(raise.Typical(earlier))
}

// Run does the keeper's work until the context ends. Instances and front go on
// without it.
func (k *Keeper) Run(ctx context.Context) {
	defer close(k.done)
	ctx, stop := context.WithCancel(ctx)
	var parts sync.WaitGroup
	parts.Go(func() { k.book.run(ctx) })
	parts.Go(func() { k.log.run(ctx) })
	parts.Go(func() { k.watchFront(ctx) })
	parts.Go(func() { k.beginTerm(ctx) })
	parts.Go(func() { k.rehearse(ctx) })
	parts.Go(func() { k.watchWayBack(ctx) })
	parts.Go(func() { k.rotate(ctx) })
	parts.Go(func() { k.watchFigures(ctx) })
	parts.Go(func() { k.askFigures(ctx) })
	parts.Go(func() { k.watchOutside(ctx) })
	parts.Go(func() { k.watchExpiry(ctx) })
	parts.Go(func() { k.goOn(ctx) })
	parts.Go(func() { k.start(ctx) })
	parts.Go(func() { k.learnUsual(ctx) })
	parts.Go(func() { front.Run(ctx, k.Front) })
	for _, side := range split.Sides {
		parts.Go(func() { k.watchSide(ctx, side) })
	}
	parts.Go(func() { k.Prober.Run(ctx) })
	parts.Go(func() { k.record(ctx) })
	parts.Go(func() { k.keepEvidence(ctx) })
	defer func() {
		stop()
		within(effectsLimit, k.effects.Wait)
		within(flushLimit, func() { k.book.flush() })
		within(partsLimit, parts.Wait)
		k.hub.close()
	}()
	tick := tickEvery
	ticker := time.NewTicker(tick)
	defer ticker.Stop()
	asleep := newSleep()
	k.perform(ctx)
	for {
		select {
		case <-ctx.Done():
			return
		case do := <-k.inbox:
			do(time.Now())
			if k.handed || k.term.over.Load() {
				return
			}
			k.perform(ctx)
			tick = k.pace(ticker, tick)
		case <-ticker.C:
			now := time.Now()
			if slept := asleep.since(); slept >= sleepLeast {
				k.happened(k.engine.Slept(now, slept))
			}
			k.engine.Present(now, k.guests.here)
			k.engine.DoorRead(k.Prober.Report(now))
			k.happened(k.engine.Pass(now))
			k.perform(ctx)
			k.deliver(ctx, now)
			k.restart(ctx, now)
			tick = k.pace(ticker, tick)
			if k.busy() || now.Sub(k.latest.Load().At) >= idleEvery {
				k.publish(now)
			}
		}
	}
}

// pace has the loop and the prober go slowly while nothing moves and nobody looks.
func (w *watcher) pace(ticker *time.Ticker, tick time.Duration) time.Duration {
	rest := !w.busy() && w.Watching() == 0
	w.Prober.Rest(rest)
	w.rests.Store(rest)
	now := tickEvery
	if rest {
		now = idleEvery
	}
	if now != tick {
		ticker.Reset(now)
		collect(rest)
	}
	return now
}

// collect has memory that is not used any more found sooner at rest, when there is little of it and time for that.
// Whoever sets GOGC has the say.
func collect(rest bool) {
	percent := 100
	if rest {
		percent = 50
	}
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(percent)
	}
}

// within waits for something, but not for ever.
func within(limit time.Duration, wait func()) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		wait()
	}()
	timer := time.NewTimer(limit)
	defer timer.Stop()
	select {
	case <-done:
	case <-timer.C:
	}
}

// post has the loop do something, unless the keeper ends.
func (l *loop) post(ctx context.Context, do func(now time.Time)) {
	select {
	case l.inbox <- do:
	case <-l.done:
	case <-ctx.Done():
	}
}

// tell has the loop take something in, however long that takes, unless the keeper ends.
func (l *loop) tell(do func(now time.Time)) { l.post(context.Background(), do) }

// busy reports whether anything moves that a screen should follow closely.
func (l *loop) busy() bool {
	s := l.engine.State()
	return s.Stage.UnderWay() || s.Task.ID != 0
}

// happened records events and tells them.
func (l *loop) happened(events []crossing.Event) {
	if len(events) == 0 {
		return
	}
	l.book.add(l.engine.State(), events)
	for _, e := range events {
		if b, ok := e.What.(crossing.Begun); ok {
			l.proof, l.about, l.proving = proof.Proof{}, prove.About{}, false
			l.log.info("crossing begins", "number", b.Number, "version", raise.Main(b.Choices).Version, "target",
				b.Target)
		}
		if l.durations.Add(e) > 0 {
			l.usual = l.durations.Usual()
		}
		l.follow(e)
		l.tellOf(e)
		l.log.debug("event", "seq", e.Seq, "crossing", e.Crossing, "kind", e.What.Kind(), "by", e.By)
		l.hub.send(e)
	}
}

// publish makes a snapshot and sends it to whoever watches.
func (l *loop) publish(now time.Time) {
	s := Snapshot{View: l.engine.View(now), Proof: l.proof, Proofs: l.proofs, Proving: l.proving, About: l.about,
		Trouble: l.book.trouble(now), Starting: l.starting, Usual: l.usual}
	s.Present, s.Watching = l.guests.list()
	s.Standbys = l.guests.following()
	if s.Trouble == "" {
		s.Trouble = l.notice
	}
	s.Front.Notice = cmp.Or(words.ClosedAt(s.Front.Order, l.Plan.File), s.Front.Notice, l.elsewhere(s.View))
	_, alone := s.Front.Split.Share.Alone()
	l.Prober.Learn(s.Ready && alone && len(s.Front.Apart) == 0 && s.Crossing.Stage != crossing.Shifting &&
		s.Crossing.Stage != crossing.Keeping)
	var runs [2]prober.Runs
	for side, v := range s.Sides {
		runs[side] = prober.Runs{Somebody: len(v.Instances) > 0, Version: v.Version}
	}
	l.Prober.Sides(runs)
	l.latest.Store(&s)
	l.hub.publish(s)
}

// elsewhere is what was noted in another state folder than this one, and is missing here; "" for nothing.
func (l *loop) elsewhere(v engine.View) string {
	from := func(what, folder string) string {
		if l.Folder == "" || folder == "" || folder == l.Folder {
			return ""
		}
		return what + " from another state folder than " + l.Plan.State + ": what is noted there is missing here"
	}
	text := cmp.Or(from("the logbook comes", v.Crossing.Folder),
		from("the front was sent home last", v.Front.Order.Folder))
	for _, side := range split.Sides {
		for _, i := range v.Sides[side].Instances {
			text = cmp.Or(text, from(i.Name+" was started", i.Folder))
		}
	}
	return text
}

// errStopped is what a keeper answers that has stopped.
var errStopped = errors.New("the keeper has stopped")
