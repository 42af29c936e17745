package clients

import (
	"testing"
	"time"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// desk is counts with a clock.
type desk struct {
	*Counts
	t  *testing.T
	at time.Time
}

func newDesk(t *testing.T, share split.Share) *desk {
	d := &desk{t: t, at: time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)}
	d.Counts = New(share, func() time.Time { return d.at })
	return d
}

// block has a client ask once for each answer, true for a bad one, and ends the block.
func (d *desk) block(side split.Side, client uint64, bad ...bool) {
	for _, b := range bad {
		d.Answered(side, client, b, time.Millisecond)
	}
	d.at = d.at.Add(reading.ClientBlock)
}

// turned is what was counted.
func (d *desk) turned(side split.Side) *reading.Turned {
	d.t.Helper()
	turned, err := reading.TurnedOf(d.Read(side).Turns)
	if err != nil {
		d.t.Fatal(err)
	}
	return turned
}

// failing is what was counted in a grade, by stratum.
func (d *desk) failing(side split.Side, grade int, want reading.Turns) {
	d.t.Helper()
	if got := d.turned(side)[grade][0]; got != want {
		d.t.Errorf("grade %d of %v: %+v, want %+v", grade, side, got, want)
	}
}

func TestAClientTurnsBad(t *testing.T) {
	d := newDesk(t, 0)
	d.Answered(split.Blue, 1, false, 0)
	d.failing(split.Blue, reading.AnyAnswer, reading.Turns{}) // the block is not over
	d.block(split.Blue, 1, true, true)                        // the second and third of it
	d.failing(split.Blue, reading.AnyAnswer, reading.Turns{{Bad: 1, Of: 1}})
	d.failing(split.Blue, reading.FirstAnswer, reading.Turns{{Of: 1}})
	// As long as it was bad lately it is not at risk, whatever becomes of it.
	for range heals - 1 {
		d.block(split.Blue, 1, false)
	}
	d.block(split.Blue, 1, true)
	d.failing(split.Blue, reading.AnyAnswer, reading.Turns{{Bad: 1, Of: 1}})
	// After so many good blocks it is, among those that were bad once.
	for range heals + 1 {
		d.block(split.Blue, 1, false)
	}
	d.block(split.Blue, 1, true)
	d.failing(split.Blue, reading.AnyAnswer, reading.Turns{{Bad: 1, Of: 1}, {Bad: 1, Of: 2}})
	// It takes its past to the other side.
	d.Changed(split.Whole)
	for range heals + 1 {
		d.block(split.Green, 1, false)
	}
	d.failing(split.Green, reading.AnyAnswer, reading.Turns{2: {Of: 1}})
}

// What was asked in a block in which the share changed counts for neither, and who asked is seen on both sides.
func TestABlockOfTwoShares(t *testing.T) {
	d := newDesk(t, 0)
	d.Answered(split.Blue, 1, true, 0)
	d.Answered(split.Blue, 2, false, 0)
	d.Changed(5000)
	d.Changed(5000)
	d.block(split.Green, 2, true)
	if blue, green := d.Read(split.Blue), d.Read(split.Green); blue.Seen != 2 || blue.Asked != 0 || green.Seen != 1 ||
		green.Asked != 1 || green.Good != 0 || d.turned(split.Green)[0][0][0] != (evidence.Count{Bad: 1, Of: 1}) {
		t.Errorf("%+v, %+v", blue, green)
	}
}

