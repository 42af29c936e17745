package distant

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"vaiven/internal/world/place"
)

// Place is a machine as a place, with the folder that commands run in: one that is not absolute lies
// below the home of whoever logs in. Closing it keeps the connection, which is the machine's.
type Place struct {
	*Machine
	Folder string
}

var _ place.Machine = Place{}

// Close keeps the connection.
func (Place) Close() error { return nil }

// Dial connects from there: names are resolved there, and sockets are files there.
func (p Place) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	client, err := p.connect(ctx)
	if err != nil {
		return nil, err
	}
	conn, err := p.dialled(ctx, client, network, address)
	var open *ssh.OpenChannelError
	if !errors.As(err, &open) {
		if err != nil && ctx.Err() != nil {
			p.doubt(client)
		}
		return conn, err
	}
	text := strings.ToLower(open.Message)
	cause := place.Other
	switch {
	case open.Reason == ssh.Prohibited:
		return nil, fmt.Errorf("%w: host %s forbids forwarding: %s", place.ErrCannot, p.name, open.Message)
	case strings.Contains(text, "refused"):
		cause = place.Refused
	case strings.Contains(text, "name"), strings.Contains(text, "unknown host"), strings.Contains(text, "no address"):
		cause = place.NoName // getaddrinfo's words: "Name or service not known", "Temporary failure in name resolution"
	case strings.Contains(text, "timed out"):
		cause = place.TimeOut
	case strings.Contains(text, "unreachable"), strings.Contains(text, "no route"):
		cause = place.Unreachable
	}
	return nil, place.Failure(cause, address, open.Message)
}

// dialled connects, and leaves behind what does not return when its context has ended.
func (p Place) dialled(ctx context.Context, client *ssh.Client, network, address string) (net.Conn, error) {
	type outcome struct {
		conn net.Conn
		err  error
	}
	done := make(chan outcome, 1)
	go func() {
		conn, err := client.DialContext(ctx, network, address)
		done <- outcome{conn, err}
	}()
	select {
	case o := <-done:
		return o.conn, o.err
	case <-ctx.Done():
	}
	go func() {
		if o := <-done; o.err == nil {
			_ = o.conn.Close()
		}
	}()
	return nil, p.unreachable(fmt.Errorf("no answer in time: %w", context.Cause(ctx)))
}

// Run runs a command there.
func (p Place) Run(ctx context.Context, c place.Command) (place.Outcome, error) {
	var b strings.Builder
	fmt.Fprintf(&b, "cd %s || exit\n", Name(p.Folder))
	for _, name := range slices.Sorted(maps.Keys(c.Environment)) {
		fmt.Fprintf(&b, "export %s=%s\n", name, Quote(c.Environment[name]))
	}
	quoted := make([]string, len(c.Words))
	for n, w := range c.Words {
		quoted[n] = Quote(w)
	}
	fmt.Fprintf(&b, "PATH=$PATH:/usr/local/sbin:/usr/sbin:/sbin\n%s </dev/null 2>&1\nexit\n", strings.Join(quoted, " "))
	a, err := p.Script(ctx, b.String())
	if err == nil && a.Warning != "" && len(a.Out) == 0 {
		a.Out = []byte(a.Warning) // of the shell, which did not find it
	}
	return place.Outcome{Status: a.Status, Output: a.Out[:min(len(a.Out), place.OutputLimit)]}, err
}

// The statuses with which scripts say what a file is not.
const (
	statusNone   = 82 // there is none
	statusNoFile = 83 // it is no file
)

// act runs a script about a file, and says what its status means in the errors of package io/fs.
func (p Place) act(ctx context.Context, what, file, script string) ([]byte, error) {
	a, err := p.Script(ctx, script+"\nexit\n")
	if err != nil {
		return nil, err
	}
	fail := func(err error) ([]byte, error) {
		return nil, fmt.Errorf("host %s: %w", p.name, &fs.PathError{Op: what, Path: file, Err: err})
	}
	switch {
	case a.Status == 0:
		return a.Out, nil
	case a.Status == statusNone:
		return fail(fs.ErrNotExist)
	case a.Status == statusNoFile:
		return fail(errors.New("it is no file"))
	case strings.Contains(a.Warning, "ermission denied"):
		return fail(fmt.Errorf("%w: %s", fs.ErrPermission, cut(a.Warning)))
	}
	return fail(fmt.Errorf("status %d: %s", a.Status, cut(a.Warning)))
}

// there begins a script that ends if there is no such file. What cannot be looked at because of a
// folder on the way is said by what follows.
func there(file string) string {
	f, dir := Name(file), Name(path.Dir(file))
	return fmt.Sprintf("[ -e %s ] || [ -L %[1]s ] || { [ -d %s ] && [ ! -x %[2]s ] ; } || exit %d\n", f, dir,
		statusNone)
}

// ReadFile reads a file.
func (p Place) ReadFile(ctx context.Context, file string) ([]byte, error) {
	name := Name(file)
	out, err := p.act(ctx, "read", file, there(file)+fmt.Sprintf("[ ! -e %s ] || [ -f %[1]s ] || exit %d\nhead -c %d "+
		"-- %[1]s", name, statusNoFile, place.FileLimit+1))
	if err != nil {
		return nil, err
	}
	return place.Limited(bytes.NewReader(out), file)
}

