package main

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"runtime/debug"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// manCommand writes the manual pages.
func manCommand() *cobra.Command {
	return &cobra.Command{
		Use:    "man FOLDER",
		Short:  "Write the manual pages into a folder",
		Hidden: true,
		Args:   cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return err
			}
			pages := 0
			var write func(c *cobra.Command) error
			write = func(c *cobra.Command) error {
				pages++
				if err := os.WriteFile(filepath.Join(args[0], pageOf(c)+".1"), []byte(manPage(c, dated())),
					0o644); err != nil {
					return fmt.Errorf("write the manual pages: %w", err)
				}
				for _, child := range children(c) {
					if err := write(child); err != nil {
						return err
					}
				}
				return nil
			}
			if err := write(cmd.Root()); err != nil {
				return err
			}
			_, err := fmt.Fprintf(cmd.OutOrStdout(), "%d pages in %s\n", pages, args[0])
			return err
		},
	}
}

// children are a command's own that people see.
func children(c *cobra.Command) (list []*cobra.Command) {
	for _, child := range c.Commands() {
		if child.IsAvailableCommand() && child.Name() != "help" {
			list = append(list, child)
		}
	}
	return list
}

// dated is when this Vaiven was made, as far as it says that.
func dated() time.Time {
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			if at, err := time.Parse(time.RFC3339, s.Value); s.Key == "vcs.time" && err == nil {
				return at
			}
		}
	}
	return time.Now()
}

// pageOf is the name of a command's page.
func pageOf(c *cobra.Command) string { return strings.ReplaceAll(c.CommandPath(), " ", "-") }

// manPage is a command's page in the language mdoc, which mandoc and groff read.
func manPage(c *cobra.Command, at time.Time) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line(".Dd %s", at.Format("January 2, 2006"))
	line(".Dt %s 1", strings.ToUpper(pageOf(c)))
	line(".Os")
	line(".Sh NAME")
	line(".Nm %s", pageOf(c))
	line(".Nd %s", roff(lowered(c.Short)))
	line(".Sh SYNOPSIS")
	line(".Nm %s", c.CommandPath())
	for _, word := range strings.Fields(strings.TrimPrefix(c.UseLine(), c.CommandPath())) {
		switch optional := strings.Trim(word, "[]"); {
		case optional == "flags":
			line(".Op Ar options")
		case optional != word:
			line(".Op Ar %s", roff(optional))
		default:
			line(".Ar %s", roff(word))
		}
	}
	line(".Sh DESCRIPTION")
	paragraphs(&b, described(c))
	if list := children(c); len(list) > 0 {
		line(".Pp")
		line("The commands are:")
		line(".Bl -tag -width Ds")
		for _, child := range list {
			line(".It Xr %s 1", pageOf(child))
			paragraphs(&b, child.Short+".")
		}
		line(".El")
	}
	options(&b, c)
	if c.Example != "" {
		line(".Sh EXAMPLES")
		line(".Bd -literal -offset indent")
		for text := range strings.Lines(c.Example) {
			line("%s", roff(strings.TrimSpace(text)))
		}
		line(".Ed")
	}
	if c.HasParent() {
		line(".Sh SEE ALSO")
		line(".Xr %s 1", pageOf(c.Parent()))
	}
	return b.String()
}

// described is what a command does, at length where it says that.
func described(c *cobra.Command) string {
	if c.Long != "" {
		return c.Long
	}
	return c.Short + "."
}

// lowered is a text without the capital that it begins with.
func lowered(text string) string { return strings.ToLower(text[:1]) + text[1:] }

// options writes a command's own flags as they are typed, with what they take and what they are otherwise.
func options(b *strings.Builder, c *cobra.Command) {
	begun := false
	c.LocalFlags().VisitAll(func(f *pflag.Flag) {
		if f.Hidden || f.Name == "help" {
			return
		}
		if !begun {
			b.WriteString(".Sh OPTIONS\n.Bl -tag -width Ds\n")
			begun = true
		}
		takes, says := pflag.UnquoteUsage(f)
		fmt.Fprintf(b, ".It Fl Fl %s", f.Name)
		if takes != "" {
			fmt.Fprintf(b, " Ar %s", takes)
		}
		b.WriteByte('\n')
		if set := f.DefValue; set != "" && set != "false" && set != "[]" && set != "0" && !strings.Contains(says,
			"default") {
			says += " (default " + set + ")"
		}
		paragraphs(b, says+".")
	})
	if begun {
		b.WriteString(".El\n")
	}
}

// sentenceEnd is where a sentence ends and another one begins: mdoc wants each on a line of its own.
var sentenceEnd = regexp.MustCompile(`([A-Za-z0-9)"%][.!?]) +([A-Za-z"-])`)

// paragraphs writes a text: each sentence begins a line, and no line is long. What is indented stays as it is.
func paragraphs(b *strings.Builder, text string) {
	for n, block := range strings.Split(strings.TrimSpace(text), "\n\n") {
		literal := strings.HasPrefix(block, " ") || strings.HasPrefix(block, "\t")
		if n > 0 && !literal {
			b.WriteString(".Pp\n")
		}
		if literal {
			b.WriteString(".Bd -literal -offset indent\n")
			for line := range strings.Lines(block) {
				b.WriteString(roff(strings.TrimSpace(line)) + "\n")
			}
			b.WriteString(".Ed\n")
			continue
		}
		flowing := strings.Join(strings.Fields(block), " ")
		for sentence := range strings.SplitSeq(sentenceEnd.ReplaceAllString(flowing, "$1\n$2"), "\n") {
			line := ""
			for word := range strings.FieldsSeq(sentence) {
				if len(line)+len(word) > 72 {
					b.WriteString(roff(line) + "\n")
					line = ""
				}
				line = strings.TrimPrefix(line+" "+word, " ")
			}
			b.WriteString(roff(line) + "\n")
		}
	}
}

// roff is a line as roff prints it.
func roff(line string) string {
	line = strings.NewReplacer(`\`, `\e`, "…", "...", "–", `\(en`, "→", `\(->`, "×", `\(mu`).Replace(line)
	line = strings.ReplaceAll(line, "--", `\-\-`)
	if strings.HasPrefix(line, ".") || strings.HasPrefix(line, "'") {
		line = `\&` + line
	}
	return line
}
