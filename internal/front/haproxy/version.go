package haproxy

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

var (
	newVersion = regexp.MustCompile(`New version created: (\d+)`)
	outOfRange = "Version number out of range"
)

// errOlder is that a version was refused because a newer one is in force.
var errOlder = fmt.Errorf("%w: somebody put another version of the map in force", front.ErrChanged)

// commitTries is how often a version is made again that others, of other services too, have overtaken.
const commitTries = 10

// commit puts a share, and with a going home its order, into the map as a new version of
// the whole map. Versions are numbered as they are begun, and HAProxy refuses one that is
// older than the one in force: then somebody changed it meanwhile, and what was read has to
// be read again. A going home is in the map before it begins its version, so that whoever
// begins one after that reads it: a change that was decided on before a going home cannot
// take effect after it, from whatever process, however long it was held up.
//
// A version that was begun before ours may be put in force between our reading and our own: that is what ours is put in
// force over. It is read in the same breath, and what it had changed is put back.
func (d *Driver) commit(ctx context.Context, c change) error {
	var err error
	for range commitTries {
		if err = d.try(ctx, c); !errors.Is(err, errOlder) {
			return err
		}
	}
	if c.home != nil {
		return nil // somebody else's; whether all is home is read now
	}
	return err
}

func (d *Driver) try(ctx context.Context, c change) error {
	version, s, err := d.begin(ctx)
	if err != nil {
		return err
	}
	next, err := d.content(c, s)
	if err != nil {
		return err
	}
	was, err := d.enforce(ctx, version, next)
	if err != nil {
		return err
	}
	return d.restore(ctx, c, lost(s.entries, was), next)
}

// begin begins a version, and reads what is in force then. The version is older than anything that is begun from here
// on.
func (d *Driver) begin(ctx context.Context) (version string, s state, err error) {
	if version, err = d.empty(ctx); err == nil {
		s, err = d.look(ctx)
	}
	return version, s, err
}

// empty begins a version, with nothing in it.
func (d *Driver) empty(ctx context.Context) (version string, err error) {
	said, err := d.ask(ctx, "prepare map "+d.config.Map)
	if err != nil {
		return "", err
	}
	m := newVersion.FindStringSubmatch(said)
	if m == nil {
		return "", fmt.Errorf("%w: HAProxy makes no new version of the map: %s", front.ErrRefused, excerpt(said))
	}
	return m[1], nil
}

// content is what the map is to have after a change, if that may still be made by what is in force.
func (d *Driver) content(c change, s state) (next [][2]string, err error) {
	order, term := s.order, s.order.Term
	switch of := c.state.order; {
	case c.home != nil:
		order = *c.home
		order.Generation = max(order.Generation, s.order.Generation)
	case order.Generation > of.Generation || order.Term > of.Term:
		return nil, front.Expect{Generation: of.Generation, Term: of.Term}.Allows(c.share, order)
	case s.share != c.state.share || s.inMap != c.state.inMap:
		return nil, fmt.Errorf("%w: it has %v on green", front.ErrChanged, split.Share(s.share))
	case c.term > 0:
		term = c.term
	}
	spare := c.spare
	if c.home != nil {
		spare = s.spare.At(c.share) // as it is now
	}
	next = slices.DeleteFunc(slices.Clone(s.entries), func(e [2]string) bool { return d.ours(e[0]) })
	add := func(key string, value any) { next = append(next, [2]string{key, fmt.Sprint(value)}) }
	if !c.keep || s.inMap {
		add(d.config.MapKey, int(c.share))
	}
	if term > 0 {
		add(d.termKey(), term)
	}
	if order.Generation > 0 {
		add(d.orderKey(), encode(order))
	}
	if spare.Secret != "" {
		add(d.doorKey()+spare.Secret, spare.Side)
	}
	return next, nil
}

// alone is an error if another service of ours has the same map: each version replaces all of it, and what was begun
// before that one went home could be put in force over it for a moment.
func (d *Driver) alone(s state) error {
	for _, e := range s.entries {
		for _, suffix := range []string{homeSuffix, termSuffix} {
			if key, of := strings.CutSuffix(e[0], suffix); of && key != d.config.MapKey {
				return fmt.Errorf("%w: the map %s is that of %s as well. A change replaces all of a map, and could undo what "+
					"another service does at that moment: give each a map of its own", front.ErrRefused, d.config.Map, key)
			}
		}
	}
	return nil
}

