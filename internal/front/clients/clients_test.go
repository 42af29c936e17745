package clients

import (
	"testing"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// numbers are a reading's: seen, counted and bad.
type numbers [3]int64

func counted(t *testing.T, c *Counts, at split.Side) numbers {
	t.Helper()
	r := c.Read(at)
	h, err := reading.Decode(r.Latency, "clients")
	if err != nil || h.TotalCount() > r.Of {
		t.Errorf("%v times of %d clients: %v", h.TotalCount(), r.Of, err)
	}
	return numbers{r.Seen, r.Of, r.Bad}
}

func TestAClientCountsOnce(t *testing.T) {
	c := New(0)
	c.Answered(split.Blue, 1, true, time.Millisecond)
	c.Answered(split.Blue, 1, true, time.Millisecond)
	c.Answered(split.Blue, 2, false, time.Millisecond)
	c.Answered(split.Blue, 2, true, 0)
	c.Answered(split.Blue, 3, true, 0) // without an answer
	if got := counted(t, c, split.Blue); got != (numbers{3, 3, 2}) {
		t.Errorf("%+v", got)
	}
	// Green gains: who comes counts, and who stays on blue counts anew.
	c.Changed(1000)
	c.Changed(1000)
	c.Answered(split.Blue, 1, true, time.Millisecond)
	c.Answered(split.Green, 2, true, time.Millisecond)
	if blue, green := counted(t, c, split.Blue), counted(t, c, split.Green); blue != (numbers{4, 4, 3}) ||
		green != (numbers{1, 1, 1}) {
		t.Errorf("%+v, %+v", blue, green)
	}
	// It gains more: who was there already is no more evidence, and is seen all the same.
	c.Changed(5000)
	c.Answered(split.Green, 2, true, time.Millisecond)
	c.Answered(split.Green, 1, false, time.Millisecond)
	if got := counted(t, c, split.Green); got != (numbers{3, 2, 1}) {
		t.Errorf("%+v", got)
	}
	// It loses: who stays counts anew.
	c.Changed(1000)
	c.Answered(split.Green, 2, true, time.Millisecond)
	if got := counted(t, c, split.Green); got != (numbers{4, 3, 2}) {
		t.Errorf("%+v", got)
	}
}

// Of very many clients a part stands for all, the same on both sides.
func TestManyClients(t *testing.T) {
	c := New(5000)
	c.most = 100
	for n := range uint64(3000) {
		client := uint64(split.PlaceOf(time.Duration(n).String()))
		c.Answered(split.Side(n%2), client, n%10 < 2, time.Millisecond)
	}
	blue, green := counted(t, c, split.Blue), counted(t, c, split.Green)
	if len(c.sides[0].seen) > 100 || len(c.sides[1].seen) > 100 || blue[1] < 50 || green[1] < 50 || blue[1] > 800 {
		t.Errorf("%+v, %+v, remembered %d and %d", blue, green, len(c.sides[0].seen), len(c.sides[1].seen))
	}
	if r := float64(blue[2]+green[2]) / float64(blue[1]+green[1]); r < 0.12 || r > 0.28 {
		t.Errorf("a fifth failed, and of the part it is %v", r)
	}
}
