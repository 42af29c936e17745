package keeper

import (
	"context"
	"errors"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/notice"
	"vaiven/internal/core/past"
	"vaiven/internal/core/plan"
	"vaiven/internal/words"
	"vaiven/internal/world/peer"
	"vaiven/internal/world/post"
)

// Send delivers a notice once; see [post.Post.Send].
type Send func(context.Context, plan.Receiver, notice.Message) error

// How notices are delivered.
const (
	sendLimit  = 30 * time.Second // for one try
	sendFor    = 24 * time.Hour   // it is tried for so long after what it is about,
	againFirst = 5 * time.Second  // first after this, and then after twice as long each time,
	againMost  = 10 * time.Minute // but after this at the latest
	sendAtOnce = 8                // notices that are on their way together
	tellBack   = 2000             // events that are looked at for what a keeper before has not delivered,
	retryBook  = 2 * time.Second  // in a logbook that is tried again after this
)

// desk is what the loop knows of notices. It is nil where the plan has none.
type desk struct {
	*notice.Desk
	waiting []pending // not given to the mailroom yet
	from    uint64    // sequence number of the last event before this keeper
}

// pending is a letter without words: those take a view of everything, and nothing that is decided waits for them.
type pending struct {
	letter notice.Letter
	state  crossing.State // after its newest event
}

// written is a letter in words.
type written struct {
	letter  notice.Letter
	message notice.Message
}

// mailroom delivers letters beside the loop. A receiver that is dead delays nothing but its own.
type mailroom struct {
	all   *semaphore.Weighted
	mu    sync.Mutex
	turns map[string]*semaphore.Weighted // by receiver: one at a time
}

func newMailroom() *mailroom {
	return &mailroom{all: semaphore.NewWeighted(sendAtOnce), turns: map[string]*semaphore.Weighted{}}
}

// turn is whose turn it is at a receiver.
func (m *mailroom) turn(to plan.Receiver) *semaphore.Weighted {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.turns[to.Who()] == nil {
		m.turns[to.Who()] = semaphore.NewWeighted(1)
	}
	return m.turns[to.Who()]
}

// openDesk makes a desk. What a keeper before has not delivered is found beside the loop, see goOn.
func (l *loop) openDesk(s crossing.State) {
	if l.Plan.Notices.On() {
		l.desk = &desk{Desk: notice.NewDesk(l.Plan.Service, l.Plan.Notices.Rules), from: s.Seq}
	}
}

// goOn delivers what a keeper before has not: it follows from the logbook, which is read again until it can be.
func (l *loop) goOn(ctx context.Context) {
	if l.desk == nil {
		return
	}
	from := l.desk.from // it never changes
	var before []crossing.Event
	for {
		limited, cancel := context.WithTimeout(ctx, bookLimit)
		list, err := l.Book.Since(limited, from-min(from, tellBack), tellBack)
		cancel()
		if err == nil {
			before = list
			break
		}
		l.log.warn("which notices are still to be delivered is not known yet", "err", err)
		select {
		case <-ctx.Done():
			return
		case <-time.After(retryBook):
		}
	}
	l.post(ctx, func(now time.Time) { l.undelivered(now, before) })
}

// undelivered has the letters wait that events from before this keeper ask for, and that are not delivered.
func (l *loop) undelivered(now time.Time, before []crossing.Event) {
	d := notice.NewDesk(l.Plan.Service, l.Plan.Notices.Rules)
	var list []pending
	at := crossing.State{}
	add := func(letters []notice.Letter) {
		for _, letter := range letters {
			list = append(list, pending{letter, at})
		}
	}
	for _, e := range before {
		if e.Seq > l.desk.from {
			break // of those on the desk has told
		}
		due := d.Due(e.At)
		at = crossing.Apply(at, e)
		add(append(due, d.Happened(e)...))
	}
	s := l.engine.State()
	add(l.desk.Take(d, s.Question.ID))
	l.desk.waiting = append(l.desk.waiting, notice.Undelivered(before, s.Told.Notices, now.Add(-sendFor), list,
		func(p pending) notice.Letter { return p.letter })...)
}

// write puts a letter into words.
func (l *loop) write(p pending, v engine.View, now time.Time) notice.Message {
	letter := p.letter
	m := words.Notice(letter, p.state, v, l.Plan, peer.Host(), now)
	hide := l.Secrets.Hide
	m.Subject, m.Users, m.Stands = hide(m.Subject), hide(m.Users), hide(m.Stands)
	for n := range m.Happened {
		m.Happened[n] = hide(m.Happened[n])
	}
	a := l.Plan.Notices.Answers
	rules := l.Plan.People.On() || l.Plan.People.FourEyes
	if m.Question == 0 || a.URL == "" || rules && letter.Receiver.As == "" {
		return m
	}
	m.Until = now.Add(a.For)
	m.Token = notice.Seal(l.Key, l.Plan.Service, notice.Token{Question: m.Question, To: letter.To,
		As: letter.Receiver.As, Until: m.Until})
	if a.Listen != "" {
		m.Link = a.URL + "/" + m.Token
	}
	return m
}

// tellOf takes note of the letters that an event asks for.
func (l *loop) tellOf(e crossing.Event) {
	if l.desk == nil {
		return
	}
	for _, letter := range l.desk.Happened(e) {
		l.desk.waiting = append(l.desk.waiting, pending{letter, l.engine.State()})
	}
}

