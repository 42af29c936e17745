package words

import (
	"fmt"
	"strings"

	"vaiven/internal/core/fleet"
)

// FleetEvent is what happened to a member of a fleet that crosses, after its name; "" for what needs no line.
func FleetEvent(e fleet.Event, c fleet.Crossing) string {
	p, _ := c.Part(e.Name)
	text := ""
	switch {
	case e.Kind == fleet.Begins:
		return "begins, to " + p.Version
	case e.Kind == fleet.Undone:
		return "is rolled back: " + e.Why
	case e.Kind != fleet.Is:
		return ""
	case e.Stage == fleet.Arrived && !c.AllThere(e.Name):
		return "has arrived, and stays when the others have as well"
	case e.Stage == fleet.Arrived:
		return "has arrived"
	case e.Stage == fleet.GoesBack:
		text = "rolls back"
	default:
		text = string(e.Stage)
	}
	if e.Why != "" {
		text += ": " + e.Why
	}
	return text
}

// FleetNow is how far a fleet's crossing is that has not ended, and whether a process goes on with it.
func FleetNow(c fleet.Crossing, goes bool) string {
	there, back, not := c.Counts()
	text := fmt.Sprintf("crossing %d of %s, by %s: %d of %d have arrived", c.Number, c.Fleet.Name, c.By, there,
		len(c.Parts))
	at := map[fleet.Stage][]string{}
	for _, p := range c.Parts {
		at[p.Stage] = append(at[p.Stage], p.Name)
	}
	for _, of := range []struct {
		stage     fleet.Stage
		one, many string
	}{{fleet.GoesBack, "rolls back", "roll back"}, {fleet.Crosses, "crosses", "cross"},
		{fleet.Waits, "waits", "wait"}} {
		switch names := at[of.stage]; {
		case len(names) == 1:
			text += fmt.Sprintf("; %s %s", names[0], of.one)
		case len(names) > 1:
			text += fmt.Sprintf("; %s %s", And(names), of.many)
		}
	}
	if back > 0 {
		text += fmt.Sprintf("; %d rolled back", back)
	}
	if not > 0 {
		text += fmt.Sprintf("; %d not begun", not)
	}
	if !goes {
		text += ". Nobody goes on with it: vaiven cross takes it up"
	}
	return text
}

// FleetCrossing is a fleet's crossing in a line.
func FleetCrossing(c fleet.Crossing) string {
	there, back, not := c.Counts()
	text := fmt.Sprintf("%s  crossing %d of %s, by %s: %d of %d have arrived", c.Begun.Local().Format("2006-01-02 15:04"),
		c.Number, c.Fleet.Name, c.By, there, len(c.Parts))
	for _, part := range []struct {
		n    int
		what string
	}{{back, "rolled back"}, {not, "not begun"}} {
		if part.n > 0 {
			text += fmt.Sprintf(", %d %s", part.n, part.what)
		}
	}
	if c.UnderWay() {
		text += "; it has not ended"
	}
	var list []string
	for _, p := range c.Parts {
		list = append(list, p.Name+" "+p.Version)
	}
	return text + " (" + strings.Join(list, ", ") + ")"
}