// Glob is the names that match a pattern.
func (p Place) Glob(ctx context.Context, pattern string) ([]string, error) {
	out, err := p.act(ctx, "look for", pattern, fmt.Sprintf("export LC_ALL=C\nfor f in %s; do [ -e \"$f\" ] || [ -L "+
		"\"$f\" ] || continue; printf '%%s\\0' \"$f\"; done", globbed(pattern)))
	var list []string
	for name := range strings.SplitSeq(string(out), "\x00") {
		if name != "" {
			list = append(list, name)
		}
	}
	return list, err
}

// globbed is a pattern of package path as one of the shell's.
func globbed(pattern string) string {
	var b, plain strings.Builder
	flush := func() {
		if plain.Len() > 0 {
			b.WriteString(Quote(plain.String()))
			plain.Reset()
		}
	}
	for n := 0; n < len(pattern); n++ {
		switch c := pattern[n]; {
		case c == '\\' && n+1 < len(pattern):
			n++
			plain.WriteByte(pattern[n])
		case c == '*', c == '?':
			flush()
			b.WriteByte(c)
		case c == '[' && strings.IndexByte(pattern[n:], ']') > 0:
			flush()
			end := n + strings.IndexByte(pattern[n:], ']')
			inner := pattern[n+1 : end]
			negated, inner := strings.HasPrefix(inner, "^"), strings.TrimPrefix(inner, "^")
			b.WriteByte('[')
			if negated {
				b.WriteByte('!')
			}
			for _, r := range inner {
				if r == '-' {
					b.WriteByte('-')
				} else {
					b.WriteString(Quote(string(r)))
				}
			}
			b.WriteByte(']')
			n = end
		default:
			plain.WriteByte(c)
		}
	}
	flush()
	return b.String()
}

// info is what a file there is.
type info struct {
	name     string
	size     int64
	mode     fs.FileMode
	modified time.Time
}

func (i info) Name() string       { return i.name }
func (i info) Size() int64        { return i.size }
func (i info) Mode() fs.FileMode  { return i.mode }
func (i info) ModTime() time.Time { return i.modified }
func (i info) IsDir() bool        { return i.mode.IsDir() }
func (i info) Sys() any           { return nil }

// Stat is what a file is: its size, permissions, time and whether it is a folder.
func (p Place) Stat(ctx context.Context, file string) (fs.FileInfo, error) {
	out, err := p.act(ctx, "stat", file, there(file)+fmt.Sprintf("stat -L -c '%%s %%f %%Y' -- %s", Name(file)))
	if err != nil {
		return nil, err
	}
	words := strings.Fields(string(out))
	if len(words) != 3 {
		return nil, fmt.Errorf("host %s: stat %s says %q", p.name, file, cut(string(out)))
	}
	size, err1 := strconv.ParseInt(words[0], 10, 64)
	raw, err2 := strconv.ParseUint(words[1], 16, 32)
	at, err3 := strconv.ParseInt(words[2], 10, 64)
	const kinds, folder = 0o170000, 0o040000 // S_IFMT and S_IFDIR of stat(2)
	mode := fs.FileMode(raw) & fs.ModePerm
	if raw&kinds == folder {
		mode |= fs.ModeDir
	}
	return info{path.Base(file), size, mode, time.Unix(at, 0)}, errors.Join(err1, err2, err3)
}

// text is content on its way to a command's standard input.
func text(data []byte, to string) string {
	return fmt.Sprintf("base64 -d %s <<'.'\n%s\n.\n", to, base64.StdEncoding.EncodeToString(data))
}

// Create writes a new file. It is held open meanwhile, so that it is no failure if somebody removes it.
func (p Place) Create(ctx context.Context, begin string, mode fs.FileMode, data []byte) (string, error) {
	out, err := p.act(ctx, "create", begin, fmt.Sprintf(`umask 077
f=$(mktemp %s) && exec 9>"$f" || exit
%s[ $? = 0 ] && chmod %o /proc/self/fd/9 || { rm -f "$f"; exit 1; }
printf %%s "$f"`, Name(begin+"XXXXXXXX"), text(data, ">&9"), mode.Perm()))
	return string(out), err
}

// Overwrite gives a file that is there other content in its place.
func (p Place) Overwrite(ctx context.Context, file string, data []byte) error {
	_, err := p.act(ctx, "write", file, there(file)+text(data, ">"+Name(file)))
	return err
}

// Rename gives a file another name.
func (p Place) Rename(ctx context.Context, from, to string) error {
	_, err := p.act(ctx, "rename", from,
		there(from)+fmt.Sprintf("[ ! -d %s ] || exit %d\nmv -f -- %s %[1]s", Name(to), statusNoFile, Name(from)))
	return err
}

// Remove removes a file.
func (p Place) Remove(ctx context.Context, file string) error {
	_, err := p.act(ctx, "remove", file, there(file)+"rm -f -- "+Name(file))
	return err
}

