package process

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"os/exec"
	"path"
	"strconv"
	"strings"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/world/delivered"
	"vaiven/internal/world/state"
)

// buildsIn is the folder with what was delivered of each build that was raised, in the state folder.
const buildsIn = "delivered"

// build is what a version is made of here: the plan's build, else what the command names of the version, else its
// program.
type build struct {
	file   string // of its manifest, in the state folder
	folder string // that the plan says it stands in; "" for none
	paths  []string
}

// buildOf is what an instance is started from.
func (d *Driver) buildOf(i reading.Instance) (build, error) {
	s := d.part.Stacks[i.Side]
	values := reading.Instance{Part: i.Part, Side: i.Side, Version: i.Version, Build: i.Build}.Values(d.service)
	b := build{folder: plan.Expand(s.Build, values)}
	switch program, err := exec.LookPath(plan.Expand(s.Command[0], values)); {
	case s.Build != "":
		b.paths = []string{b.folder}
	case err != nil:
		return b, err
	default:
		b.paths = []string{program}
		for _, word := range s.Command[1:] {
			if named := plan.Expand(word, values); strings.Contains(word, "{version}") ||
				strings.Contains(word, "{build}") {
				if _, err := os.Stat(named); err == nil && path.IsAbs(named) {
					b.paths = append(b.paths, named)
				}
			}
		}
	}
	h := sha256.Sum256(fmt.Appendf(nil, "%q %q %q", i.Version, i.Build, b.paths))
	b.file = path.Join(buildsIn, d.part.Name, fmt.Sprintf("%v-%s.json", i.Side, hex.EncodeToString(h[:8])))
	return b, nil
}

// takeDelivered notes what was delivered of a build before its first instance is started. As long as instances of it
// run it has to be there as it was.
func (d *Driver) takeDelivered(in *state.Folder, i reading.Instance, run bool) error {
	b, err := d.buildOf(i)
	if err != nil {
		return nil // its program is not there, as each start says
	}
	if run {
		m, err := manifest(in, b)
		if list := m.Differs(); err == nil && len(list) > 0 {
			return fmt.Errorf("version %s is %w while %v runs it: %s", i.Version, delivered.ErrOther, i.Side,
				delivered.Told(list, b.folder))
		}
		if err == nil {
			return nil
		}
	}
	m, err := take(in, i, b)
	if err != nil {
		return fmt.Errorf("the build of version %s: %w", i.Version, err)
	}
	data, err := json.Marshal(m)
	if err == nil {
		err = in.Mkdir(path.Dir(b.file))
	}
	if err == nil {
		err = in.WriteFile(b.file, data)
	}
	if err != nil {
		return err
	}
	if err := in.RemoveAll(b.copied()); err != nil {
		return err
	}
	if _, err := m.Copy(in.Path(b.copied())); err != nil { // without one it is started from where it stands, or not
		slog.Warn("no copy of the build is kept", "version", i.Version, "err", err)
	}
	return nil
}

// copied is the folder with a copy of the build, in the state folder.
func (b build) copied() string { return strings.TrimSuffix(b.file, ".json") + ".build" }

// kept is the copy of an instance's build that was kept when that was delivered; nil if there is none, or if the
// instance works in a folder of the build, whose files it would meet as they are now.
func (d *Driver) kept(in *state.Folder, i reading.Instance) *copied {
	b, err := d.buildOf(i)
	if err != nil && b.file == "" {
		return nil
	}
	m, err := manifest(in, b)
	if err != nil {
		return nil
	}
	folder := plan.Expand(d.part.Stacks[i.Side].Folder, i.Values(d.service))
	if _, works := m[folder]; works || !m.Stands(in.Path(b.copied())) {
		return nil
	}
	return &copied{m, in.Path(b.copied())}
}

// copied is a copy of a build, and what that was made of.
type copied struct {
	delivered.Manifest
	folder string
}

// of is a text with paths of the build as they are in the copy. A nil copy leaves it alone.
func (c *copied) of(text string) string {
	if c == nil {
		return text
	}
	return c.In(c.folder, text)
}

// take is what is delivered of a build: what was noted when it was chosen, if that is there as it was, and else what
// stands there now.
func take(in *state.Folder, i reading.Instance, b build) (delivered.Manifest, error) {
	if len(b.paths) == 1 {
		if r, err := delivered.Recorded(in, b.paths[0]); err == nil && r.ID == i.Build && r.Stands() {
			return r.All, nil
		}
	}
	return delivered.Take(b.paths...)
}

// manifest is what was delivered of a build. The error wraps [fs.ErrNotExist] where that is not known.
func manifest(in *state.Folder, b build) (delivered.Manifest, error) {
	data, err := in.ReadFile(b.file)
	if err != nil {
		return nil, err
	}
	var m delivered.Manifest
	err = json.Unmarshal(data, &m)
	return m, err
}

// differs is what of an instance's build is not there as it was delivered, in words; "" if all is, or nothing is known
// of it, as with instances that an older Vaiven started.
func (d *Driver) differs(in *state.Folder, i reading.Instance) (string, error) {
	b, err := d.buildOf(i)
	if err != nil {
		return "", err
	}
	m, err := manifest(in, b)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	return delivered.Told(m.Differs(), b.folder), err
}

// forget removes what is known of builds of a side of which nothing runs any more.
func (d *Driver) forget(in *state.Folder, side split.Side) error {
	folder := path.Join(buildsIn, d.part.Name)
	names, err := in.Names(folder)
	for _, name := range names {
		if strings.HasPrefix(name, side.String()+"-") {
			err = errors.Join(err, in.RemoveAll(path.Join(folder, name)))
		}
	}
	return err
}

// holds looks what the program of a running instance is, and says what it is if it is not what was delivered; "" if
// it is, or cannot be told.
func (d *Driver) holds(in *state.Folder, n *note) string {
	children, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%[1]d/children", n.Session.PID))
	pids := strings.Fields(string(children))
	if err != nil || len(pids) == 0 {
		return ""
	}
	pid, err := strconv.Atoi(pids[0])
	exe := fmt.Sprintf("/proc/%d/exe", pid)
	program, errLink := os.Readlink(exe)
	if err != nil || errLink != nil {
		return ""
	}
	program = strings.TrimSuffix(program, " (deleted)")
	key := held{n.Session, pid, program}
	d.mu.Lock()
	said, known := d.held[key]
	d.mu.Unlock()
	if known {
		return said
	}
	b, err := d.buildOf(n.Instance)
	if err != nil {
		return ""
	}
	m, err := manifest(in, b)
	if err != nil {
		return ""
	}
	if same, known := m.Is(program, exe); known && !same {
		said = delivered.Told([]string{program}, b.folder)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.held == nil || len(d.held) > mostHeld {
		d.held = map[held]string{}
	}
	d.held[key] = said
	return said
}

// held is a program that was held to what was delivered.
type held struct {
	of      ID
	pid     int
	program string
}

// mostHeld bounds how many of them are remembered.
const mostHeld = 256
