package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"vaiven/internal/core/split"
	"vaiven/internal/people/report"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/plan/tryout"
	"vaiven/internal/words"
	"vaiven/internal/world/accesslog"
)

func splitCommand() *cobra.Command {
	var keyTexts, shareTexts []string
	var chart string
	var out output
	cmd := &cobra.Command{
		Use:   "split LOG",
		Short: "Try split keys on an access log",
		Long: `Reads an access log in the Common or Combined format, or as JSON lines, packed with
gzip or not, or from a pipe (-), and says for each key and share what would have come
of it: the share achieved, how much it differs from window to window, how many clients
are split between the sides, and how many would change sides at the next share.

Keys: random, client, client /24, cookie NAME, header NAME, clock, field NAME (of a
JSON log, or the number of a quoted text behind the Combined format).`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usage("%s takes one log: %s", cmd.CommandPath(), cmd.UseLine())
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			var keys []tryout.Key
			for _, text := range keyTexts {
				k, err := tryout.ParseKey(text)
				if err != nil {
					return usage("--key: %w", err)
				}
				keys = append(keys, k)
			}
			var shares []split.Share
			for _, text := range shareTexts {
				sided, err := split.ParseSided(text)
				var s split.Share
				if err == nil {
					s, err = sided.OnGreen(split.Green, true)
				}
				if err != nil {
					return usage("--share: %w", err)
				}
				shares = append(shares, s)
			}
			log, err := accesslog.Open(args[0], cmd.InOrStdin())
			switch {
			case errors.Is(err, os.ErrNotExist):
				return usage("there is no log %s", args[0])
			case err != nil:
				return err
			}
			defer log.Close()
			r, err := tryout.Read(cmd.Context(), args[0], log, keys, shares)
			if err != nil {
				return err
			}
			if chart != "" {
				if err := report.Split(chart, r, shares[0]); err != nil {
					return err
				}
			}
			return out.print(cmd.OutOrStdout(), split.Green, r,
				func(w io.Writer) error { return printTryout(w, r) })
		},
	}
	cmd.Flags().StringArrayVar(&keyTexts, "key", tryout.Usual, "a key to try; may be given several times")
	cmd.Flags().StringArrayVar(&shareTexts, "share", []string{"5", "25", "50"},
		"a share on green; may be given several times")
	cmd.Flags().StringVar(&chart, "chart", "", "draw the first share's windows into a file, .svg or .pdf")
	out.flag(cmd)
	return cmd
}

func printTryout(w io.Writer, r tryout.Report) error {
	if len(r.Keys) == 0 || r.Lines == 0 {
		_, err := fmt.Fprintf(w, "%s: no requests\n", r.Log)
		return err
	}
	first := r.Keys[0]
	fmt.Fprintf(w, "%s: %s requests in %s, windows of %s", r.Log, words.Thousands(r.Lines), words.Age(first.Span),
		words.Age(first.Window))
	if r.Unread > 0 {
		fmt.Fprintf(w, "; %s lines are none", words.Thousands(r.Unread))
	}
	fmt.Fprintf(w, "\n\n%-16s %7s  %8s  %-17s %10s  %17s  %-10s\n", "key", "share", "on green", "spread (chance)",
		"split", "change at next", "even after")
	for _, k := range r.Keys {
		name := k.Key
		for _, s := range k.Shares {
			even := "never"
			if s.Even >= 0 {
				even = words.Age(s.Even)
			}
			bursts := ""
			if s.Bursts > 0 {
				bursts = "  in bursts of " + words.Age(s.Bursts)
			}
			fmt.Fprintf(w, "%-16s %7v  %6.2f %%  %-17s %10s  %17s  %-10s %s%s\n", name, s.Share, 100*s.Achieved,
				fmt.Sprintf("%.2f (%.2f) pts", 100*s.Spread, 100*s.Chance), frame.About(s.Split, s.SplitError),
				frame.About(s.Change, s.ChangeError), even, sparkline(s.Windows, 24), bursts)
			name = ""
		}
		about := fmt.Sprintf("  of %s clients", words.Thousands(k.Clients))
		if k.Error > 0 {
			about += fmt.Sprintf(" ±%s by sampling", words.Thousands(int64(k.Error)))
		}
		if k.Astray > 0 {
			about += fmt.Sprintf("; %s requests at times far from all others count for nothing",
				words.Thousands(k.Astray))
		}
		if k.Missing > 0 {
			about += fmt.Sprintf("; %s requests lack it and go by their client", words.Thousands(k.Missing))
		}
		fmt.Fprintln(w, about)
	}
	return nil
}

// sparkline draws fractions as blocks, joined to a width.
func sparkline(values []float64, width int) string {
	return strings.TrimRight(frame.Sparks(values, width), " ")
}
