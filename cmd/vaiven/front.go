package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/figures"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/front/embedded"
	"vaiven/internal/front/held"
	"vaiven/internal/plan"
	"vaiven/internal/prober"
	"vaiven/internal/service"
	"vaiven/internal/state"
	"vaiven/internal/words"
)

func frontCommand() *cobra.Command {
	var try bool
	cmd := &cobra.Command{
		Use:   "front PLAN",
		Short: "Run the embedded front of a plan, or prepare another one",
		Long: `Runs the reverse proxy that splits requests between blue and green, in the
foreground. It is a process of its own, so that traffic outlives everything else:
run it under whatever keeps your services running. Its split survives a restart.

For a front that includes a file of Vaiven's, it writes that file if there is none
yet, with all requests on blue, so that the proxy can be started; for every other
front it says what its configuration needs. Neither runs anything. What it writes and
prints has the instances that serve in it.

With --try a front that serves is held to what every front promises, as far as that harms
nobody: between 0 and 1 % on green, with requests of Vaiven's own on the way. Nothing may be
crossing, everything has to be on blue, and green has to stand.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := readPlan(args[0])
			if err != nil {
				return err
			}
			if try {
				return tryFront(cmd, p)
			}
			at := slices.IndexFunc(p.Fronts(), func(f plan.Front) bool { return f.Kind() == embedded.Kind.Name })
			if at < 0 || len(p.Beside) > 0 {
				for _, f := range p.Fronts() {
					if err := prepare(cmd.Context(), cmd.OutOrStdout(), p, f); err != nil {
						return err
					}
				}
			}
			if at < 0 {
				return nil
			}
			in, err := state.Open(p.State)
			if err != nil {
				return err
			}
			defer in.Close()
			c, err := frontConfig(p, p.Fronts()[at])
			if err != nil {
				return err
			}
			if os.Getenv("GOGC") == "" {
				debug.SetGCPercent(frontGC)
			}
			srv, err := embedded.NewServer(c)
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "front of %s listens on %s, admin socket %s\n", p.Service, srv.Address(), p.Socket())
			if at := srv.SpareAddress(); at != "" {
				fmt.Fprintf(cmd.OutOrStdout(), "the spare side's own door is %s\n", at)
			}
			if c.Spare.Asks() {
				fmt.Fprintf(cmd.OutOrStdout(), "the secret of the spare side's own door is in %s\n", p.SpareSecret())
			}
			if room := srv.Connections(); room < c.Connections*9/10 {
				fmt.Fprintf(cmd.OutOrStdout(), "there are descriptors for %d connections of clients, and the plan wants %d: raise the limit of open files (ulimit -n)\n", room, c.Connections)
			}
			return srv.Run(cmd.Context())
		},
	}
	cmd.Flags().BoolVar(&try, "try", false, "hold a front that serves to what every front promises")
	return cmd
}

// tryFront holds a plan's front to the rules, as the only one that steers it.
func tryFront(cmd *cobra.Command, p *plan.Plan) error {
	in, err := state.Open(p.State)
	if err != nil {
		return err
	}
	defer in.Close()
	unlock, err := service.Lock(in, who())
	if err != nil {
		return err
	}
	defer func() { _ = unlock() }()
	r, err := readOnce(cmd.Context(), all.Open(p), &figures.Series{})
	if err != nil {
		return err
	}
	name(r, whoStands(cmd.Context(), p))
	asks := func(ctx context.Context) (int64, string) {
		asker, err := newAsker(p, p.Fronts(), r)
		if err != nil {
			return 1, err.Error()
		}
		asker.Send(ctx, prober.Sending{Requests: 50, Per: 2 * time.Millisecond, Clients: 5})
		d := asker.Report(time.Now())
		last := ""
		if n := len(d.Bad); n > 0 {
			last = d.Bad[n-1].Why
		}
		return d.Failing + d.Lost, last
	}
	results, err := held.Try(cmd.Context(), func() front.Driver { return all.Open(p) }, asks)
	failed := 0
	for _, r := range results {
		mark := "✓"
		if r.Err != nil {
			mark = "✗"
			failed++
		}
		fmt.Fprintf(cmd.OutOrStdout(), "%s %-52s %8s\n", mark, r.Rule, words.Milliseconds(r.Took))
		if r.Err != nil {
			fmt.Fprintf(cmd.OutOrStdout(), "  the promise: %s\n  %v\n", r.Promise, r.Err)
		}
	}
	switch {
	case errors.Is(err, held.ErrNotNow):
		return notAllowed(err)
	case err != nil:
		return err
	case failed > 0:
		return fmt.Errorf("%d of %d rules do not hold", failed, len(results))
	}
	return nil
}

// frontGC is how much the front's memory may grow between two collections, in percent of what
// is in use: that is little, and collecting it less often leaves more for requests.
const frontGC = 400

// prepare makes what a front needs to be started with, and says what else it needs.
func prepare(ctx context.Context, w io.Writer, p *plan.Plan, f plan.Front) error {
	driver := all.One(p, f)
	standing := whoServes(ctx, p, driver)
	there := len(standing[split.Blue]) + len(standing[split.Green])
	if f.Spare.Asks() {
		in, err := state.Open(p.State) // where its secret is
		if err != nil {
			return err
		}
		defer in.Close()
		defer fmt.Fprintf(w, "the secret of the spare side's own door is in %s from the first instances on\n", f.Spare.File)
	}
	if d, ok := driver.(front.Preparer); ok {
		made, err := d.Prepare(ctx, standing)
		if err != nil {
			return fmt.Errorf("%s: %w", f.Name(), err)
		}
		if made {
			live := standing.Live()
			fmt.Fprintf(w, "%s: made what it takes to steer it, with all requests on %v, which has %d instances\n", f.Name(), live, len(standing[live]))
		}
	}
	if d, ok := driver.(front.Lacker); ok {
		list, err := d.Lacks(ctx)
		if err != nil {
			fmt.Fprintf(w, "%s: what its configuration has could not be read: %v\n", f.Name(), err)
		}
		for _, lack := range list {
			fmt.Fprintf(w, "%s: its configuration lacks %s\n", f.Name(), lack)
		}
	}
	if config := all.Of(f).Config; config != nil {
		fmt.Fprintf(w, "%s needs in its configuration:\n\n%s\n", f.Name(), config(p.Service, f, front.Site{Standing: standing, Members: members(p)}).Text)
	}
	if there == 0 {
		fmt.Fprintf(w, "%s: no instance of either side is there. A proxy that serves would have nobody to send requests to: say in the plan what stands (\"stands\"), or raise a side first\n", f.Name())
	}
	return nil
}

// whoServes are the instances that are there, by side, with the names that the front has for them where it can be asked.
func whoServes(ctx context.Context, p *plan.Plan, d front.Driver) (sides front.Known) {
	listed := map[string]reading.Server{}
	for _, side := range split.Sides {
		limited, cancel := context.WithTimeout(ctx, 3*time.Second)
		list, _ := front.Listed(limited, d, side) // it may not be Vaiven's yet
		cancel()
		for _, i := range list {
			listed[i.Address] = i
		}
	}
	for _, i := range whoStands(ctx, p) {
		if !i.Running {
			continue
		}
		s := reading.Server{Name: i.Name, Address: i.Address, Version: i.Version}
		if l, ok := listed[i.Address]; ok {
			s.Name = l.Name
		}
		sides[i.Side] = append(sides[i.Side], s)
	}
	for _, side := range split.Sides {
		slices.SortFunc(sides[side], func(a, b reading.Server) int { return cmp.Or(len(a.Name)-len(b.Name), strings.Compare(a.Name, b.Name)) })
	}
	return sides
}

// members are the addresses that instances of a plan may be given, where they are few.
func members(p *plan.Plan) []string {
	const most = 200
	var list []string
	for _, s := range p.Main().Stacks {
		if here := s.Kind() == plan.Processes || s.Kind() == plan.Containers && s.Network == "host"; !here {
			continue
		}
		for port := s.FirstPort; port <= s.LastPort && len(list) < most; port++ {
			if address := net.JoinHostPort("127.0.0.1", strconv.Itoa(port)); !slices.Contains(list, address) {
				list = append(list, address)
			}
		}
	}
	return list
}

func frontConfig(p *plan.Plan, f plan.Front) (embedded.Config, error) {
	secret, err := prober.Secret(p.Secret())
	return embedded.Config{
		Listen: f.Listen, Socket: p.Socket(), State: p.FrontState(), Key: f.Key, Sticky: f.Sticky, Service: p.Service, Secret: []byte(secret),
		Spare: f.Spare, Settings: *f.Settings.(*embedded.Settings),
	}, err
}
