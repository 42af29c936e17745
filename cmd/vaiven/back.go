package main

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/front/all"
	"vaiven/internal/headless"
	"vaiven/internal/keeper"
	"vaiven/internal/logbook"
)

func backCommand() *cobra.Command {
	var o headless.BackOptions
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "back PLAN",
		Short: "Take all traffic home, now",
		Long: `Rolls back by itself, without screen or keeper: it tells the front and nobody
else, and writes it down afterwards. A screen that is open notices. With --to it
does not even need the logbook.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := readPlan(args[0])
			if err != nil {
				return err
			}
			if o.To != "" && o.To != "blue" && o.To != "green" {
				return usage("--to takes blue or green, not %q", o.To)
			}
			ctx, cancel := context.WithTimeout(cmd.Context(), 30*time.Second)
			defer cancel()
			o.By = who()
			f := all.Open(p)
			var r headless.Returned
			if o.To != "" {
				r, err = headless.Back(ctx, f, nil, o) // before anything else is even opened
			}
			var book keeper.Book
			b, errBook := logbook.Open(p.Logbook())
			if errBook == nil {
				defer b.Close()
				book = b
			}
			if o.To == "" {
				r, err = headless.Back(ctx, f, book, o)
			}
			if err != nil {
				return err
			}
			r.Notes = note(p.Lock(), func() error {
				if errBook != nil {
					return errBook
				}
				return headless.Record(ctx, book, r, o)
			})
			if asJSON {
				return printJSON(cmd.OutOrStdout(), r)
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "all requests go to %v (%v on green), in %.1f ms\n", r.To, r.Share, r.Took)
			for _, n := range r.Notes {
				_, errNote := fmt.Fprintln(cmd.ErrOrStderr(), "vaiven:", n)
				err = errors.Join(err, errNote)
			}
			return err
		},
	}
	cmd.Flags().StringVar(&o.To, "to", "", "the side to send everything to: blue or green (default: where the crossing came from)")
	cmd.Flags().StringVar(&o.Why, "why", "", "what to write into the logbook")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

// note records unless a keeper is there to do it, and returns what went wrong as
// notes: the deed is done.
func note(lockFile string, record func() error) []string {
	unlock, err := lock(lockFile)
	if err != nil {
		return []string{"a keeper is at work: it notices and writes it down"}
	}
	if err := errors.Join(record(), unlock()); err != nil {
		return []string{fmt.Sprintf("it is not in the logbook: %v", err)}
	}
	return nil
}
