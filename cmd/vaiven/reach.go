package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/front/all"
	"vaiven/internal/keeper/api"
	"vaiven/internal/keeper/remote"
	"vaiven/internal/keeper/service"
	"vaiven/internal/people/headless"
)

// kept is a plan's keeper as commands use it.
type kept struct {
	*api.Client
	Info  api.Info
	Plan  string // as commands name it
	close func() error
	// the generation of the front's order when the command began; nil if it could not be read from here
	asOf func() *uint64
}

// orderLimit bounds reading it.
const orderLimit = 2 * time.Second

// orderOf begins to read the generation of the order of going home that a plan's front has, as a command begins: who
// goes home after that has overtaken it.
func orderOf(ctx context.Context, p *plan.Plan) func() *uint64 {
	found := make(chan *uint64, 1)
	go func() {
		limited, cancel := context.WithTimeout(ctx, orderLimit)
		defer cancel()
		r, err := all.Open(p).Read(limited)
		if err != nil {
			found <- nil
			return
		}
		found <- &r.Order.Generation
	}()
	return sync.OnceValue(func() *uint64 { return <-found })
}

// Close ends the connection; the keeper goes on.
func (k *kept) Close() error { return k.close() }

// reachFlags are the flags of all commands that steer.
type reachFlags struct {
	takeWheel bool
	why       string
}

func (f *reachFlags) add(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&f.takeWheel, "take-wheel", false, "also if somebody else has the wheel, who is told")
	cmd.Flags().StringVar(&f.why, "why", "", "what to write into the logbook")
}

// reach connects to the keeper of a plan here or on another machine, on behalf of who is at the
// keyboard, and starts one if none runs and start says so. alone says that it is for one command.
func reach(cmd *cobra.Command, file string, start, alone bool) (*kept, error) {
	if at, ok := remote.Parse(file); ok {
		return reachThere(cmd, at, start, alone)
	}
	p, err := readPlan(file)
	if err != nil {
		return nil, err
	}
	order := orderOf(cmd.Context(), p)
	r, err := reaching(cmd, p, start, alone)
	if err != nil {
		return nil, err
	}
	reached, err := r.Open(cmd.Context())
	if err != nil {
		return nil, err
	}
	return &kept{reached.Client, reached.Info, p.File, reached.Close, order}, nil
}

// reaching is how a plan's keeper on this machine is reached.
func reaching(cmd *cobra.Command, p *plan.Plan, start, alone bool) (service.Reach, error) {
	r := service.Reach{
		Plan: p, Digest: p.Digest, Client: api.Config{By: who(), From: from(), Alone: alone},
		Note: func(text string) { fmt.Fprintln(cmd.ErrOrStderr(), "vaiven:", text) },
	}
	r.Client.Home = func(ctx context.Context, back crossing.Back, why string) error {
		return homeAlone(ctx, p, headless.BackOptions{By: who(), Why: why, Force: back.Force})
	}
	if start {
		program, err := os.Executable()
		if err != nil {
			return r, err
		}
		r.Start = []string{program, "keep", "--beside", p.File}
		if level := cmd.Flags().Lookup("log"); level != nil && level.Changed {
			r.Start = append(r.Start, "--log", level.Value.String())
		}
	}
	return r, nil
}

// homeAlone goes home without a keeper, to where the logbook says that home is.
func homeAlone(ctx context.Context, p *plan.Plan, o headless.BackOptions) error {
	var err error
	if o.To, err = home(ctx, p, ""); err != nil {
		return err
	}
	_, err = headless.Back(ctx, all.Open(p), o, func(error) {})
	return err
}

