package crossing

import "time"

// Wheel is the right to steer while several people watch: who has it, from where and since
// when. One client has it at a time. The zero value is a wheel that nobody has. Going home
// needs none.
type Wheel struct {
	Client string    `json:"client"` // identity of the holder's client
	By     string    `json:"by"`     // the person's handle
	From   string    `json:"from,omitempty"`
	Since  time.Time `json:"since"`
}

// Vacant reports whether nobody has the wheel.
func (w Wheel) Vacant() bool { return w.Client == "" }

// grasp sees to it that whoever steers has the wheel: a client gets it if it is vacant, or if
// the person says so. A command without a client of its own leaves it vacant.
func (d *decision) grasp(in Input) error {
	if d.Token {
		return nil
	}
	_, take := in.(TakeWheel)
	act, asked := in.(Act)
	if !take && !(asked && act.About().Wheel) || d.Wheel.Client == d.Client && !take {
		return nil
	}
	mine := Wheel{Client: d.Client, By: d.By, From: d.From, Since: d.At}
	again := d.Silent && d.Wheel.By == d.By && d.Wheel.From == d.From // the same person, whose last client is gone
	switch {
	case !d.Wheel.Vacant() && !take && !d.Take && !again:
		return Refuse(NotAtWheel{d.Wheel})
	case d.Wheel.Client == d.Client:
		return Refuse(AtWheel{})
	}
	d.then(TookWheel{Wheel: mine, Before: d.Wheel})
	return nil
}

// left takes in that a client is gone, or lets the wheel go.
func (d *decision) left(i LeaveWheel) error {
	if !d.Wheel.Vacant() && d.Wheel.Client == i.Client {
		d.then(LeftWheel{Wheel: d.Wheel, Gone: i.Gone})
	}
	return nil
}
