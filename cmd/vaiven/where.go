package main

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/situation"
	"vaiven/internal/core/split"
	"vaiven/internal/people/headless"
	"vaiven/internal/proving/prober"
	"vaiven/internal/words"
)

func whereCommand() *cobra.Command {
	var span time.Duration
	var out output
	var send prober.Sending
	cmd := &cobra.Command{
		Use:   "where PLAN|FOLDER|FLEET",
		Short: "Say where requests go now, read from the front",
		Long: `Reads the split in force and the instances from each front of the plan, counts
requests for a while, and says whether they are split as asked. Meanwhile it asks as
the plan's prober does: what a front counts is no word on a proxy that was forgotten
beside it. It changes nothing and does not disturb a screen that is open.

With --send it sends so many requests itself, by --clients in turn, and says how many each
side answered as they come: every client has a value of its own for the split key, keeps its cookies,
and its connection unless --fresh gives every request a new one.

Of a folder or a fleet it says in a line each how all its services stand, problems first. Exit
status then: 0 all right, 10 a person is waited for, 1 something is wrong or cannot be read.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			if many(args[0]) {
				if !cmd.Flags().Changed("for") {
					span = 0 // that of one counts to judge; of many it is how each stands
				}
				return whereAll(cmd, args[0], span, out)
			}
			if send.Requests > 0 {
				p, err := readPlan(args[0])
				if err != nil {
					return err
				}
				return sendTo(cmd, p, send, out)
			}
			w, err := whereOne(cmd, args[0], span)
			if err != nil && w.Keeper != nil && w.Keeper.Process > 0 && !out.json { // what that knows is no less true
				err = errors.Join(err, w.Keeper.Print(cmd.OutOrStdout()))
			}
			if err != nil {
				return err
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

// whereOne is where the requests of one plan's service go.
func whereOne(cmd *cobra.Command, file string, span time.Duration) (w headless.Where, err error) {
	p, err := readPlan(file)
	if err != nil {
		return w, err
	}
	w = headless.Where{Service: p.Service}
	w.Fronts, err = headless.CountAt(cmd.Context(), p, span)
	if r, err := reaching(cmd, p, false, true); err == nil {
		w.Keeper = headless.AtKeeper(cmd.Context(), r)
	}
	return w, err
}

// atOnce is how many services are asked at the same time: one that does not answer holds up no other.
const atOnce = 32

// placed is how one of several services stands.
type placed struct {
	file  string
	where headless.Where
	err   error
}

// gravity is how bad it is.
func (s placed) gravity() situation.Gravity {
	switch k := s.where.Keeper; {
	case s.err != nil:
		return situation.Wrong
	case k == nil:
		return situation.AllRight
	case k.Process == 0 && k.Crossing.Stage.UnderWay():
		return situation.Waits
	default:
		return k.Gravity
	}
}

// name is that of the service, or of its file where that cannot be read.
func (s placed) name() string { return cmp.Or(s.where.Service, s.file) }

// line is how it stands, after its name.
func (s placed) line() string {
	mark := map[situation.Gravity]string{situation.Wrong: "▲", situation.Waits: "◇",
		situation.AllRight: "·"}[s.gravity()]
	return fmt.Sprintf("%s %-16s %s", mark, s.name(), s.says())
}

// says is how it stands.
func (s placed) says() (text string) {
	switch k := s.where.Keeper; {
	case s.err != nil:
		text, _, _ = strings.Cut(strings.TrimPrefix(s.err.Error(), s.file+":"), "\n") // vaiven plan FILE says all of it
	case k != nil && k.Process > 0:
		text = k.Says
		if k.Next != "" && k.Gravity == situation.AllRight {
			text += "; " + k.Next
		}
	case k != nil && k.Crossing.Stage.UnderWay():
		text = fmt.Sprintf("no keeper answers: crossing %d: %s", k.Crossing.Number, words.State(k.Crossing))
	default:
		text = "no keeper runs"
		for _, f := range s.where.Fronts {
			text += fmt.Sprintf("; %v of the requests go to green", f.Split.Share)
		}
	}
	return text
}

// whereAll says how all services of a folder or a fleet stand, problems first.
func whereAll(cmd *cobra.Command, path string, span time.Duration, out output) error {
	files, err := plansAt(cmd.Context(), path)
	if err != nil {
		return err
	}
	all := make([]placed, len(files))
	var asked errgroup.Group
	asked.SetLimit(atOnce)
	for n, file := range files {
		asked.Go(func() error {
			w, err := whereOne(cmd, file, span)
			all[n] = placed{file, w, err}
			return nil
		})
	}
	_ = asked.Wait() // each has its own
	slices.SortStableFunc(all, func(a, b placed) int {
		return cmp.Or(-cmp.Compare(a.gravity(), b.gravity()), cmp.Compare(a.where.Service, b.where.Service))
	})
	names, why := map[situation.Gravity][]string{}, ""
	for _, s := range all {
		if g := s.gravity(); g > situation.AllRight {
			names[g], why = append(names[g], s.name()), s.says()
		}
	}
	w := cmd.OutOrStdout()
	if !out.json {
		_, text := words.Fleet(len(all), names[situation.Wrong], names[situation.Waits], why)
		fmt.Fprintln(w, text)
		if now := fleetNow(path); now != "" {
			fmt.Fprintln(w, now)
		}
	}
	for _, s := range all {
		if out.json && s.err != nil {
			fmt.Fprintf(cmd.ErrOrStderr(), "vaiven: %s: %v\n", s.file, s.err)
			continue
		}
		err = errors.Join(err, out.print(w, s.where.NewSide(), s.where, func(w io.Writer) error {
			_, err := fmt.Fprintln(w, s.line())
			return err
		}))
	}
	switch {
	case err != nil:
		return err
	case len(names[situation.Wrong]) > 0:
		return &exitError{status: exitOther}
	case len(names[situation.Waits]) > 0:
		return &exitError{status: exitWaits}
	}
	return nil
}
