package main

import (
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/people/headless"
	"vaiven/internal/proving/prober"
)

func whereCommand() *cobra.Command {
	var span time.Duration
	var out output
	var send prober.Sending
	cmd := &cobra.Command{
		Use:   "where PLAN",
		Short: "Say where requests go now, read from the front",
		Long: `Reads the split in force and the instances from each front of the plan, counts
requests for a while, and says whether they are split as asked. Meanwhile it asks as
the plan's prober does: what a front counts is no word on a proxy that was forgotten
beside it. It changes nothing and does not disturb a screen that is open.

With --send it sends so many requests itself, by --clients in turn, and says how many each
side answered as they come: every client has a value of its own for the split key, keeps its cookies,
and its connection unless --fresh gives every request a new one.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := readPlan(args[0])
			if err != nil {
				return err
			}
			if send.Requests > 0 {
				return sendTo(cmd, p, send, out)
			}
			fronts, err := headless.CountAt(cmd.Context(), p, span)
			if err != nil {
				return err
			}
			w := headless.Where{Service: p.Service, Fronts: fronts}
			if r, err := reaching(cmd, p, false, true); err == nil {
				w.Keeper = headless.AtKeeper(cmd.Context(), r)
			}
			return out.print(cmd.OutOrStdout(), w.NewSide(), w, w.Print)
		},
	}
	cmd.Flags().DurationVar(&span, "for", 3*time.Second, "how long to count requests; 0s counts none")
	cmd.Flags().IntVar(&send.Requests, "send", 0, "send so many requests, in place of counting those of others")
	cmd.Flags().DurationVar(&send.Per, "per", 20*time.Millisecond, "with --send: the time between two")
	cmd.Flags().IntVar(&send.Clients, "clients", 1, "with --send: how many send them in turn")
	cmd.Flags().BoolVar(&send.Fresh, "fresh", false, "with --send: a new connection for every request")
	out.flag(cmd)
	return cmd
}

// sendTo sends requests at the fronts, and says what comes of them: each second on a terminal, and at the end.
func sendTo(cmd *cobra.Command, p *plan.Plan, s prober.Sending, out output) error {
	if s.Per < 0 || s.Clients < 1 {
		return usage("--per is a time and --clients at least 1")
	}
	ctx := cmd.Context()
	asker, r, err := headless.NewAsker(ctx, p)
	if err != nil {
		return err
	}
	sent := make(chan struct{})
	go func() {
		defer close(sent)
		asker.Send(ctx, s)
	}()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for under := true; under; {
		select {
		case <-sent:
			under = false
		case <-tick.C:
			if w := cmd.ErrOrStderr(); !out.json && onTerminal(w) {
				fmt.Fprintf(w, "\r\x1b[K%s",
					headless.SentNow(p, r.Split.Share, asker.Report(time.Now())).Line(s.Requests))
			}
		}
	}
	if !out.json && onTerminal(cmd.ErrOrStderr()) {
		fmt.Fprint(cmd.ErrOrStderr(), "\r\x1b[K")
	}
	done := headless.SentNow(p, r.Split.Share, asker.Report(time.Now()))
	err = out.print(cmd.OutOrStdout(), split.Green, done, func(w io.Writer) error {
		_, err := fmt.Fprintln(w, done.Line(s.Requests))
		return err
	})
	if err = errors.Join(err, ctx.Err()); err == nil && done.Lost >= int64(s.Requests) {
		err = fmt.Errorf("no instance has answered any of the %d requests", s.Requests)
	}
	return err
}
