package notice

import (
	"errors"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/wayback"
)

var start = time.Date(2026, 11, 29, 14, 0, 0, 0, time.UTC)

func at(seq uint64, after time.Duration, f crossing.Fact) crossing.Event {
	return crossing.Event{Seq: seq, Crossing: 12, At: start.Add(after), What: f}
}

func asked(seq uint64, after time.Duration) crossing.Event {
	return at(seq, after, crossing.Asked{Question: crossing.Question{Is: crossing.AskStart{}}})
}

var (
	marit   = plan.Receiver{Way: plan.ByMail, Address: "marit@linea-vessa.example", As: "marit"}
	ines    = plan.Receiver{Way: plan.ByMail, Address: "ines@linea-vessa.example", As: "ines"}
	board   = plan.Receiver{Way: plan.ByWebhook, Address: "https://hooks.example/{secret board}"}
	frozen  = crossing.Frozen{Cause: crossing.Because(crossing.NotKnown{})}
	tripped = crossing.Frozen{Cause: crossing.Because(crossing.ByGuard{})}
)

func ids(list []Letter) string {
	var words []string
	for _, l := range list {
		words = append(words, l.ID)
	}
	return strings.Join(words, " ")
}

// Who is told of what follows from the rules; nobody is told twice, and the name of a letter is the same for a keeper
// that comes after.
func TestWhoIsTold(t *testing.T) {
	rules := []plan.Notice{
		{To: []plan.Receiver{marit, board}, About: []plan.About{plan.AboutAsks, plan.AboutTrips}},
		{To: []plan.Receiver{marit, ines}, About: []plan.About{plan.AboutAsks}},
	}
	d := NewDesk("sailings", rules)
	list := d.Happened(asked(7, 0))
	if len(list) != 3 || list[0].To != marit.Address || list[1].To != board.Address || list[2].Receiver.As != "ines" {
		t.Fatalf("of a question are told: %+v", list)
	}
	again := NewDesk("sailings", rules).Happened(asked(7, 0))
	if strings.Contains(ids(list), "hooks.example") || ids(list) != ids(again) {
		t.Errorf("the letters are called %s", ids(list))
	}
	if list := d.Happened(at(8, 0, tripped)); len(list) != 2 || list[0].About != string(plan.AboutTrips) {
		t.Errorf("of a guard that trips: %+v", list)
	}
	for _, f := range []crossing.Fact{frozen, crossing.Raised{}, crossing.NoticeSent{},
		crossing.Ended{Stage: crossing.Settled}, crossing.TookEffect{},
		crossing.Begun{}, crossing.Frozen{Cause: crossing.Because(crossing.ByHand{})}} {
		if list := d.Happened(at(9, 0, f)); len(list) > 0 {
			t.Errorf("of %T are told: %s", f, ids(list))
		}
	}
}

// What comes close together becomes one letter; what hurts users does not wait for it.
func TestAtMost(t *testing.T) {
	d := NewDesk("sailings", []plan.Notice{{To: []plan.Receiver{marit}, Most: 1, In: 5 * time.Minute}})
	if n := len(d.Happened(at(1, 0, frozen))); n != 1 {
		t.Fatalf("the first is told %d times", n)
	}
	for n := range uint64(3) {
		if list := d.Happened(at(2+n, time.Minute, frozen)); len(list) > 0 {
			t.Errorf("another within the minute is told: %s", ids(list))
		}
	}
	if n := len(d.Happened(at(5, time.Minute, tripped))); n != 1 {
		t.Error("one of another kind is held back")
	}
	if n := len(d.Happened(at(6, time.Minute, crossing.Ailed{}))); n != 1 {
		t.Error("that users are hurt is held back")
	}
	if n := len(d.Happened(at(7, 90*time.Second, crossing.WayBackIs{State: wayback.Closed}))); n != 1 {
		t.Error("that the way back is closed is held back")
	}
	if list := d.Due(start.Add(4 * time.Minute)); len(list) > 0 {
		t.Errorf("before the time is over: %s", ids(list))
	}
	list := d.Due(start.Add(5 * time.Minute))
	if len(list) != 1 || len(list[0].Of) != 3 || list[0].Of[2] != 4 {
		t.Fatalf("when the time is over: %+v", list)
	}
	if again := d.Due(start.Add(6 * time.Minute)); len(again) > 0 {
		t.Errorf("once more: %s", ids(again))
	}
}

