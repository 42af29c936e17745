package haproxy

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"vaiven/internal/front"
)

// How long HAProxy's own check is waited for where its configuration cannot be read, and at most.
const (
	inter      = 10 * time.Second
	mostChecks = 2 * time.Minute
)

// Reach waits until HAProxy's own check of the server, where it has one, has found it well, and connects from the
// machine that HAProxy runs on. Who was made known before it listened is down there at first, and takes as many
// good checks to come up as the configuration says.
func (d *Driver) Reach(ctx context.Context, address string) error {
	var until time.Time
	for {
		s, err := d.look(ctx)
		if err != nil {
			return fmt.Errorf("%w: %w", front.ErrUnknown, err)
		}
		n := slices.IndexFunc(s.servers, func(v server) bool { return v.address == address && v.in() })
		if n < 0 {
			return front.ReachFrom(ctx, d.on, address)
		}
		v := s.servers[n]
		down := strings.HasPrefix(v.status, "DOWN")
		switch {
		case !down && !strings.HasPrefix(v.status, "UP "): // up, or not checked
			return front.ReachFrom(ctx, d.on, address)
		case until.IsZero():
			if down {
				if err := front.ReachFrom(ctx, d.on, address); err != nil {
					return err
				}
			}
			until = time.Now().Add(d.patience(ctx, v))
		case time.Now().After(until) && !down:
			return front.ReachFrom(ctx, d.on, address)
		case time.Now().After(until):
			return fmt.Errorf("HAProxy's own check says %s (%s)", v.status, cmp.Or(v.said, "nothing more"))
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("HAProxy's own check says %s (%s) so far", v.status, cmp.Or(v.said, "nothing more"))
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// patience is how long HAProxy takes at most to find a server well that is: as many checks as that takes, and the one
// that was begun before.
func (d *Driver) patience(ctx context.Context, v server) time.Duration {
	every := inter
	if said, err := d.ask(ctx, "show info"); err == nil {
		if m := pidLine.FindStringSubmatch(said); m != nil {
			if config, err := running(ctx, d.on, m[1]); err == nil {
				every = interval(config.blocks, v.backend, v.name)
			}
		}
	}
	return min(time.Duration(max(v.rise, 1)+1)*every+2*time.Second, mostChecks)
}

// interval is the longest time between two checks of a server, by its own line, or those of its backend and of all.
func interval(config []block, backend, name string) time.Duration {
	times := map[string]time.Duration{"inter": 2 * time.Second}
	take := func(words []string) {
		for n := 1; n < len(words); n++ {
			if _, ours := times[words[n-1]]; ours || words[n-1] == "downinter" || words[n-1] == "fastinter" {
				if t, err := span(words[n]); err == nil {
					times[words[n-1]] = t
				}
			}
		}
	}
	for _, general := range []bool{true, false} {
		for _, b := range config {
			if general != (b.kind == "defaults") || !general && b.name != backend {
				continue
			}
			for _, l := range b.lines {
				switch w := l.words; {
				case w[0] == "default-server",
					len(w) > 1 && w[0] == "server" && w[1] == name,
					len(w) > 1 && w[0] == "server-template" && strings.HasPrefix(name, w[1]):
					take(w)
				}
			}
		}
	}
	longest := times["inter"]
	for _, t := range times {
		longest = max(longest, t)
	}
	return longest
}

// span is a time as HAProxy's configuration has it: in milliseconds, unless it has a unit.
func span(text string) (time.Duration, error) {
	if n, err := strconv.Atoi(text); err == nil {
		return time.Duration(n) * time.Millisecond, nil
	}
	if days, ok := strings.CutSuffix(text, "d"); ok {
		n, err := strconv.Atoi(days)
		return time.Duration(n) * 24 * time.Hour, err
	}
	return time.ParseDuration(text)
}
