package check

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
)

// look is how the instance is now.
func (t Target) look(ctx context.Context) (reading.Instance, error) {
	if t.Look == nil {
		return reading.Instance{}, errors.New("it is about no instance")
	}
	return t.Look(ctx)
}

// runs looks whether the process is there, and has been for long enough.
func (t Target) runs(ctx context.Context, w plan.Runs) Reading {
	want := "it runs"
	if w.For > 0 {
		want = fmt.Sprintf("it runs, and has for %v", w.For)
	}
	i, err := t.look(ctx)
	since := time.Since(i.Started).Round(100 * time.Millisecond)
	switch {
	case err != nil:
		return failed(want, err)
	case !i.Running:
		return bad(want, "ended: "+i.Exit, strings.Join(i.Output, "\n"))
	case since < w.For:
		return bad(want, fmt.Sprintf("for %v", since), "")
	}
	return good(want, fmt.Sprintf("for %v", since))
}

// printed looks among the lines that the instance printed last.
func (t Target) printed(ctx context.Context, w plan.Printed) Reading {
	text := t.expand(w.Text, nil)
	want := fmt.Sprintf("%q among its last lines", text)
	i, err := t.look(ctx)
	if err != nil {
		return failed(want, err)
	}
	for _, line := range i.Output {
		if strings.Contains(line, text) {
			return good(want, strings.TrimSpace(line))
		}
	}
	last := "nothing"
	if n := len(i.Output); n > 0 {
		last = fmt.Sprintf("not among %d lines, the last: %s", n, i.Output[n-1])
	}
	return bad(want, last, strings.Join(i.Output, "\n"))
}

// told looks what a figure is.
func (t Target) told(ctx context.Context, w plan.Told, within time.Duration) Reading {
	want := w.Figure.String()
	if w.Least != nil {
		want += fmt.Sprintf(" at least %g", *w.Least)
	}
	if w.Most != nil {
		want += fmt.Sprintf(" at most %g", *w.Most)
	}
	values, err := t.Figures(ctx, plan.Page{Path: w.Path}, []plan.Figure{w.Figure}, within)
	if err != nil {
		return failed(want, err)
	}
	value, found := values[w.Figure.String()]
	switch {
	case !found:
		return bad(want, w.Path+" does not have it", "")
	case w.Least != nil && value < *w.Least, w.Most != nil && value > *w.Most:
		return bad(want, fmt.Sprintf("%g", value), "")
	}
	return good(want, fmt.Sprintf("%g", value))
}
