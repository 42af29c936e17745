package stand

import (
	"context"
	"fmt"
	"path"
	"strconv"
	"strings"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/stack"
	"vaiven/internal/world/place"
	"vaiven/internal/world/place/distant"
)

// properties are what is asked of a unit (systemctl(1), org.freedesktop.systemd1(5)).
var properties = []string{"LoadState", "ActiveState", "SubState", "Result", "MainPID", "ExecMainStartTimestamp"}

// unit is a unit of systemd as an instance.
func (d *Driver) unit(ctx context.Context, name string, t plan.Stand) (reading.Instance, error) {
	i := reading.Instance{Address: t.Address}
	var from place.Place = place.Local{}
	if (t.On != plan.Host{}) {
		i.Place = t.On.String()
		from = distant.Place{Machine: d.machines[i.Place]}
	}
	show, err := shown(ctx, from, name)
	if err != nil {
		return i, err
	}
	if show["LoadState"] == "not-found" {
		i.Exit = "there is no unit " + name
		return i, nil
	}
	i.Running = show["ActiveState"] == "active" || show["ActiveState"] == "reloading" ||
		show["ActiveState"] == "activating"
	if !i.Running {
		i.Exit = strings.TrimSpace(fmt.Sprintf("%s is %s (%s)", name, show["ActiveState"], show["Result"]))
		return i, nil
	}
	i.Started = stamp(show["ExecMainStartTimestamp"])
	if pid := show["MainPID"]; pid != "" && pid != "0" {
		i.Build = identity(ctx, from, pid)
	}
	if out, err := from.Run(ctx,
		place.Command{Words: []string{"journalctl", "-u", name, "-n", "12", "-o", "cat", "--no-pager"}}); err == nil &&
		out.Status == 0 {
		i.Output = stack.Lines(out.Output)
	}
	return i, nil
}

// shown are a unit's properties.
func shown(ctx context.Context, from place.Place, name string) (map[string]string, error) {
	out, err := from.Run(ctx,
		place.Command{Words: []string{"systemctl", "show", "--property", strings.Join(properties, ","), "--", name},
			Environment: map[string]string{"LC_ALL": "C", "TZ": "UTC"}})
	switch {
	case err != nil:
		return nil, fmt.Errorf("%w: systemctl: %w", stack.ErrUnreachable, err)
	case out.Status != 0:
		return nil, fmt.Errorf("%w: systemctl show %s: %s", stack.ErrUnreachable, name,
			strings.TrimSpace(string(out.Output)))
	}
	values := map[string]string{}
	for line := range strings.Lines(string(out.Output)) {
		key, value, _ := strings.Cut(strings.TrimSpace(line), "=")
		values[key] = value
	}
	return values, nil
}

// stamp reads a time as systemd writes it: "Thu 2026-11-26 07:11:46 UTC". It is zero if it says none.
func stamp(text string) time.Time {
	at, err := time.Parse("Mon 2006-01-02 15:04:05 MST", text)
	if err != nil {
		return time.Time{}
	}
	return at
}

// pid is the process of an instance, "" if it cannot be told.
func (d *Driver) pid(ctx context.Context, from place.Place, i reading.Instance) (string, error) {
	for _, t := range d.part.Stacks[i.Side].Stands {
		if t.Kind != plan.StandUnit || t.Address != i.Address {
			continue
		}
		show, err := shown(ctx, from, d.expand(t.Name, i.Side))
		if pid := show["MainPID"]; err == nil && pid != "0" {
			return pid, nil
		}
		return "", err
	}
	if p, ok := d.here.listens(ctx, i.Address); ok {
		return strconv.Itoa(p.pid), nil
	}
	return "", nil
}

// identity names what a process is the program of, "" if that is not known: a program that only carries
// out another one, as those of the system do, is named by the file that it was given.
func identity(ctx context.Context, from place.Place, pid string) string {
	exe, err := from.Run(ctx, place.Command{Words: []string{"readlink", "/proc/" + pid + "/exe"}})
	if err != nil || exe.Status != 0 {
		return ""
	}
	cmdline, err := from.ReadFile(ctx, "/proc/"+pid+"/cmdline")
	if err != nil {
		return ""
	}
	file := "/proc/" + pid + "/exe"
	if ofSystem(strings.TrimSpace(string(exe.Output))) {
		if file = given(cmdline); file == "" {
			return ""
		}
		if !path.IsAbs(file) {
			file = "/proc/" + pid + "/cwd/" + file
		}
	}
	sum, err := from.Run(ctx, place.Command{Words: []string{"sha256sum", "--", file}})
	digest, _, _ := strings.Cut(string(sum.Output), " ")
	if err != nil || sum.Status != 0 || len(digest) != 64 {
		return ""
	}
	return "sha256:" + digest
}

// ofSystem reports whether a program is one that came with the system.
func ofSystem(file string) bool {
	for _, dir := range []string{"/usr/bin/", "/bin/", "/usr/sbin/", "/sbin/", "/usr/lib", "/lib", "/root/.pyenv/",
		"/opt/java", "/usr/local/bin/python", "/usr/local/bin/node", "/usr/local/bin/ruby"} {
		if strings.HasPrefix(file, dir) {
			return true
		}
	}
	return false
}

// given is the file that a program was given to carry out: the first of its words that is no option.
func given(cmdline []byte) string {
	words := strings.Split(strings.TrimRight(string(cmdline), "\x00"), "\x00")
	for n := 1; n < len(words); n++ {
		switch w := words[n]; {
		case w == "-m" || w == "-c" || w == "-e":
			return ""
		case w == "-jar" && n+1 < len(words):
			return words[n+1]
		case strings.HasPrefix(w, "-") || w == "":
			continue
		default:
			return w
		}
	}
	return ""
}
