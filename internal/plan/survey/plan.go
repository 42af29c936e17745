package survey

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/aymanbagabas/go-udiff"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

// Plan is a first plan of what was found, with a comment wherever a person has to decide.
func (f Found) Plan(now time.Time) string {
	var b strings.Builder
	line := func(format string, args ...any) { // one line, whatever names are in it
		b.WriteString(strings.Map(printable, fmt.Sprintf(format, args...)) + "\n")
	}
	fill := strings.NewReplacer("SERVICE", f.Service, "VARIABLE", front.Variable(f.Service)).Replace
	line("# A first plan for %s, written by vaiven survey of %s on %s.", f.Service, f.Target, now.Format("2006-01-02"))
	line("# The survey changed nothing. Read it, decide where it says DECIDE, and then: vaiven plan FILE, vaiven " +
		"where FILE.")
	if len(f.Needs) > 0 && !f.Ready {
		line("# Before requests can be split, its configuration needs, and docs/begin.md says step by step how:")
	} else if len(f.Needs) > 0 {
		line("# Its configuration should have, and docs/begin.md says step by step how:")
	}
	for _, need := range f.Needs {
		line("#   - %s", fill(need))
	}
	f.change(line)
	for _, note := range f.Notes {
		line("# NOTE: %s", fill(note))
	}
	if f.Base != "" {
		line("base: %s", f.Base)
	}
	line("service: %s", f.Service)
	line("front:")
	listen := f.Listen
	if listen == "" {
		line("  # DECIDE: where the proxy takes the requests of this service was not found.")
		listen = "127.0.0.1:80"
	}
	line("  listen: %s", scalar(listen))
	if f.At.Host != "" {
		line("  at: %s", f.At.Host)
	}
	b.WriteString(fill(f.Section))
	if f.Secure || f.Host != "" {
		line("door:")
		if f.Secure {
			line("  scheme: https")
			if !f.Trusted {
				line("  # DECIDE: this machine does not trust its certificate. Name the file of who signed it:")
				line("  # ca: FILE")
			}
		}
		host := f.Host
		for _, name := range f.Names {
			if host == "" && !strings.HasPrefix(name, "*") {
				host = name
				line("  # DECIDE: its certificate is for %s.", strings.Join(f.Names, ", "))
			}
		}
		if host == "" {
			line("  # DECIDE: the name that users ask for, which the certificate is for.")
			host = "localhost"
		}
		line("  host: %s", host)
	}
	f.stack(line)
	f.checks(line)
	if f.Base == "" {
		shared(line, f.Whole)
	}
	return b.String()
}

// shared writes what services have in common as long as nobody has decided otherwise.
func shared(line func(string, ...any), whole bool) {
	line("route:")
	legs := []string{"5 % for 5m", "25 % for 5m", "ask", "100 %"}
	if whole {
		line("  # All requests move at once. \"ask\" stands before what a person approves.")
		legs = legs[2:]
	} else {
		line("  # DECIDE: how requests move. \"ask\" stands before what a person approves.")
	}
	for _, leg := range legs {
		line("  - %s", leg)
	}
	line("# DECIDE: how long the old side is kept ready to be gone back to.")
	line("keep: 30m")
}

// Base is a first file for several plans to share.
func Base() string {
	var b strings.Builder
	b.WriteString("# What the plans beside share (base: base.yaml). What a plan says itself wins.\n")
	shared(func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }, false)
	return b.String()
}

// Table is one line for each of several services: where its requests come in, who answers, what is said of
// versions, and what is in the way.
func Table(all []Found) string {
	var b strings.Builder
	w := tabwriter.NewWriter(&b, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "service\tcomes in at\tinstances\tversions\tin the way")
	for _, f := range all {
		of := 0
		for _, side := range f.Sides {
			of += len(side)
		}
		instances := fmt.Sprint(len(f.live()))
		if rest := of + len(f.Odd) - len(f.live()); rest > 0 {
			instances += fmt.Sprintf(" and %d without requests", rest)
		}
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\n", f.Service,
			cmp.Or(strings.TrimSpace(f.Host+" "+f.Listen), "not found"), instances,
			cmp.Or(strings.Join(f.Checks.Runs, ", "), "not said"), f.inTheWay())
	}
	_ = w.Flush()
	return b.String()
}

// inTheWay is why a service could not be steered by its plan, in a few words.
func (f Found) inTheWay() string {
	var list []string
	if len(f.Checks.Failed) > 0 {
		list = append(list, fmt.Sprintf("%d instances do not answer", len(f.Checks.Failed)))
	}
	switch {
	case f.Change.Err != nil:
		list = append(list, "the proxy does not take the change")
	case len(f.Change.Files) > 0:
		list = append(list, fmt.Sprintf("a change of %d files, tested", len(f.Change.Files)))
	case !f.Ready:
		list = append(list, "what its plan says")
	}
	if len(f.Notes) > 0 {
		list = append(list, fmt.Sprintf("%d notes", len(f.Notes)))
	}
	return cmp.Or(strings.Join(list, "; "), "nothing")
}

// change says what has to change in the proxy's configuration.
func (f Found) change(line func(string, ...any)) {
	switch {
	case len(f.Change.Files) == 0:
		return
	case f.Change.Err != nil:
		line("# NOTE: the change below is not tested: %v", f.Change.Err)
	default:
		line("# The proxy has tested this change on a copy:")
	}
	for text := range strings.Lines(f.Diff()) {
		line("#   %s", strings.TrimRight(text, "\n"))
	}
	dir := f.Kept
	if dir == "" {
		dir = "DIR"
		line("# \"vaiven survey --apply DIR\" writes the changed files into a folder, with those that are there now.")
	}
	after := strings.Join(f.Change.Reload, ", ")
	there := ""
	if f.At.Host != "" {
		there = fmt.Sprintf(" on %s, with %s copied there,", f.At.Host, dir)
	}
	line("# To make it: vaiven front PLAN, then%s cp -r %s/new/. /, %s. To undo it: cp -r %s/old/. /, %s.", there, dir, after,
		dir, after)
}

