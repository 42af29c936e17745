package keeper

import (
	"context"
	"errors"
	"os/user"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/notice"
	"vaiven/internal/core/past"
	"vaiven/internal/core/people"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/world/post"
	"vaiven/internal/world/source"
)

// box takes notices, or not.
type box struct {
	mu   sync.Mutex
	came []notice.Message
	to   []string
	dead map[string]error // by address
}

func (b *box) send(_ context.Context, to plan.Receiver, m notice.Message) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if err := b.dead[to.Address]; err != nil {
		return err
	}
	b.came, b.to = append(b.came, m), append(b.to, to.Address)
	return nil
}

// of are the messages about something to somebody.
func (b *box) of(about plan.About, to string) (list []notice.Message) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for n, m := range b.came {
		if m.About == about && b.to[n] == to {
			list = append(list, m)
		}
	}
	return list
}

func (b *box) dies(to string, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.dead == nil {
		b.dead = map[string]error{}
	}
	b.dead[to] = err
}

const marit, ines = "marit@linea-vessa.example", "ines@linea-vessa.example"

// notified is a world whose people are told everything.
func notified(b *box) func(*world) {
	return func(w *world) {
		p := *w.plan
		p.Notices = plan.Notices{Answers: plan.Answers{URL: "https://vaiven.example", Listen: "x:1", For: 2 * time.Hour},
			Rules: []plan.Notice{{To: []plan.Receiver{{Way: plan.ByMail, Address: marit, As: "root"},
				{Way: plan.ByMail, Address: ines}}, After: 10 * time.Minute,
				Also: []plan.Receiver{{Way: plan.ByMail, Address: "late@linea-vessa.example"}}}}}
		w.plan = &p
	}
}

// rigOf starts a keeper whose notices come into a box.
func rigOf(t *testing.T, b *box, change ...func(*world)) *rig {
	t.Helper()
	r := &rig{world: newWorld(), t: t, sends: b.send}
	for _, do := range append([]func(*world){notified(b)}, change...) {
		do(r.world)
	}
	r.start()
	r.until("the front is read", func(s Snapshot) bool { return s.Ready })
	return r
}

// delivered are what the logbook says of deliveries.
func (r *rig) delivered(sent bool) (list []crossing.Letter) {
	r.with(func() {
		for _, e := range r.events {
			switch f := e.What.(type) {
			case crossing.NoticeSent:
				if sent {
					list = append(list, f.Letter)
				}
			case crossing.NoticeFailed:
				if !sent {
					list = append(list, f.Letter)
				}
			}
		}
	})
	return list
}

// A question is told, told again to others when it waits, and answered once by the token of its notice: in the name of
// whom that was made for. The second use is refused.
func TestAQuestionIsAnsweredFromItsNotice(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := &box{}
		r := rigOf(t, b)
		r.onFirstLeg()
		r.until("both are told", func(Snapshot) bool {
			return len(b.of(plan.AboutAsks, marit)) == 1 && len(b.of(plan.AboutAsks, ines)) == 1
		})
		m := b.of(plan.AboutAsks, marit)[0]
		q := r.last().Crossing.Question
		if m.Question != q.ID || m.Token == "" || !strings.HasSuffix(m.Link, m.Token) ||
			!strings.Contains(m.Subject, "asks") || len(m.Do) < 2 {
			t.Errorf("she is told %+v", m)
		}
		if n := len(b.of(plan.AboutAsks, "late@linea-vessa.example")); n > 0 {
			t.Error("the others are told at once")
		}
		time.Sleep(11 * time.Minute)
		r.until("the others are told", func(Snapshot) bool {
			late := b.of(plan.AboutAsks, "late@linea-vessa.example")
			return len(late) == 1 && late[0].Late && strings.Contains(late[0].Subject, "nobody has answered")
		})
		r.do(Command{Act: crossing.TakeWheel{}, Client: "a screen"}) // who answers steers nothing
		r.refused(Command{Act: crossing.Yes{}, Token: m.Token + "x"}, "no token of this service")
		r.refused(Command{Act: crossing.Freeze{}, Token: m.Token}, "answers a question")
		if _, err := r.keeper.Do(t.Context(), Command{Act: crossing.Yes{}, Token: m.Token}); err != nil {
			t.Fatal(err)
		}
		var by crossing.Event
		r.until("the answer is in the logbook", func(Snapshot) bool {
			n := slices.IndexFunc(r.events, func(e crossing.Event) bool { return e.What.Kind() == "answered" })
			if n >= 0 {
				by = r.events[n]
			}
			return n >= 0
		})
		if self, err := user.Lookup("root"); err == nil && (by.By != self.Username || by.Peer.Mail != marit) {
			t.Errorf("it is %s's, %+v", by.By, by.Peer)
		}
		r.refused(Command{Act: crossing.Yes{}, Token: m.Token}, "")
		if n := len(r.delivered(true)); n < 3 {
			t.Errorf("%d deliveries are in the logbook", n)
		}
		r.end()
	})
}

