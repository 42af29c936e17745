package words

import (
	"fmt"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/route"
)

// Start is how it stands with a version that waits for its turn, beside the state.
type Start struct {
	Until    time.Time // it waits for a time of day
	Building time.Time // it is being made since then
	Said     string    // why it could not be begun
}

// Waiting says which version waits for its turn, and for what; "" if none does.
func Waiting(c crossing.State, s Start, now time.Time) string {
	w := c.Waiting
	if !w.Any() {
		return ""
	}
	switch {
	case c.Stage == crossing.Keeping:
		return fmt.Sprintf("%s waits for the keep of %s to end", w.Version, c.Version)
	case c.Stage.UnderWay():
		return fmt.Sprintf("%s waits for the crossing to %s to end", w.Version, c.Version)
	case c.WaitsForSomebody():
		return fmt.Sprintf("%s waits for somebody: %s was rolled back after it had arrived. vaiven arrived PLAN %[1]s, said "+
			"again, begins it", w.Version, c.Version)
	case c.Task.ID != 0:
		return fmt.Sprintf("%s waits: %s", w.Version, Task(c.Task))
	case !s.Building.IsZero():
		return fmt.Sprintf("%s is being made, for %s", w.Version, route.Short(now.Sub(s.Building).Round(time.Second)))
	case !s.Until.IsZero():
		return fmt.Sprintf("%s waits until %s", w.Version, s.Until.Local().Format("Mon 15:04"))
	case s.Said != "":
		return fmt.Sprintf("%s cannot begin yet: %s", w.Version, s.Said)
	}
	return w.Version + " begins now"
}
