package nginx

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/include"
)

// group is the form of a file that stands within an upstream block of somebody's own: the servers of both sides, by
// weights. What else the block says is nobody's but theirs.
type group struct {
	service, parameters string
	carry               [2]plan.Capacity
}

// mostGroupWeight is the largest weight of a server in such a block.
const mostGroupWeight = 1000

// Nearest is the share that weights can do, and what else to know of it.
func (g group) Nearest(s include.Setting) (split.Share, []string, error) {
	w, _, err := front.Weigh(s.Sides, g.carry, s.Share, mostGroupWeight)
	if err != nil {
		return 0, nil, err
	}
	var notes []string
	if w.Unused > 0 {
		notes = append(notes, fmt.Sprintf("%d instances get no requests: weights from 1 to %d are too coarse for %v",
			w.Unused, mostGroupWeight, s.Share))
	}
	return w.Reached[split.Green], notes, nil
}

// Render is the file for a setting.
func (g group) Render(s include.Setting) []byte {
	_, weights, err := front.Weigh(s.Sides, g.carry, s.Share, mostGroupWeight)
	var b strings.Builder
	fmt.Fprintf(&b, "%s%s. A change by hand is noticed, and not overwritten.\n", written, g.service)
	parameters := ""
	if g.parameters != "" {
		parameters = " " + g.parameters
	}
	all := 0
	for _, side := range split.Sides {
		for n, i := range s.Sides[side] {
			all++
			how := " down"
			if err == nil && weights[side][n] > 0 {
				how = fmt.Sprintf(" weight=%d", weights[side][n])
			}
			fmt.Fprintf(&b, "server %s%s%s; # %v %s\n", i.Address, how, parameters, side, include.Note(i))
		}
	}
	if all == 0 {
		b.WriteString("server 127.0.0.1:1 down; # none\n")
	}
	return []byte(b.String())
}

// written begins what Vaiven writes, and the service's name follows.
const written = "# Written by Vaiven for the service "

var memberLine = regexp.MustCompile(
	`^\s*server (\S+) (down|weight=(\d+))[^;#]*; # (blue|green) ` + include.Noted)

// Parse reads what Render writes, also if somebody changed a weight or the word down by hand.
func (g group) Parse(data []byte) (include.Setting, error) {
	var s include.Setting
	var sums [2]uint64
	for line := range strings.SplitSeq(string(data), "\n") {
		m := memberLine.FindStringSubmatch(line)
		switch {
		case m == nil && strings.HasPrefix(strings.TrimSpace(line), "server ") &&
			!strings.HasSuffix(line, "down; # none"):
			return s, fmt.Errorf("it does not say of which side this is: %s", strings.TrimSpace(line))
		case m == nil:
			continue
		}
		side, errSide := split.ParseSide(m[4])
		i, err := include.ReadNote(m[1], m[5:])
		if err := errors.Join(errSide, err); err != nil {
			return s, err
		}
		if m[3] != "" {
			weight, err := strconv.ParseUint(m[3], 10, 16)
			if err != nil {
				return s, err
			}
			sums[side] += weight
		}
		s.Sides[side] = append(s.Sides[side], i)
	}
	if sums == [2]uint64{} {
		return s, nil // nobody gets anything: all on blue, once there is one
	}
	var err error
	s.Share, err = split.FromWeights(sums[split.Blue], sums[split.Green])
	return s, err
}