// The rules about people hold for whom a token was made for, and where they do, nobody has one of whom the plan does
// not say who they are.
func TestRightsOfATokensUser(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := &box{}
		r := rigOf(t, b, func(w *world) {
			w.plan.People = people.Rules{May: map[people.Right][]string{people.Approve: {"nobody"},
				people.Begin: {people.Everybody}, people.Steer: {people.Everybody}}}
		})
		r.keeper.Plan.People.May[people.Approve] = []string{"daemon"}
		r.onFirstLeg()
		r.until("both are told", func(Snapshot) bool {
			return len(b.of(plan.AboutAsks, ines)) == 1 && len(b.of(plan.AboutAsks, marit)) == 1
		})
		if m := b.of(plan.AboutAsks, ines)[0]; m.Token != "" {
			t.Error("a token for whom nobody knows")
		}
		m := b.of(plan.AboutAsks, marit)[0]
		r.refused(Command{Act: crossing.Yes{}, Token: m.Token}, "the plan lets only daemon")
		r.refused(Command{Act: crossing.Yes{Question: m.Question}, By: "marit",
			Peer: crossing.Peer{Name: "jon"}}, "the plan lets only daemon")
		if _, err := r.keeper.Do(t.Context(), Command{Act: crossing.No{}, Token: m.Token}); err != nil {
			t.Errorf("a no is refused: %v", err) // going home needs no right
		}
		r.stage(crossing.RolledBack)
		r.end()
	})
}

// A receiver that is dead for an hour delays nobody, and is told then; one that refuses for good is given up, and the
// logbook says so. What a keeper has not delivered, the one after it does, once.
func TestDeadReceivers(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := &box{}
		b.dies(marit, errors.New("connection refused"))
		b.dies("late@linea-vessa.example", post.ErrRefused)
		r := rigOf(t, b)
		r.onFirstLeg()
		asked := time.Now()
		r.until("the one that lives is told", func(Snapshot) bool { return len(b.of(plan.AboutAsks, ines)) == 1 })
		if late := time.Since(asked); late > 5*time.Second {
			t.Errorf("after %v", late)
		}
		time.Sleep(11 * time.Minute)
		r.until("one is given up", func(Snapshot) bool { return true })
		if list := r.delivered(false); len(list) != 1 || list[0].To != "late@linea-vessa.example" {
			t.Errorf("given up: %+v", list)
		}
		r.stop() // and another keeper comes
		r.start()
		r.until("the front is read", func(s Snapshot) bool { return s.Ready })
		time.Sleep(50 * time.Minute)
		b.dies(marit, nil)
		r.until("the one that was dead is told", func(Snapshot) bool { return len(b.of(plan.AboutAsks, marit)) > 0 })
		time.Sleep(11 * time.Minute) // longer than between two tries
		if n, other := len(b.of(plan.AboutAsks, marit)), len(b.of(plan.AboutAsks, ines)); n != 1 || other != 1 {
			t.Errorf("told %d and %d times", n, other)
		}
		r.end()
	})
}

// latestOf is the number of the last event of a kind.
func (r *rig) latestOf(kind string) (seq uint64) {
	r.with(func() {
		for _, e := range r.events {
			if e.What.Kind() == kind {
				seq = e.Seq
			}
		}
	})
	return seq
}

