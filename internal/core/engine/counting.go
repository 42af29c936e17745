package engine

import (
	"vaiven/internal/core/crossing"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// DoorRead takes the door log in.
func (j *judgement) DoorRead(d reading.Door) {
	before := j.door
	j.door = d.After(j.before)
	if c := &j.counted; j.state.Stage.UnderWay() && !before.At.IsZero() {
		c.Asked += max(j.door.Answers-before.Answers, 0)
		c.Lost += max(j.door.Lost-before.Lost, 0)
		c.LongestGap = max(c.LongestGap, d.Gap)
	}
}

// countPoint adds a second of the track to what is counted of the crossing that is under way.
func (j *judgement) countPoint(p Point) {
	if j.state.Stage.UnderWay() && p.At.After(j.state.Begun) {
		j.counted = withPoint(j.counted, p, j.state.Target)
	}
}

// countedNow is what is counted of it, with the second that has begun.
func (j *judgement) countedNow() crossing.Counted {
	if j.state.Stage.UnderWay() && j.point.At.After(j.state.Begun) {
		return withPoint(j.counted, j.point, j.state.Target)
	}
	return j.counted
}

func withPoint(c crossing.Counted, p Point, target split.Side) crossing.Counted {
	all, failed := p.Of(target)
	c.Requests, c.Failed = c.Requests+all, c.Failed+failed
	c.All, c.AllFailed = c.All+p.All, c.AllFailed+p.Failing
	return c
}
