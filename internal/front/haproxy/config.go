package haproxy

import (
	"context"
	"path/filepath"
	"slices"
	"strings"

	"vaiven/internal/front"
	"vaiven/internal/world/place"
)

// block is one block of a configuration: "backend sailings" with its lines.
type block struct {
	kind, name string
	from       string // the defaults that it names; "" for those before it
	lines      []line
	file       string
	begin, end int // bytes: behind its first line, and behind its last that says something
}

// line is one line of a block, as its words, and where it stands in the file: from its first byte to behind its end.
type line struct {
	words    []string
	from, to int
}

// configuration is what a running HAProxy was started with, as the files are now.
type configuration struct {
	files  []string // in their order
	folder string   // that relative names begin at
	texts  map[string]string
	blocks []block
}

// blocks reads a file. Words are as HAProxy has them, but for what quotes and backslashes mean.
func blocks(file, text string) []block {
	var list []block
	at := 0
	for whole := range strings.Lines(text) {
		from := at
		at += len(whole)
		words := strings.Fields(whole)
		if n := slices.IndexFunc(words, func(w string) bool { return strings.HasPrefix(w, "#") }); n >= 0 {
			words = words[:n]
		}
		if len(words) == 0 {
			continue
		}
		switch words[0] {
		case "global", "defaults", "frontend", "backend", "listen", "userlist", "peers", "resolvers", "cache",
			"program", "mailers", "ring", "http-errors", "fcgi-app":
			b := block{kind: words[0], file: file, begin: at, end: at}
			if len(words) > 1 {
				b.name = words[1]
			}
			if n := slices.Index(words, "from"); n > 0 && n+1 < len(words) {
				b.from = words[n+1]
			}
			list = append(list, b)
		default:
			if n := len(list); n > 0 {
				list[n-1].lines = append(list[n-1].lines, line{words, from, at})
				list[n-1].end = at
			}
		}
	}
	return list
}

// find is the first line of some blocks that begins with some words; nil if there is none.
func find(list []block, begin ...string) []string {
	for _, b := range list {
		for _, l := range b.lines {
			if len(l.words) >= len(begin) && slices.Equal(l.words[:len(begin)], begin) {
				return l.words
			}
		}
	}
	return nil
}

// of are the blocks of a kind.
func (c configuration) of(kind string) []block {
	return slices.Collect(func(yield func(block) bool) {
		for _, b := range c.blocks {
			if b.kind == kind && !yield(b) {
				return
			}
		}
	})
}

// with is a block and the defaults that hold for it: those before it, or those that it names.
func (c configuration) with(b block) []block {
	var general []block
	before := true
	for _, other := range c.blocks {
		if other.kind == "defaults" && (b.from == "" && before || b.from != "" && other.name == b.from) {
			general = []block{other}
		}
		before = before && (other.file != b.file || other.begin != b.begin)
	}
	return append([]block{b}, general...)
}

// at is where a line stands, in words.
func (c configuration) at(b block, l line) string {
	return front.Position(b.file, c.texts[b.file], l.from)
}

// running is the configuration of a running HAProxy, as the files that it was started with are now.
func running(ctx context.Context, on place.Machine, pid string) (configuration, error) {
	c := configuration{texts: map[string]string{}}
	words, folder, err := front.Cmdline(ctx, on, pid)
	if err != nil {
		return c, err
	}
	c.folder = folder
	for n := 1; n < len(words); n++ {
		if words[n-1] != "-f" {
			continue
		}
		name := words[n]
		if !filepath.IsAbs(name) {
			name = filepath.Join(folder, name)
		}
		files := []string{name}
		if info, err := on.Stat(ctx, name); err == nil && info.IsDir() { // those in it that end so, by their names
			if files, err = on.Glob(ctx, filepath.Join(name, "*.cfg")); err != nil {
				return c, err
			}
			slices.Sort(files)
		}
		for _, file := range files {
			data, err := on.ReadFile(ctx, file)
			if err != nil {
				return c, err
			}
			c.files, c.texts[file] = append(c.files, file), string(data)
			c.blocks = append(c.blocks, blocks(file, string(data))...)
		}
	}
	return c, nil
}
