package include

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/aymanbagabas/go-udiff"

	"vaiven/internal/durable"
	"vaiven/internal/front"
)

// Server is what a kind of proxy has to know of itself.
type Server interface {
	// Main is the main file of the configuration, and the folder that relative names in
	// it begin at; "" if only Files knows that.
	Main() (file, base string)
	// Files are the files of the configuration that is in place, the main one first,
	// and the folder that relative names in it begin at.
	Files(ctx context.Context) (files []string, base string, err error)
	// Check tests a main configuration.
	Check(ctx context.Context, config string) error
	// Reload has the server load its configuration. It may return before that is in
	// force.
	Reload(ctx context.Context) error
	// Running is what serves now; the texts are those of workers, which come and go
	// with each reload. It wraps [front.ErrUnreachable] if nothing does.
	Running() (workers []string, err error)
	// Fresh reports whether those that serve now show that a reload is in force.
	Fresh(before, now []string) bool
	// Leaving are the workers that only finish what they have, as far as that is known.
	Leaving() ([]string, error)
	// Directive finds the names of what a line of the configuration includes.
	Directive() *regexp.Regexp
	// Include is a line that includes a file.
	Include(file string) string
}

// File is a file of ours in the configuration of a server.
type File struct {
	Path   string
	Server Server
}

// The limits of what a server is waited for.
const (
	checkLimit   = 10 * time.Second
	confirmLimit = 10 * time.Second
)

// Read is what stands in the file, and none if it is not there.
func (f File) Read() ([]byte, error) {
	data, err := os.ReadFile(f.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, nil
	case err != nil:
		return nil, fmt.Errorf("%w: %w", front.ErrUnreachable, err)
	}
	return data, nil
}

// Before is where the content before the last change stays.
func (f File) Before() string { return f.hidden("before") }

// hidden is a file beside ours that patterns such as *.conf do not match.
func (f File) hidden(what string) string {
	return filepath.Join(filepath.Dir(f.Path), "."+filepath.Base(f.Path)+"."+what)
}

// Replace puts other content in place of what was read and has the server load it. If
// it fails, the file is what it was, and so is what is in force, or the error says that
// it is not. Somebody else's change since was read is not overwritten, unless going
// home.
func (f File) Replace(ctx context.Context, was, next []byte, home bool) error {
	unlock, err := f.lock()
	switch {
	case err == nil:
		defer unlock()
	case !home:
		return refused("the file %s cannot be changed, nothing was changed: %w", f.Path, err)
	}
	now, err := f.Read()
	switch {
	case err != nil:
		return err
	case !bytes.Equal(now, was) && !home:
		return fmt.Errorf("%w: %s is not what it was when it was read", front.ErrChanged, f.Path)
	}
	if home { // first, so that it is in force at the latest when somebody starts the server
		if err := f.putHome(now, next); err != nil {
			return err
		}
	}
	workers, err := f.Server.Running()
	switch {
	case err != nil && home:
		return f.waits(err)
	case err != nil:
		return err
	}
	if !home {
		if err := f.putChecked(ctx, now, next); err != nil {
			return err
		}
		// A server that is just starting may have got more workers meanwhile.
		if more, err := f.Server.Running(); err == nil {
			workers = append(workers, more...)
		}
	}
	if err = f.load(ctx, workers); err == nil && !home {
		err = f.settle() // here, because nobody should wait for the disk before the server loads
	}
	if err == nil {
		return nil
	}
	// Back to what was there. A context that has ended must not leave half a change.
	back, cancel := context.WithTimeout(context.WithoutCancel(ctx), confirmLimit)
	defer cancel()
	workers, _ = f.Server.Running()
	if now == nil {
		err = errors.Join(err, os.Remove(f.Path))
	} else {
		err = errors.Join(err, f.Put(now), f.settle())
	}
	if errBack := f.load(back, workers); errBack != nil {
		return fmt.Errorf("%w: the change was not taken (%w), %s is what it was, and loading that failed too: %w", front.ErrRefused, err, f.Path, errBack)
	}
	return refused("the change was not taken and everything is as before: %w", err)
}