// reachThere connects to a keeper on another machine.
func reachThere(cmd *cobra.Command, at remote.Address, start, alone bool) (*kept, error) {
	m, err := remote.Connect(cmd.Context(), at)
	if err != nil {
		return nil, err
	}
	ask := func(ctx context.Context) error {
		w, err := m.Reach(ctx, start)
		if err != nil {
			return err
		}
		for _, note := range w.Notes {
			fmt.Fprintf(cmd.ErrOrStderr(), "vaiven: at %s: %s\n", at.Login, note)
		}
		switch {
		case w.Error != "" && w.Status == exitCalledOff && !start:
			return service.ErrNoKeeper
		case w.Error != "":
			return &exitError{w.Status, fmt.Errorf("at %s: %s", at.Login, w.Error)}
		}
		return nil
	}
	if err := ask(cmd.Context()); err != nil {
		return nil, errors.Join(err, m.Close())
	}
	c := api.Config{By: who(), From: from(), Alone: alone, Dial: m.Dial}
	if start {
		c.Revive = ask
	}
	c.Home = func(ctx context.Context, back crossing.Back, why string) error {
		args := []string{"back", at.Plan, "--why", why}
		if back.Force {
			args = append(args, "--force")
		}
		var said strings.Builder
		status, err := m.Run(ctx, args, nil, &said, &said)
		if err == nil && status != exitDone {
			err = fmt.Errorf("at %s: %s", at.Login, strings.TrimSpace(said.String()))
		}
		return err
	}
	client := api.Dial(c)
	info, err := client.Info(cmd.Context())
	if err != nil {
		return nil, errors.Join(err, client.Close(), m.Close())
	}
	return &kept{client, info, at.String(), func() error { return errors.Join(client.Close(), m.Close()) },
		func() *uint64 { return nil }}, nil
}

// reachCommand says where a plan's keeper is, to the vaiven of another machine.
func reachCommand() *cobra.Command {
	var start bool
	var out output
	cmd := &cobra.Command{
		Use:    "reach PLAN",
		Short:  "Say where a plan's keeper listens",
		Hidden: true,
		Args:   onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := reachable(cmd, args[0], start)
			if err != nil {
				w.Error, w.Status = err.Error(), statusOf(noKeeper(err))
			}
			return json.NewEncoder(cmd.OutOrStdout()).Encode(w)
		},
	}
	cmd.Flags().BoolVar(&start, strings.TrimPrefix(remote.Start, "--"), false, "start one if none runs")
	out.flag(cmd)
	return cmd
}

// socketMost is how long the name of a socket may be: SSH forwards it by its name.
const socketMost = 107

func reachable(cmd *cobra.Command, file string, start bool) (remote.Where, error) {
	var w remote.Where
	p, err := readPlan(file)
	if err != nil {
		return w, err
	}
	r, err := reaching(cmd, p, start, true)
	if err != nil {
		return w, err
	}
	r.Note = func(text string) { w.Notes = append(w.Notes, text) }
	reached, err := r.Open(cmd.Context())
	if err != nil {
		return w, err
	}
	w.Service, w.Socket = p.Service, p.KeeperSocket()
	if len(w.Socket) > socketMost {
		return w, errors.Join(fmt.Errorf("the name of the keeper's socket, %s, is too long to be forwarded: name a "+
			"state folder with a shorter path in the plan", w.Socket), reached.Close())
	}
	return w, reached.Close()
}

// there runs a command on the machine that its plan is on, if that is another one, in place of
// what it does here.
func there(cmd *cobra.Command) *cobra.Command {
	here, check := cmd.RunE, cmd.Args
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		at, ok := remote.Parse(first(args))
		if !ok {
			return here(cmd, args)
		}
		if err := check(cmd, args); err != nil {
			return err
		}
		m, err := remote.Connect(cmd.Context(), at)
		if err != nil {
			return err
		}
		defer m.Close()
		words := []string{cmd.Name()}
		cmd.Flags().Visit(func(f *pflag.Flag) { words = append(words, "--"+f.Name+"="+f.Value.String()) })
		words = append(append(words, "--", at.Plan), args[1:]...)
		status, err := m.Run(cmd.Context(), words, nil, cmd.OutOrStdout(), cmd.ErrOrStderr())
		if err == nil && status != exitDone {
			err = &exitError{status: status}
		}
		return err
	}
	return cmd
}

func first(args []string) string {
	if len(args) == 0 {
		return ""
	}
	return args[0]
}

// withKeeper does something with a plan's keeper.
func withKeeper(cmd *cobra.Command, file string, do func(ctx context.Context, k *kept) error) error {
	k, err := reach(cmd, file, true, false)
	if err != nil {
		return notAllowed(err)
	}
	return notAllowed(errors.Join(do(cmd.Context(), k), k.Close()))
}

// from is where the person at the keyboard is.
func from() string {
	host, err := os.Hostname()
	if err != nil {
		host = "this machine"
	}
	if tty, err := os.Readlink("/proc/self/fd/0"); err == nil && strings.HasPrefix(tty, "/dev/") && tty != "/dev/null" {
		host += " " + strings.TrimPrefix(tty, "/dev/")
	}
	if client, _, ok := strings.Cut(os.Getenv("SSH_CONNECTION"), " "); ok {
		host += " from " + client
	}
	return host
}