// deliver writes and sends off what waits, and what time has made due.
func (l *loop) deliver(ctx context.Context, now time.Time) {
	if l.desk == nil {
		return
	}
	if !l.engine.State().Told.Notices.On {
		l.happened(l.engine.Tell(now, crossing.NoticesBegin{}))
	}
	for _, letter := range l.desk.Due(now) {
		l.desk.waiting = append(l.desk.waiting, pending{letter, l.engine.State()})
	}
	if len(l.desk.waiting) == 0 {
		return
	}
	view := l.engine.View(now)
	for _, p := range l.desk.waiting {
		w := written{p.letter, l.write(p, view, now)}
		l.effects.Go(func() { l.send(ctx, w) })
	}
	l.desk.waiting = nil
}

// send delivers one letter, and tries again for a day. What comes of it is recorded.
func (l *loop) send(ctx context.Context, w written) {
	to := w.letter.Receiver
	// A logbook that takes nothing keeps nobody from being told.
	if l.book.kept(ctx, w.letter.Of[len(w.letter.Of)-1]) == nil {
		w.message.Digest = l.digest(ctx, w.letter.Events)
	}
	turn, pause, tries := l.mailroom.turn(to), againFirst, 0
	for {
		tries++
		err := l.sendOnce(ctx, turn, w)
		refused := errors.Is(err, post.ErrRefused)
		switch {
		case ctx.Err() != nil:
			return // the keeper after this one tries again
		case err == nil:
			l.tell(func(now time.Time) {
				l.happened(l.engine.Tell(now, crossing.NoticeSent{Letter: w.letter.Letter, Tries: tries,
					Took: now.Sub(w.message.At)}))
			})
			return
		case refused || time.Since(w.message.At) > sendFor:
			l.log.warn("a notice is given up", "to", to.String(), "about", w.letter.About, "err", err)
			l.tell(func(now time.Time) {
				l.happened(l.engine.Tell(now, crossing.NoticeFailed{Letter: w.letter.Letter, Tries: tries,
					Failed: err.Error()}))
			})
			return
		case tries == 1:
			l.log.warn("a notice is not delivered, and tried again", "to", to.String(), "about", w.letter.About, "err",
				err)
		}
		select {
		case <-ctx.Done():
			return
		case <-l.done:
			return
		case <-time.After(pause):
		}
		pause = min(2*pause, againMost)
	}
}

// digest is that of the events of a crossing that one of these has ended, "" if none has, or if they cannot be read
// now.
func (l *loop) digest(ctx context.Context, events []crossing.Event) string {
	for _, e := range events {
		if _, ended := e.What.(crossing.Ended); !ended {
			continue
		}
		limited, cancel := context.WithTimeout(ctx, bookLimit)
		defer cancel()
		sum, n, err := l.Book.Digest(limited, e.Crossing, e.Seq)
		if err != nil {
			l.log.warn("a notice goes without the digest of the events", "crossing", e.Crossing, "err", err)
			return ""
		}
		return past.Digest{Crossing: e.Crossing, UpTo: e.Seq, Events: n, SHA256: sum}.String()
	}
	return ""
}

// sendOnce tries once, when it is its turn.
func (l *loop) sendOnce(ctx context.Context, turn *semaphore.Weighted, w written) error {
	if err := turn.Acquire(ctx, 1); err != nil {
		return err
	}
	defer turn.Release(1)
	if err := l.mailroom.all.Acquire(ctx, 1); err != nil {
		return err
	}
	defer l.mailroom.all.Release(1)
	limited, cancel := context.WithTimeout(ctx, sendLimit)
	defer cancel()
	return l.Send(limited, w.letter.Receiver, w.message)
}

// byToken is a command in the name of whom its token was made for: it answers the token's question and does nothing
// else.
func (k *Keeper) byToken(c Command, now time.Time) (Command, error) {
	if c.Token == "" {
		return c, nil
	}
	t, err := notice.Open(k.Key, k.Plan.Service, c.Token, now)
	if err != nil {
		return c, err
	}
	switch a := c.Act.(type) {
	case crossing.Yes:
		a.Question = t.Question
		c.Act = a
	case crossing.No:
		a.Question = t.Question
		c.Act = a
	default:
		return c, errors.New("a token answers a question, with yes or no, and does nothing else")
	}
	c.Peer, c.Groups, c.Client, c.Seen = crossing.Peer{}, nil, "", 0
	c.By = t.To
	if t.As != "" {
		p, err := peer.Named(t.As)
		if err != nil {
			return c, err
		}
		c.By, c.Peer, c.Groups = t.As, crossing.Peer{User: p.UID, Name: p.Name, Host: peer.Host(), Mail: t.To}, p.Groups
	}
	return c, nil
}

// TokenOf is the question that a token answers, and whether that is still asked. The error says what is wrong with the
// token.
func (k *Keeper) TokenOf(text string) (t notice.Token, q crossing.Question, err error) {
	if t, err = notice.Open(k.Key, k.Plan.Service, text, time.Now()); err != nil {
		return t, q, err
	}
	if open := k.Crossing().Question; open.ID == t.Question {
		q = open
	}
	return t, q, nil
}