// waits says of a server that does not run that the way home is written down for it.
func (f File) waits(err error) error {
	return fmt.Errorf("%w; %s has all at home, in force when it is started: what is left of it serves what it had", err, f.Path)
}

// putChecked puts a file in place that has passed the check.
func (f File) putChecked(ctx context.Context, now, next []byte) error {
	candidate, before := f.hidden("new"), f.hidden("before-new")
	defer os.Remove(candidate)
	defer os.Remove(before)
	err := write(candidate, next)
	if err == nil {
		err = write(before, now)
	}
	if err != nil {
		return refused("%s cannot be written, nothing was changed: %w", f.Path, err)
	}
	// The disk works while the configuration is checked.
	synced := make(chan error, 1)
	go func() { synced <- errors.Join(durable.Sync(candidate), durable.Sync(before)) }()
	errCheck := f.check(ctx, candidate)
	err = <-synced
	if errCheck != nil {
		return errCheck
	}
	if err == nil {
		err = os.Rename(before, f.Before())
	}
	if err == nil {
		err = os.Rename(candidate, f.Path)
	}
	if err != nil {
		return refused("%s cannot be put in place, nothing was changed: %w", f.Path, err)
	}
	return nil
}

// settle makes the names in our folder last.
func (f File) settle() error { return durable.Sync(filepath.Dir(f.Path)) }

// putHome puts a file in place by whatever works: on a full disk there may be no room
// for another file, but for the same one with other content.
func (f File) putHome(now, next []byte) error {
	if before := f.hidden("before-new"); write(before, now) == nil {
		_ = os.Rename(before, f.Before())
	}
	if f.Put(next) == nil {
		return nil
	}
	file, err := os.OpenFile(f.Path, os.O_WRONLY, 0)
	if err != nil {
		return refused("%s cannot be written, nothing was changed: %w", f.Path, err)
	}
	if pad := len(now) - len(next); pad > 0 { // as long as it was: what follows is no half of a line
		next = append(bytes.Clone(next), bytes.Repeat([]byte{'\n'}, pad)...)
	}
	_, err = file.WriteAt(next, 0)
	if err = errors.Join(err, file.Truncate(int64(len(next))), file.Sync(), file.Close()); err != nil {
		return refused("%s was written in part only (%w): write it by hand, it was in %s", f.Path, err, f.Before())
	}
	return nil
}

// refused is a refusal, unless the cause is of a kind of its own.
func refused(format string, args ...any) error {
	err := fmt.Errorf(format, args...)
	if errors.Is(err, front.ErrUnreachable) || errors.Is(err, front.ErrRefused) || errors.Is(err, front.ErrChanged) {
		return err
	}
	return fmt.Errorf("%w: %w", front.ErrRefused, err)
}

// Put writes the file, unchecked: where the server does not run yet, so that it can
// start.
func (f File) Put(data []byte) error {
	candidate := f.hidden("new")
	err := write(candidate, data)
	if err == nil {
		err = durable.Sync(candidate)
	}
	if err == nil {
		err = os.Rename(candidate, f.Path)
	}
	if err != nil {
		_ = os.Remove(candidate)
	}
	return err
}

// load has the server load what is in place, and waits until other workers serve than
// before.
func (f File) load(ctx context.Context, before []string) error {
	ctx, cancel := context.WithTimeout(ctx, confirmLimit)
	defer cancel()
	if err := f.Server.Reload(ctx); err != nil {
		return err
	}
	for {
		now, err := f.Server.Running()
		if err != nil {
			return err
		}
		if f.Server.Fresh(before, now) {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the reload was told and the workers from before still serve: %w", ctx.Err())
		case <-time.After(5 * time.Millisecond):
		}
	}
}