// A rollback is told within seconds, while another receiver hangs.
func TestARollbackIsTold(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := &box{}
		r := &rig{world: newWorld(), t: t}
		r.sends = func(ctx context.Context, to plan.Receiver, m notice.Message) error {
			if to.Address == ines {
				<-ctx.Done()
				return ctx.Err()
			}
			return b.send(ctx, to, m)
		}
		notified(b)(r.world)
		r.start()
		r.until("the front is read", func(s Snapshot) bool { return s.Ready })
		r.onLeg()
		r.do(Command{Act: crossing.Back{}})
		began := time.Now()
		r.until("it is told", func(Snapshot) bool { return len(b.of(plan.AboutRolledBack, marit)) == 1 })
		if late := time.Since(began); late > 5*time.Second {
			t.Errorf("after %v", late)
		}
		if m := b.of(plan.AboutRolledBack, marit)[0]; !strings.Contains(m.Users, "All requests go to blue") {
			t.Errorf("for users: %s", m.Users)
		}
		digest, err := past.DigestIn([]byte(b.of(plan.AboutRolledBack, marit)[0].Digest))
		if ended := r.latestOf(crossing.Ended{}.Kind()); err != nil || digest.Crossing != 1 || digest.UpTo != ended {
			t.Errorf("it comes with the digest %+v, %v, and the crossing ended with event %d", digest, err, ended)
		}
		r.end()
	})
}

// The guards' sources are asked while something crosses, each for itself: one that hangs holds up no other, and before
// the first leg one that does not answer is waited for.
func TestSourcesAreAsked(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := &rig{world: newWorld(), t: t}
		p := *r.plan
		p.Guards = append(slices.Clone(p.Guards),
			plan.Guard{Name: "pages", Watch: plan.Alert, Then: plan.Freeze, Every: 10 * time.Second},
			plan.Guard{Name: "wait", Watch: plan.Bound, Margin: 5, Then: plan.Freeze, Every: 10 * time.Second,
				Silent: plan.SilentGoOn, Figure: plan.Figure{Name: "wait", From: plan.FromPrometheus}})
		r.plan = &p
		var mu sync.Mutex
		down := true
		alerts := []reading.Alert{{ID: "1", Name: "Before"}}
		r.asks = func(ctx context.Context, rule plan.Guard, of []source.Subject) reading.Figures {
			if rule.Name == "wait" {
				<-ctx.Done()
				return reading.Figures{}
			}
			mu.Lock()
			defer mu.Unlock()
			if len(of) != 1 || of[0].Side != split.Green {
				t.Errorf("it asks about %+v", of)
			}
			f := reading.Figures{At: time.Now(), Guard: rule.Name, Alerts: alerts}
			if down {
				f.Failed = "connection refused"
			}
			return f
		}
		r.start()
		r.until("the front is read", func(s Snapshot) bool { return s.Ready })
		r.do(Command{Act: crossing.Begin{Version: "4.3.0"}})
		r.stage(crossing.Proving)
		time.Sleep(20 * time.Second)
		if s := r.last(); s.Crossing.Stage != crossing.Proving || s.Crossing.Moved {
			t.Fatalf("it goes on while nobody tells of alerts: %v", s.Crossing.Stage)
		}
		mu.Lock()
		down = false
		mu.Unlock()
		r.stage(crossing.Shifting)
		time.Sleep(15 * time.Second)
		if s := r.last(); s.Crossing.Frozen() {
			t.Fatalf("frozen by %v", s.Crossing.Freezes)
		}
		mu.Lock()
		alerts = append(slices.Clone(alerts), reading.Alert{ID: "2", Name: "QueueFull", Summary: "mails wait"})
		mu.Unlock()
		s := r.until("it is frozen", func(s Snapshot) bool { return s.Crossing.Frozen() })
		if g, ok := s.Crossing.Freezes[0].Cause.Is.(crossing.ByGuard); !ok || g.Alarm.Alert != "QueueFull" {
			t.Errorf("it is frozen by %+v", s.Crossing.Freezes[0].Cause)
		}
		r.do(Command{Act: crossing.Resume{}, Seen: s.Crossing.Freezes[0].ID})
		time.Sleep(30 * time.Second) // what a person went on in spite of counts no more
		if s := r.last(); s.Crossing.Frozen() {
			t.Errorf("it is frozen again by %+v", s.Crossing.Freezes)
		}
		r.end()
	})
}