func TestTimesOfClients(t *testing.T) {
	d := newDesk(t, 0)
	ask := func(times ...time.Duration) {
		for _, took := range times {
			d.Answered(split.Blue, 1, false, took)
		}
		d.at = d.at.Add(reading.ClientBlock)
	}
	ask(10*time.Millisecond, 300*time.Millisecond)
	ask(200 * time.Millisecond)
	ask(2 * time.Second)
	for range heals + 1 {
		ask(time.Millisecond)
	}
	slow := d.turned(split.Blue)
	for bound, want := range map[time.Duration]reading.Turns{
		5 * time.Millisecond:   {{Bad: 1, Of: 1}, {Of: 1}}, // and once more at risk after six good blocks
		250 * time.Millisecond: {{Bad: 1, Of: 1}, {Of: 1}},
		time.Second:            {{Bad: 1, Of: 3}, {Of: 1}},
		10 * time.Second:       {{Of: 10}},
	} {
		if got := slow[reading.AnyAnswer][reading.NearestLevel(bound)]; got != want {
			t.Errorf("slower than %v: %+v, want %+v", bound, got, want)
		}
	}
	if got := slow[reading.FirstAnswer][reading.NearestLevel(250*time.Millisecond)]; got[0] != (evidence.Count{Bad: 1,
		Of: 3}) {
		t.Errorf("by first answers %+v", got)
	}
}

// A process that goes on knows who was bad.
func TestHandedOver(t *testing.T) {
	old, next := newDesk(t, 0), newDesk(t, 0)
	old.block(split.Blue, 7, true)
	next.Import(old.Export())
	next.Absorb(split.Blue, old.Read(split.Blue))
	next.block(split.Blue, 7, true)
	next.failing(split.Blue, reading.AnyAnswer, reading.Turns{{Bad: 1, Of: 1}})
	if n := next.Read(split.Blue).Seen; n != 2 {
		t.Errorf("%d were seen", n)
	}
	for _, data := range [][]byte{nil, {}, []byte("clients"), make([]byte, 12)} {
		next.Import(data)
	}
}

// Of very many clients a part stands for all, the same on both sides.
func TestManyClients(t *testing.T) {
	d := newDesk(t, 5000)
	d.most = 100
	for n := range uint64(3000) {
		client := uint64(split.PlaceOf(time.Duration(n).String()))
		d.Answered(split.Side(n%2), client, n%10 < 2, time.Millisecond)
	}
	d.at = d.at.Add(reading.ClientBlock)
	blue, green := d.turned(split.Blue)[0][0][0], d.turned(split.Green)[0][0][0]
	if len(d.all) > 100 || blue.Of < 50 || green.Of < 50 || blue.Of > 800 {
		t.Errorf("%+v, %+v, remembered %d", blue, green, len(d.all))
	}
	if r := blue.Plus(green).Rate(); r < 0.12 || r > 0.28 {
		t.Errorf("a fifth failed, and of the part it is %v", r)
	}
}

// Clients that come once and are not seen again make room for those that stay, and when there is room again all count.
func TestAFloodOfClients(t *testing.T) {
	d := newDesk(t, 0)
	d.most = 100
	for n := range uint64(5000) {
		d.Answered(split.Blue, uint64(split.PlaceOf(time.Duration(n).String())), false, 0)
		if n%5 == 0 {
			d.at = d.at.Add(reading.ClientBlock)
		}
	}
	if len(d.all) > 100 || d.level > 0 {
		t.Errorf("%d are remembered, and one of %d is counted", len(d.all), 1<<d.level)
	}
	for n := range uint64(500) { // all in one block
		d.Answered(split.Blue, uint64(split.PlaceOf(time.Duration(n).String())), false, 0)
	}
	if d.level == 0 {
		t.Error("more are counted than there is room for")
	}
	for range 10 * again {
		d.block(split.Blue, 0, false)
	}
	for n := range uint64(90) {
		d.Answered(split.Blue, 1+n<<1, false, 0)
	}
	if d.level > 0 {
		t.Errorf("one of %d is counted where there is room for all", 1<<d.level)
	}
}

func BenchmarkAnswered(b *testing.B) {
	c := New(0, time.Now)
	var n uint64
	for b.Loop() {
		n++
		c.Answered(split.Blue, n*0x9e3779b97f4a7c15>>50, n%100 == 0, 20*time.Millisecond)
	}
}
