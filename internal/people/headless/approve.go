package headless

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"vaiven/internal/core/crossing"
)

// Approved is what a person approves beforehand. The zero value is nothing.
type Approved struct {
	all   bool
	names []string
}

// ApprovedAll is all that a route asks.
var ApprovedAll = Approved{all: true}

// All reports whether all that a route asks is approved.
func (a Approved) All() bool { return a.all }

// ParseApproved reads "start, leg 2", and "all" or "true" for all.
func ParseApproved(text string) (Approved, error) {
	if text == "all" || text == "true" {
		return ApprovedAll, nil
	}
	var a Approved
	for name := range strings.SplitSeq(text, ",") {
		ask, err := crossing.ParseAsk(name)
		if err != nil {
			return a, fmt.Errorf("%w, or all", err)
		}
		a.names = append(a.names, ask)
	}
	return a, nil
}

// Of reports whether a question is approved.
func (a Approved) Of(q crossing.Question) bool {
	switch q.Is.(type) {
	case crossing.AskFindings, crossing.AskSameBuild, crossing.AskTogether, crossing.Newer, nil:
		return false // those have words of their own
	}
	return a.all || slices.Contains(a.names, q.Name())
}

// Until is how far a crossing is followed. The zero value is to its end.
type Until struct {
	stage crossing.Stage
	leg   int // from 1; of Shifting
}

// UntilFrozen is until it stands still, by whatever.
var UntilFrozen = Until{stage: "frozen"}

// ParseUntil reads "proven", "leg 2", "kept", "settled" or "frozen".
func ParseUntil(text string) (Until, error) {
	text = strings.Join(strings.Fields(text), " ")
	number, leg := strings.CutPrefix(text, "leg ")
	n, err := strconv.Atoi(number)
	switch {
	case text == "proven":
		return Until{stage: crossing.Proving}, nil
	case text == "kept":
		return Until{stage: crossing.Keeping}, nil
	case text == "settled", text == "":
		return Until{}, nil
	case text == "frozen":
		return UntilFrozen, nil
	case leg && err == nil && n > 0:
		return Until{crossing.Shifting, n}, nil
	}
	return Until{}, fmt.Errorf("%q is no point of a crossing: want proven, leg N, kept, settled or frozen", text)
}

// Reached reports whether a crossing has come so far. What was asked for and is passed is reached too.
func (u Until) Reached(c crossing.State) bool {
	switch arrived := c.Task.Do != crossing.TaskMove; u.stage {
	case crossing.Proving:
		return c.Proven && c.Stage != crossing.Raising && c.Stage != crossing.Proving ||
			c.Proven && c.Task.ID == 0
	case crossing.Shifting:
		return c.Stage == crossing.Keeping || c.Stage == crossing.Shifting && arrived && c.Leg >= u.leg-1
	case crossing.Keeping:
		return c.Stage == crossing.Keeping && arrived
	}
	return false
}