// lock keeps two of us from changing the file at once.
func (f File) lock() (unlock func(), err error) {
	l, err := os.OpenFile(f.hidden("lock"), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(l.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, errors.Join(errors.New("somebody changes it at this moment"), l.Close())
	}
	return func() { _ = l.Close() }, nil
}

// write writes a file. Others may read it: it is configuration.
func write(name string, data []byte) error {
	err := os.WriteFile(name, data, 0o644)
	if err != nil {
		_ = os.Remove(name)
	}
	return err
}

// check tests the configuration with a candidate in the place of our file.
func (f File) check(ctx context.Context, candidate string) error {
	ctx, cancel := context.WithTimeout(ctx, checkLimit)
	defer cancel()
	// Most often the main file includes ours itself. Only if it does not, the server is
	// asked what else it loads, which takes it as long as a check.
	main, base := f.Server.Main()
	files := []string{main}
	if _, _, found, err := f.includer(files, base, f.Path, candidate); err != nil || !found {
		if files, base, err = f.Server.Files(ctx); err != nil {
			return refused("the configuration that is in place does not pass its check, nothing was changed: %w", err)
		}
	}
	var temporary []string
	defer func() {
		for _, name := range temporary {
			_ = os.Remove(name)
		}
	}()
	target, with := f.Path, candidate
	for range len(files) + 1 {
		file, text, found, err := f.includer(files, base, target, with)
		if err != nil {
			return refused("test the change: %w", err)
		}
		if !found {
			return refused("the configuration %s does not include %s, nothing was changed", files[0], target)
		}
		copied := filepath.Join(filepath.Dir(file), "."+filepath.Base(file)+".vaiven-check")
		if err := os.WriteFile(copied, text, 0o644); err != nil {
			return refused("a copy of %s to test the change in cannot be written, nothing was changed: %w", file, err)
		}
		temporary = append(temporary, copied)
		if file == files[0] {
			if err := f.Server.Check(ctx, copied); err != nil {
				return refused("the configuration would not pass its check, nothing was changed: %w", err)
			}
			return nil
		}
		target, with = file, copied
	}
	return refused("%s includes itself", files[0])
}

// includer finds the file that includes another, and its text with a third in the
// other's place.
func (f File) includer(files []string, base, target, with string) (file string, text []byte, found bool, err error) {
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			return "", nil, false, err
		}
		found := false
		text := f.Server.Directive().ReplaceAllFunc(data, func(line []byte) []byte {
			m := f.Server.Directive().FindSubmatch(line)
			pattern := strings.Trim(string(m[len(m)-1]), `"'`)
			if !filepath.IsAbs(pattern) {
				pattern = filepath.Join(base, pattern)
			}
			if pattern == target {
				found = true
				return []byte(f.Server.Include(with))
			}
			if ok, _ := filepath.Match(pattern, target); !ok {
				return line
			}
			found = true
			var b strings.Builder
			names, _ := filepath.Glob(pattern)
			if !slices.Contains(names, target) {
				names = append(names, target) // it will be
				slices.Sort(names)
			}
			for _, name := range names {
				if name == target {
					name = with
				} else if strings.HasPrefix(filepath.Base(name), ".") {
					continue
				}
				b.WriteString(f.Server.Include(name))
			}
			return []byte(b.String())
		})
		if found {
			return file, text, true, nil
		}
	}
	return "", nil, false, nil
}

// Command runs a server's command and returns what it said. If it fails, the error is
// its own words.
func Command(ctx context.Context, words ...string) (string, error) {
	cmd := exec.CommandContext(ctx, words[0], words[1:]...)
	cmd.WaitDelay = time.Second
	out, err := cmd.CombinedOutput()
	text := strings.TrimSpace(string(out))
	var exit *exec.ExitError
	switch {
	case errors.As(err, &exit) && text != "":
		return text, fmt.Errorf("%s says: %s", filepath.Base(words[0]), lastOf(text))
	case err != nil:
		return text, fmt.Errorf("%s: %w", strings.Join(words, " "), err)
	}
	return text, nil
}

// lastOf are the last lines of a long text, on one line.
func lastOf(text string) string {
	lines := strings.Split(text, "\n")
	return strings.Join(lines[max(0, len(lines)-3):], "; ")
}

