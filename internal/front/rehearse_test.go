package front

import (
	"context"
	"fmt"
	"testing"

	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
)

// lines is a front whose connection has ended so and so many times.
type lines struct {
	Driver

	ended, asked int
}

func (l *lines) Rehearse(context.Context, split.Side) ([]wayback.Step, error) {
	if l.asked++; l.asked <= l.ended {
		return nil, fmt.Errorf("%w: the connection ended in the middle", ErrUnreachable)
	}
	return []wayback.Step{{What: "read"}}, nil
}

// A connection that has ended is no front that would not go home.
func TestARehearsalIsMadeAnewWhereTheConnectionEnded(t *testing.T) {
	for ended, broken := range map[int]bool{0: false, 1: false, 2: true} {
		r := Rehearse(t.Context(), &lines{ended: ended}, split.Blue)
		if r.Broken != broken || (r.Failed != "") != broken || (len(r.Steps) == 1) == broken {
			t.Errorf("a connection that ended %d times: %+v", ended, r)
		}
	}
}