// Diff is the change of the proxy's configuration.
func (f Found) Diff() string {
	var b strings.Builder
	for _, e := range f.Change.Files {
		b.WriteString(udiff.Unified("old"+e.Name, "new"+e.Name, string(e.Was), string(e.Now)))
	}
	return b.String()
}

// Keep writes the changed files into a folder that is not there yet, with those that are in place now: "new" and "old",
// each with the files where they are from the root on, and "change.diff".
func (f *Found) Keep(dir string) error {
	if err := os.Mkdir(dir, 0o700); err != nil {
		return fmt.Errorf("the change is written into a folder of its own: %w", err)
	}
	for _, e := range f.Change.Files {
		for name, data := range map[string][]byte{"new": e.Now, "old": e.Was} {
			file := filepath.Join(dir, name, e.Name)
			if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, data, 0o600)); err != nil {
				return err
			}
		}
	}
	f.Kept = dir
	return os.WriteFile(filepath.Join(dir, "change.diff"), []byte(f.Diff()), 0o600)
}

// stack writes both sides.
func (f Found) stack(line func(string, ...any)) {
	if f.Rate >= 0 {
		line("# %.1f requests a second came in %.0f seconds, to %d instances.", f.Rate, f.Counted.Seconds(),
			len(f.live()))
	}
	line("# DECIDE: capacity, the requests a second that one instance carries (\"capacity: 120 /s\"): with it Vaiven " +
		"says whether a side is big enough.")
	line("stack:")
	for _, side := range split.Sides {
		line("  %v:", side)
		if len(f.Sides[side]) == 0 {
			line("    # DECIDE: how this side is raised. To start instances here:")
			line("    #   command: ./builds/{version}/server --listen {address}")
			line("    #   ports: 18100-18199")
			line("    # or hosts, containers, a tool of your own (docs/plan.md), or \"stands\" with addresses that " +
				"somebody else starts.")
			line("    # Until then it is whoever the front lists for it.")
			line("    stands: front")
			continue
		}
		line("    stands:")
		for _, i := range f.Sides[side] {
			line("      - %s%s", scalar(i.entry()), i.comment())
		}
	}
	for _, i := range f.Odd {
		line("  # DECIDE: %s (%s) is of neither side by its name.", i.Address, i.Name)
	}
}

// entry is where an instance stands, as a plan says it.
func (i Instance) entry() string {
	switch {
	case i.Who.Unit != "":
		return fmt.Sprintf("unit %s at %s", i.Who.Unit, i.Address)
	default:
		return i.Address
	}
}

// comment is what was found there.
func (i Instance) comment() string {
	var parts []string
	if i.Name != "" && i.Name != i.Address {
		parts = append(parts, i.Name)
	}
	if !i.In {
		parts = append(parts, "gets no requests")
	}
	if i.Who.PID != 0 {
		command := strings.Join(i.Who.Command, " ")
		const most = 100
		if len(command) > most {
			command = command[:most] + "…"
		}
		parts = append(parts, fmt.Sprintf("process %d: %s", i.Who.PID, command))
	}
	if i.Who.Container != "" {
		parts = append(parts, fmt.Sprintf("in container %.12s: \"container NAME\" and \"port\" adopt it as one",
			i.Who.Container))
	}
	if len(parts) == 0 {
		return ""
	}
	return "   # " + strings.Join(parts, ", ")
}

// scalar is a text as a plan has it: an IPv6 address in brackets would be a list.
func scalar(text string) string {
	if strings.HasPrefix(text, "[") {
		return strconv.Quote(text)
	}
	return text
}

// printable leaves out what would end a comment.
func printable(r rune) rune {
	if r < ' ' || r == 0x7f {
		return ' '
	}
	return r
}

// checks writes what was tried and passes.
func (f Found) checks(line func(string, ...any)) {
	c := f.Checks
	for _, failed := range c.Failed {
		line("# NOTE: %s", failed)
	}
	if c.Health != "" {
		line("health:")
		line("  path: %s   # tried: it answers on every instance that gets requests", c.Health)
	} else {
		line("health:")
		line("  # DECIDE: none of the usual paths answered (%s): a connection has to do until there is one.",
			strings.Join(healthPaths, ", "))
		line("  tcp: \"{address}\"")
	}
	line("smoke:")
	if c.Smoke == "" {
		line("  # DECIDE: no instance answered HTTP.")
		line("  - tcp: \"{address}\"")
	} else {
		line("  # DECIDE: what users need: a request that shows that it works, with what has to be in its answer.")
		line("  - request: %s", c.Smoke)
		if c.Status < 200 || c.Status > 299 {
			line("    status: %d   # as every instance answers now", c.Status)
		}
		if f.Host != "" {
			line("    headers: {Host: %s}", f.Host)
		}
	}
	if c.Says != "" {
		line("says:")
		line("  path: %s   # tried", c.Says)
		line("  version: json %s", c.Version)
		if c.Build != "" {
			line("  build: json %s", c.Build)
		}
	} else {
		line("# DECIDE: where an instance says its version (\"says: {path: /about, version: json version}\"); " +
			"without it what can be")
		line("# seen of its program is what it is known by.")
	}
	line("prober:")
	line("  path: %s", cmp.Or(c.Smoke, "/"))
	if c.Status != 0 && c.Status != 200 {
		line("  status: %d", c.Status)
	}
	if c.Root {
		line("  version: json version")
	}
}