// Workers are the children of a process, each with its start, so that a number that is
// used again is another worker. serves says of a command line whether such a child
// takes requests.
func Workers(master string, serves func(command string) bool) ([]string, error) {
	if _, err := os.Stat("/proc/" + master); master == "" || err != nil {
		return nil, fmt.Errorf("%w: there is no process %s", front.ErrUnreachable, master)
	}
	candidates, err := children(master)
	if err != nil { // a kernel without such lists: all processes
		if candidates, err = filepath.Glob("/proc/[0-9]*"); err != nil {
			return nil, err
		}
	}
	var list []string
	for _, dir := range candidates {
		data, err := os.ReadFile(filepath.Join(dir, "stat"))
		end := bytes.LastIndexByte(data, ')') // of the name, which may hold anything
		if err != nil || end < 0 {
			continue // gone
		}
		// From the third field on: state, parent, ..., start in ticks since boot (proc(5)).
		fields := strings.Fields(string(data[end+1:]))
		if len(fields) < 20 || fields[1] != master || fields[0] == "Z" {
			continue
		}
		command, err := os.ReadFile(filepath.Join(dir, "cmdline"))
		if err == nil && serves(string(command)) {
			list = append(list, filepath.Base(dir)+" "+fields[19])
		}
	}
	return list, nil
}

// children are the folders in /proc of a process's children, by the kernel's own lists.
// Those may leave some out while another ends (proc(5)), and then the next reading differs.
func children(master string) ([]string, error) {
	read := func() (all []byte, err error) {
		lists, err := filepath.Glob(filepath.Join("/proc", master, "task", "*", "children")) // of its threads
		if err == nil && len(lists) == 0 {
			err = errors.ErrUnsupported
		}
		for _, file := range lists {
			list, errRead := os.ReadFile(file)
			all, err = append(all, list...), errors.Join(err, errRead)
		}
		return all, err
	}
	last, err := read()
	for err == nil {
		var again []byte
		if again, err = read(); bytes.Equal(again, last) {
			break
		}
		last = again
	}
	var dirs []string
	for _, pid := range strings.Fields(string(last)) {
		dirs = append(dirs, "/proc/"+pid)
	}
	return dirs, err
}

// PID reads a file with the number of a process.
func PID(file string) (string, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return "", fmt.Errorf("%w: it is not running (%w)", front.ErrUnreachable, err)
	}
	return strings.TrimSpace(string(data)), nil
}

// AllNew reports whether every worker has come since.
func AllNew(before, now []string) bool {
	return len(now) > 0 && !slices.ContainsFunc(now, func(w string) bool { return slices.Contains(before, w) })
}

// AnyNew reports whether a worker has come since.
func AnyNew(before, now []string) bool {
	return slices.ContainsFunc(now, func(w string) bool { return !slices.Contains(before, w) })
}

// youngest is when the last of some workers was started.
func youngest(workers []string) (time.Time, error) {
	data, err := os.ReadFile("/proc/stat")
	if err != nil {
		return time.Time{}, err
	}
	boot := int64(0)
	for line := range strings.Lines(string(data)) {
		if rest, ok := strings.CutPrefix(line, "btime "); ok {
			boot, _ = strconv.ParseInt(strings.TrimSpace(rest), 10, 64)
		}
	}
	latest := int64(0)
	for _, w := range workers {
		_, ticks, _ := strings.Cut(w, " ")
		n, _ := strconv.ParseInt(ticks, 10, 64)
		latest = max(latest, n)
	}
	if boot == 0 || latest == 0 {
		return time.Time{}, errors.New("when the workers were started is not known")
	}
	const perSecond = 100 // USER_HZ, the same on all of Linux's common systems
	return time.Unix(boot, latest*int64(time.Second)/perSecond), nil
}

// difference are the lines in which two texts differ, without those around them and
// without seals.
func difference(was, next []byte) []string {
	var lines []string
	for line := range strings.Lines(udiff.Unified("", "", string(was), string(next))) {
		line = strings.TrimRight(line, "\n")
		if strings.HasPrefix(line, "---") || strings.HasPrefix(line, "+++") || line == "" || line[0] != '+' && line[0] != '-' || strings.HasPrefix(line[1:], sealed) {
			continue
		}
		lines = append(lines, line)
	}
	return lines
}