// A question that waits is told to others as well, once; one that was answered is not.
func TestAQuestionThatWaits(t *testing.T) {
	d := NewDesk("sailings", []plan.Notice{{To: []plan.Receiver{marit}, After: 10 * time.Minute,
		Also: []plan.Receiver{ines}}})
	d.Happened(asked(1, 0))
	if list := d.Due(start.Add(9 * time.Minute)); len(list) > 0 {
		t.Errorf("too early: %s", ids(list))
	}
	list := d.Due(start.Add(10 * time.Minute))
	if len(list) != 1 || list[0].To != ines.Address || !list[0].Late || list[0].Of[0] != 1 {
		t.Fatalf("after ten minutes: %+v", list)
	}
	if list := d.Due(start.Add(20 * time.Minute)); len(list) > 0 {
		t.Errorf("once more: %s", ids(list))
	}
	d.Happened(at(2, 21*time.Minute, crossing.Answered{}))
	d.Happened(asked(3, 22*time.Minute))
	d.Happened(at(4, 23*time.Minute, crossing.Answered{}))
	if list := d.Due(start.Add(time.Hour)); len(list) > 0 {
		t.Errorf("after the answer: %s", ids(list))
	}
}

// A keeper that comes after delivers what was not, for a day, and nothing from before notices began.
func TestUndelivered(t *testing.T) {
	rules := []plan.Notice{{To: []plan.Receiver{marit, ines}}}
	events := []crossing.Event{at(1, -25*time.Hour, frozen), at(2, -time.Hour, frozen),
		at(3, -time.Hour, crossing.NoticesBegin{}),
		at(4, 0, frozen), at(5, 0, tripped)}
	first := NewDesk("sailings", rules)
	var letters []Letter
	for _, e := range events {
		letters = append(letters, first.Happened(e)...)
	}
	sent := letters[4].Letter // the fourth event, to marit
	events = append(events, at(6, 0, crossing.NoticeSent{Letter: sent}),
		at(7, 0, crossing.NoticeFailed{Letter: letters[7].Letter}))
	left := Undelivered(events, crossing.Noticing{On: true, From: 3}, start.Add(-24*time.Hour), letters,
		func(l Letter) Letter { return l })
	if len(left) != 2 || left[0].Of[0] != 4 || left[0].To != ines.Address || left[1].Of[0] != 5 ||
		left[1].To != marit.Address {
		t.Errorf("still to be delivered: %+v", left)
	}
	left = Undelivered(events, crossing.Noticing{}, start, letters, func(l Letter) Letter { return l })
	if len(left) > 0 {
		t.Errorf("where notices have not begun: %s", ids(left))
	}
}

// A token is good for its service and its time, as it was made.
func TestTokens(t *testing.T) {
	key := []byte("a key of the state folder")
	made := Token{Question: 12, To: marit.Address, As: "marit", Until: start.Add(time.Hour)}
	text := Seal(key, "sailings", made)
	if got, err := Open(key, "sailings", text+"\n", start); err != nil || got != made {
		t.Errorf("it is read as %+v, %v", got, err)
	}
	if _, err := Open(key, "sailings", text, start.Add(time.Hour)); !errors.Is(err, ErrExpired) {
		t.Errorf("after its time: %v", err)
	}
	other := made
	other.As = "ines"
	body, _, _ := strings.Cut(Seal(key, "sailings", other), ".")
	_, signature, _ := strings.Cut(text, ".")
	for what, bad := range map[string]string{"nothing": "", "another body": body + "." + signature,
		"no signature": body, "cut": text[:len(text)-2], "of another service": Seal(key, "fares", made),
		"of another key": Seal([]byte("another"), "sailings", made)} {
		if got, err := Open(key, "sailings", bad, start); !errors.Is(err, ErrNoToken) || got != (Token{}) {
			t.Errorf("%s: %+v, %v", what, got, err)
		}
	}
}

// A desk goes on for another: what that one holds back is told at once, and its question is escalated if it is open.
func TestTake(t *testing.T) {
	rules := []plan.Notice{{To: []plan.Receiver{marit}, Most: 1, In: 5 * time.Minute, After: 10 * time.Minute,
		Also: []plan.Receiver{ines}}}
	before := NewDesk("sailings", rules)
	before.Happened(at(1, 0, frozen))
	before.Happened(at(2, time.Second, frozen))
	before.Happened(asked(3, time.Minute))
	for question, late := range map[uint64]int{3: 1, 0: 0} {
		d := NewDesk("sailings", rules)
		if held := d.Take(before, question); len(held) != 1 || held[0].Of[0] != 2 {
			t.Errorf("held back was %+v", held)
		}
		if list := d.Due(start.Add(12 * time.Minute)); len(list) != late {
			t.Errorf("question %d: %d are told as well", question, len(list))
		}
	}
}
