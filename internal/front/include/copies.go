package include

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"vaiven/internal/front"
	"vaiven/internal/world/place"
)

// copies are copies of the files of a configuration in which some are other than those in place: of these, and of
// all that include them. They stand beside the files, under names that patterns do not match.
type copies struct {
	on     place.Machine
	server Server
	files  []string // of the configuration, the main one first
	base   string   // that relative names begin at
	label  string   // in the copies' names, so that others can test the same configuration
	// the file that is to be read in the place of one that is in place or will be
	instead map[string]string
	// the text of one that is to be changed
	texts map[string][]byte

	made []place.Candidate
	path []string // of the files that are being copied
}

// of is the name of the file to be read in the place of one, which is itself where nothing changes.
func (c *copies) of(ctx context.Context, file string) (string, error) {
	if name, done := c.instead[file]; done {
		return name, nil
	}
	if slices.Contains(c.path, file) {
		return "", fmt.Errorf("%s includes itself", file)
	}
	text, changes := c.texts[file]
	if !changes {
		var err error
		if text, err = c.on.ReadFile(ctx, file); err != nil {
			return "", err
		}
	}
	c.path = append(c.path, file)
	defer func() { c.path = c.path[:len(c.path)-1] }()
	var failed error
	var filled []byte
	for line := range bytes.Lines(text) {
		code, _, _ := bytes.Cut(line, []byte("#"))
		comment := line[len(code):]
		code = c.server.Directive().ReplaceAllFunc(code, func(directive []byte) []byte {
			next, other, err := c.directive(ctx, directive)
			if err != nil {
				failed = err
			}
			if !other {
				return directive
			}
			changes = true
			return next
		})
		filled = append(append(filled, code...), comment...)
	}
	if failed != nil {
		return "", failed
	}
	text = filled
	if !changes {
		c.instead[file] = file
		return file, nil
	}
	slot := place.Slot{On: c.on, Path: filepath.Join(filepath.Dir(file), filepath.Base(file)+".check-"+c.label),
		Mode: 0o644}
	_ = slot.Sweep(ctx) // what a process left that was ended in the middle
	made, err := slot.Candidate(ctx, text)
	if err != nil {
		return "", fmt.Errorf("a copy of %s to test the change in cannot be written, nothing was changed: %w", file, err)
	}
	c.made = append(c.made, made)
	c.instead[file] = made.Name()
	return made.Name(), nil
}

// directive includes files, with copies in the place of some, if any of them is another one.
func (c *copies) directive(ctx context.Context, text []byte) (next []byte, other bool, err error) {
	m := c.server.Directive().FindSubmatch(text)
	pattern := strings.Trim(string(m[len(m)-1]), `"'`)
	if !filepath.IsAbs(pattern) {
		pattern = filepath.Join(c.base, pattern)
	}
	var names []string
	for _, file := range slices.Concat(c.files, slices.Collect(maps.Keys(c.instead))) { // ours will be there
		if ok, _ := filepath.Match(pattern, file); (ok || file == pattern) && !slices.Contains(names, file) {
			names = append(names, file)
		}
	}
	var b strings.Builder
	b.Write(m[1]) // before it
	whole := slices.Clone(names)
	if strings.ContainsAny(pattern, "*?[") && len(names) > 0 { // and those that were not listed
		there, _ := c.on.Glob(ctx, pattern)
		for _, name := range there {
			if !slices.Contains(whole, name) && !strings.HasPrefix(filepath.Base(name), ".") {
				whole = append(whole, name)
			}
		}
		slices.Sort(whole)
	}
	for _, name := range whole {
		copied := name
		if slices.Contains(names, name) {
			if copied, err = c.of(ctx, name); err != nil {
				return nil, false, err
			}
		}
		other = other || copied != name
		b.WriteString(c.server.Include(copied))
	}
	return []byte(b.String()), other, nil
}

// discard removes what was made.
func (c *copies) discard(ctx context.Context) {
	for _, made := range c.made {
		made.Discard(ctx)
	}
}

// Try has a server test its configuration with some of its files changed, and with ours, which may not be there yet.
// Nothing that is in place is touched.
func (f File) Try(ctx context.Context, edited []front.Edited, ours []byte) error {
	ctx, cancel := context.WithTimeout(ctx, checkLimit)
	defer cancel()
	files, base, err := f.Server.Files(ctx)
	if err != nil {
		return err
	}
	main := files[0]
	beside := place.Slot{On: f.On, Path: filepath.Join(filepath.Dir(main), filepath.Base(f.Path)+".try"), Mode: 0o644}
	_ = beside.Sweep(ctx)
	own, err := beside.Candidate(ctx, ours)
	if err != nil {
		return fmt.Errorf("a file to test the change with cannot be written beside %s: %w", main, err)
	}
	defer own.Discard(ctx)
	c := copies{on: f.On, server: f.Server, files: files, base: base, label: filepath.Base(f.Path),
		instead: map[string]string{f.Path: own.Name()}, texts: map[string][]byte{}}
	defer c.discard(ctx)
	for _, e := range edited {
		c.texts[e.Name] = e.Now
	}
	copied, err := c.of(ctx, main)
	if err != nil {
		return err
	}
	return f.Server.Check(ctx, copied)
}
