package host

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/world/delivered"
	"vaiven/internal/world/place/distant"
)

// build is what a version is made of on a host: the plan's build, else what the command names of the version, else
// its program.
type build struct {
	file    string // of its sums, in the folder of the notes
	working string // folder, in which paths begin
	folder  string // that the plan says it stands in; "" for none
	paths   []string
	program string // where nothing else is known of it
}

// buildOf is what an instance is started from.
func (d *Driver) buildOf(i reading.Instance) build {
	s := d.part.Stacks[i.Side]
	values := reading.Instance{Part: i.Part, Side: i.Side, Version: i.Version, Build: i.Build}.Values(d.service)
	b := build{working: plan.Expand(s.Folder, values), folder: plan.Expand(s.Build, values)}
	if s.Build != "" {
		b.paths = []string{b.folder}
	} else {
		b.program = plan.Expand(s.Command[0], values)
		for _, word := range s.Command[1:] {
			if named := plan.Expand(word, values); strings.HasPrefix(named, "/") &&
				(strings.Contains(word, "{version}") || strings.Contains(word, "{build}")) {
				b.paths = append(b.paths, named)
			}
		}
	}
	h := sha256.Sum256(fmt.Appendf(nil, "%q %q %q %q", i.Version, i.Build, b.paths, b.program))
	b.file = fmt.Sprintf("%v-%s.sums", i.Side, hex.EncodeToString(h[:8]))
	return b
}

// buildScript takes the sums of what was delivered, or says what differs from them, a file a line. A host without
// sha256sum has none.
func buildScript(dir string, b build, take bool) string {
	var s strings.Builder
	s.WriteString(within(dir))
	fmt.Fprintf(&s, "b=\"$dir/\"%s\ncommand -v sha256sum >/dev/null || exit 0\ncd %s || exit %d\n",
		distant.Quote(b.file), distant.Name(b.working), statusNoFolder)
	s.WriteString("set --\n")
	if b.program != "" {
		fmt.Fprintf(&s, "p=$(command -v %s) && set -- \"$p\"\n", distant.Quote(b.program))
	}
	for _, path := range b.paths {
		fmt.Fprintf(&s, "[ -e %[1]s ] && set -- \"$@\" %[1]s\n", distant.Quote(path))
	}
	if take {
		s.WriteString(`[ $# -gt 0 ] || exit 0
find -L "$@" -type f -exec sha256sum {} + >"$b.new" && mv "$b.new" "$b" || { rm -f "$b.new"; full; }
`)
	} else {
		s.WriteString(`[ -f "$b" ] && [ ! -L "$b" ] || exit 0
sha256sum -c "$b" 2>/dev/null | sed -n 's/: FAILED.*//p'
`)
	}
	s.WriteString("exit 0\n")
	return s.String()
}

// takeDelivered notes what was delivered of a build on a host before its first instance is started there. As long as
// instances of it run there it has to be there as it was.
func (d *Driver) takeDelivered(ctx context.Context, m *machine, i reading.Instance, run bool) error {
	if run {
		said, err := d.differs(ctx, m, i)
		if err == nil && said != "" {
			err = fmt.Errorf("host %s: version %s is %w while %v runs it: %s", m, i.Version, delivered.ErrOther, i.Side,
				said)
		}
		return err
	}
	_, err := d.do(ctx, m, "look at the build", buildScript(d.dir(), d.buildOf(i), true), statusNoFolder)
	return err
}

// differs is what of an instance's build is not there as it was delivered, in words; "" if all is, or nothing is
// known of it.
func (d *Driver) differs(ctx context.Context, m *machine, i reading.Instance) (string, error) {
	b := d.buildOf(i)
	a, err := d.do(ctx, m, "look at the build", buildScript(d.dir(), b, false), statusNoFolder)
	if err != nil {
		return "", err
	}
	var list []string
	for line := range strings.Lines(string(a.Out)) {
		list = append(list, strings.TrimSuffix(line, "\n"))
	}
	return delivered.Told(list, b.folder), nil
}
