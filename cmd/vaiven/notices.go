package main

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/notice"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/plan/planfile"
	"vaiven/internal/world/peer"
	"vaiven/internal/world/post"
	"vaiven/internal/world/secret"
)

// told is who is told of what, and what came of trying it.
type told struct {
	To    string       `json:"to"`
	Way   plan.Way     `json:"way"`
	As    string       `json:"as,omitempty"`
	About []plan.About `json:"about"`
	Limit string       `json:"limit,omitempty"`
	After string       `json:"after,omitempty"` // told only when a question has waited for so long
	Took  float64      `json:"took_ms,omitempty"`
	Error string       `json:"error,omitempty"`
}

// noticesJSON is whom a plan tells what.
type noticesJSON struct {
	Receivers []told `json:"receivers"`
}

// toldBy are the receivers of a plan's rules.
func toldBy(p *plan.Plan) (list []told, to []plan.Receiver) {
	for _, rule := range p.Notices.Rules {
		about := rule.About
		if len(about) == 0 {
			about = plan.AboutUsually
		}
		limit := ""
		if rule.Most > 0 {
			limit = fmt.Sprintf("%d in %s", rule.Most, route.Short(rule.In))
		}
		for _, r := range rule.To {
			list = append(list, told{To: r.String(), Way: r.Way, As: r.As, About: about, Limit: limit})
			to = append(to, r)
		}
		for _, r := range rule.Also {
			list, to = append(list, told{To: r.String(), Way: r.Way, As: r.As, About: []plan.About{plan.AboutAsks},
				After: route.Short(rule.After)}), append(to, r)
		}
	}
	return list, to
}

func noticesCommand() *cobra.Command {
	var try bool
	var out output
	cmd := &cobra.Command{
		Use:   "notices PLAN",
		Short: "Say who is told what, and try whether that reaches them",
		Long: `Lists whom the plan tells what, by mail, webhook or command. --try sends each of them a notice
that says it is a trial, from this machine and with the plan's secrets. What was delivered of
a crossing, and what not, stands in the logbook: vaiven log PLAN. Exit status: 0 all were
reached, 4 somebody was not, or the plan has no notices, 2 bad usage, 1 anything else.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := planfile.Read(args[0])
			if err != nil {
				return err
			}
			if !p.Notices.On() {
				return &exitError{exitCalledOff, fmt.Errorf("%s has no notices: docs/notices.md says how to tell people",
					args[0])}
			}
			list, to := toldBy(p)
			failed := 0
			if try {
				if failed, err = tryNotices(cmd.Context(), p, list, to); err != nil {
					return err
				}
			}
			err = out.print(cmd.OutOrStdout(), split.Green, noticesJSON{list},
				func(w io.Writer) error { return printTold(w, list, try) })
			if err == nil && failed > 0 {
				err = &exitError{exitCalledOff, fmt.Errorf("%d of %d were not reached", failed, len(list))}
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&try, "try", false, "send each of them a notice that says it is a trial")
	out.flag(cmd)
	return cmd
}

// tryNotices sends a trial to each receiver, once to each.
func tryNotices(ctx context.Context, p *plan.Plan, list []told, to []plan.Receiver) (failed int, err error) {
	secrets, err := secret.Read(p.Secrets)
	if err != nil {
		return 0, err
	}
	by := post.Post{Mail: p.Notices.Mail, Secrets: secrets}
	now := time.Now()
	for n, r := range to {
		if at := slices.IndexFunc(to[:n], func(o plan.Receiver) bool { return o.Who() == r.Who() }); at >= 0 {
			list[n].Took, list[n].Error = list[at].Took, list[at].Error
			continue
		}
		m := notice.Message{ID: fmt.Sprintf("%s-trial-%d-%d", p.Service, now.UnixNano(), n), About: "trial",
			Service: p.Service, At: now, Host: peer.Host(), Plan: p.File,
			Subject:  p.Service + ": a trial, nothing has happened",
			Happened: []string{"This is a trial: somebody tries whether notices reach you."},
			Users:    "Nothing has changed.", Stands: "You are told of: " + joined(list[n].About) + "."}
		limited, cancel := context.WithTimeout(ctx, 20*time.Second)
		began := time.Now()
		err := by.Send(limited, r, m)
		cancel()
		if list[n].Took = float64(time.Since(began).Microseconds()) / 1000; err != nil {
			list[n].Error = err.Error()
			failed++
		}
	}
	return failed, ctx.Err()
}

func joined(list []plan.About) string {
	var words []string
	for _, a := range list {
		words = append(words, string(a))
	}
	return strings.Join(words, ", ")
}

func printTold(w io.Writer, list []told, tried bool) error {
	for _, t := range list {
		line := fmt.Sprintf("%-8s %s", t.Way, t.To)
		if t.As != "" {
			line += " as " + t.As
		}
		about := joined(t.About)
		if slices.Equal(t.About, plan.AboutUsually) {
			about = "everything"
		}
		line += ": " + about
		if t.Limit != "" {
			line += ", at most " + t.Limit + " of one kind"
		}
		if t.After != "" {
			line += " that wait for " + t.After
		}
		switch {
		case t.Error != "":
			line += "\n         not reached: " + t.Error
		case tried:
			line += fmt.Sprintf("\n         reached, in %.0f ms", t.Took)
		}
		if _, err := fmt.Fprintln(w, line); err != nil {
			return err
		}
	}
	return nil
}