// ours reports whether a key of the map is this service's.
func (d *Driver) ours(key string) bool {
	return key == d.config.MapKey || key == d.orderKey() || key == d.termKey() || strings.HasPrefix(key, d.doorKey())
}

// enforce puts a version in force that was begun, and says what it was put in force over. The error wraps [errOlder] if
// a newer one is in force.
func (d *Driver) enforce(ctx context.Context, version string, entries [][2]string) (was [][2]string, err error) {
	var b strings.Builder
	fmt.Fprintf(&b, "add map @%s %s <<\n", version, d.config.Map)
	for _, e := range entries {
		fmt.Fprintf(&b, "%s %s\n", e[0], e[1])
	}
	said, err := d.ask(ctx, b.String())
	if err == nil && trouble(said) != "" {
		err = fmt.Errorf("%w: HAProxy says %q to a new version of the map", front.ErrRefused, trouble(said))
	}
	if err != nil {
		return nil, err
	}
	said, err = d.ask(ctx, "show map "+d.config.Map, fmt.Sprintf("commit map @%s %s", version, d.config.Map))
	if err != nil {
		return nil, err
	}
	var rest []string
	for line := range strings.Lines(said) {
		if e, ok := entryOf(line); ok {
			was = append(was, e)
		} else {
			rest = append(rest, line)
		}
	}
	switch said := trouble(strings.Join(rest, "")); {
	case said == "":
		return was, nil
	case strings.Contains(said, outOfRange):
		return nil, errOlder
	default:
		return nil, fmt.Errorf("%w: HAProxy says %q to the new version of the map", front.ErrRefused, said)
	}
}

// entryOf is an entry of a map as a line of "show map" has it: an address in memory, the key and the value.
func entryOf(line string) (e [2]string, ok bool) {
	f := strings.Fields(line)
	if len(f) != 3 || !strings.HasPrefix(f[0], "0x") {
		return e, false
	}
	return [2]string{f[1], f[2]}, true
}

// lost is what somebody has changed of a map since it was read, as it was just before it was overwritten: values by
// key, nil for what was taken out.
func lost(read, was [][2]string) map[string]*string {
	list := map[string]*string{}
	for _, e := range was {
		if !slices.Contains(read, e) {
			list[e[0]] = &e[1]
		}
	}
	for _, e := range read {
		if !slices.ContainsFunc(was, func(o [2]string) bool { return o[0] == e[0] }) {
			list[e[0]] = nil
		}
	}
	return list
}

// restore puts back what our version was put in force over, where that still is in its place. Of this service it does
// so for a change that is no going home, which comes to nothing then.
func (d *Driver) restore(ctx context.Context, c change, gone map[string]*string, wrote [][2]string) error {
	var overtaken error
	for key := range gone {
		switch {
		case !d.ours(key):
		case c.home != nil:
			delete(gone, key)
		default:
			overtaken = fmt.Errorf("%w: somebody else changed it at the same moment", front.ErrChanged)
		}
	}
	for range commitTries {
		if len(gone) == 0 {
			return overtaken
		}
		version, s, err := d.begin(ctx)
		if err != nil {
			return err
		}
		next := slices.Clone(s.entries)
		for key, value := range gone {
			at := func(list [][2]string) int {
				return slices.IndexFunc(list, func(e [2]string) bool { return e[0] == key })
			}
			is, our := at(next), at(wrote)
			if (is < 0) != (our < 0) || is >= 0 && next[is] != wrote[our] { // it is another one by now
				delete(gone, key)
				continue
			}
			next = slices.DeleteFunc(next, func(e [2]string) bool { return e[0] == key })
			if value != nil {
				next = append(next, [2]string{key, *value})
			}
		}
		was, err := d.enforce(ctx, version, next)
		switch {
		case errors.Is(err, errOlder):
			continue
		case err != nil:
			return err
		}
		gone, wrote = lost(s.entries, was), next
	}
	return errors.Join(overtaken, fmt.Errorf("%w: others change the map again and again", front.ErrChanged))
}