// Sync writes files through to the disk. A sync that knows no files writes everything.
func (p Place) Sync(ctx context.Context, paths ...string) error {
	names := make([]string, len(paths))
	for n, file := range paths {
		names[n] = Name(file)
	}
	_, err := p.act(ctx, "sync", strings.Join(paths, " "),
		fmt.Sprintf("sync -- %s 2>/dev/null || sync", strings.Join(names, " ")))
	return err
}

// Family is a process with those that it has started; see [place.Machine].
func (p Place) Family(ctx context.Context, pid string) (place.Family, error) {
	out, err := p.act(ctx, "look at", "/proc/"+pid, fmt.Sprintf(`[ -d /proc/%s ] || exit %d
LC_ALL=C
grep -E '^(State|SigPnd|ShdPnd|SigBlk):' /proc/%[1]s/status
grep '^btime ' /proc/stat
list=$(cat /proc/%[1]s/task/*/children 2>/dev/null)
again=$(cat /proc/%[1]s/task/*/children 2>/dev/null)
if [ "$list" != "$again" ] || [ -z "$list" ]; then # some may be left out while others end, or there are no such lists
	list=$(for f in /proc/[0-9]*; do echo "${f#/proc/}"; done)
fi
for p in $list; do
	s=$(cat "/proc/$p/stat" 2>/dev/null) || continue
	set -- ${s##*) }
	[ "$2" = %[1]s ] && [ "$1" != Z ] || continue
	printf 'child %%s %%s %%s\n' "$p" "${20}" "$(base64 <"/proc/$p/cmdline" | tr -d '\n')"
done`, Quote(pid), statusNone))
	if err != nil {
		return place.Family{}, err
	}
	return place.ParseFamily(out)
}

// Lock takes the lock of a file, as long as a shell there holds it. It goes with the connection.
func (p Place) Lock(ctx context.Context, file string) (unlock func(), err error) {
	client, err := p.connect(ctx)
	if err != nil {
		return nil, err
	}
	h, err := p.hand(ctx, client)
	if err != nil {
		return nil, err
	}
	l := h.lock(file)
	asking := time.NewTicker(lockEvery)
	defer asking.Stop()
	for {
		select {
		case err := <-l.ended: // without having taken it
			p.back(h, err == nil)
			if err == nil {
				err = fmt.Errorf("host %s: %w", p.name, l.why(file))
			}
			return nil, err
		case <-l.taken:
			return func() {
				l.letGo()
				go func() {
					select {
					case err := <-l.ended:
						p.back(h, err == nil)
					case <-time.After(aliveLimit):
						p.back(h, false)
					}
				}()
			}, nil
		case <-asking.C:
			l.again()
		case <-ctx.Done():
			p.back(h, false)
			return nil, context.Cause(ctx)
		}
	}
}

// lockEvery is how often somebody who waits for a lock asks for it.
const lockEvery = 20 * time.Millisecond

// Follow reads what is added to a file.
func (p Place) Follow(file string) place.Added { return &followed{on: p, path: file} }

type followed struct {
	on   Place
	path string

	begun bool
	file  string // its device and inode, "" while there is none
	at    int64
}

// pieceSize is how much of a file is read in one act, at most.
const pieceSize = 256 << 10

// Next is what was added. A file that was replaced is read from its beginning; what was added
// to the one before, between the last reading and that, is not seen.
func (f *followed) Next(ctx context.Context) ([]byte, bool, error) {
	name := Name(f.path)
	out, err := f.on.act(ctx, "follow", f.path, fmt.Sprintf(`[ -e %s ] || exit 0
set -- $(stat -L -c '%%d:%%i %%s' -- %[1]s) || exit
echo "$1 $2"
at=%d
[ "$1" = '%s' ] && [ "$2" -ge "$at" ] || at=0
[ %d = 0 ] || tail -c +$((at + 1)) -- %[1]s | head -c %[5]d`, name, f.at, f.file, b2i(f.begun), pieceSize))
	if err != nil {
		return nil, false, err
	}
	head, piece, found := bytes.Cut(out, []byte("\n"))
	words := strings.Fields(string(head))
	if !found || len(words) != 2 {
		f.begun = true // when it comes, all of it is new
		return nil, false, nil
	}
	size, err := strconv.ParseInt(words[1], 10, 64)
	if err != nil {
		return nil, false, fmt.Errorf("host %s: %s: %w", f.on.name, f.path, err)
	}
	fresh := f.file != words[0] || size < f.at
	if fresh {
		f.at = 0
	}
	f.file = words[0]
	if !f.begun {
		f.begun, f.at = true, size
		return nil, false, nil
	}
	f.at += int64(len(piece))
	return piece, fresh, nil
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

// Close does nothing.
func (*followed) Close() error { return nil }

// Quote makes one word of the shell out of any text.
func Quote(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }

// Name is a file for the shell; one that is not absolute lies below the user's own folder.
func Name(file string) string {
	if strings.HasPrefix(file, "/") {
		return Quote(file)
	}
	return `"$HOME"/` + Quote(file)
}
