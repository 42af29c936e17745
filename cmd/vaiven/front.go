package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"slices"

	"github.com/spf13/cobra"

	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/front/embedded"
	"vaiven/internal/plan"
	"vaiven/internal/prober"
	"vaiven/internal/state"
)

func frontCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "front PLAN",
		Short: "Run the embedded front of a plan, or prepare another one",
		Long: `Runs the reverse proxy that splits requests between blue and green, in the
foreground. It is a process of its own, so that traffic outlives everything else:
run it under whatever keeps your services running. Its split survives a restart.

For a front that includes a file of Vaiven's, it writes that file if there is none
yet, with all requests on blue, so that the proxy can be started; for every other
front it says what its configuration needs. Neither runs anything.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := readPlan(args[0])
			if err != nil {
				return err
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
			if c.SpareHeader != "" || c.SpareCookie != "" {
				fmt.Fprintf(cmd.OutOrStdout(), "the secret of the spare side's own door is in %s\n", p.SpareSecret())
			}
			if room := srv.Connections(); room < c.Connections*9/10 {
				fmt.Fprintf(cmd.OutOrStdout(), "there are descriptors for %d connections of clients, and the plan wants %d: raise the limit of open files (ulimit -n)\n", room, c.Connections)
			}
			return srv.Run(cmd.Context())
		},
	}
}

// frontGC is how much the front's memory may grow between two collections, in percent of what
// is in use: that is little, and collecting it less often leaves more for requests.
const frontGC = 400

// prepare makes what a front needs to be started with, and says what else it needs.
func prepare(ctx context.Context, w io.Writer, p *plan.Plan, f plan.Front) error {
	if d, ok := all.One(p, f).(front.Preparer); ok {
		made, err := d.Prepare(ctx)
		if err != nil {
			return fmt.Errorf("%s: %w", f.Name(), err)
		}
		if made {
			fmt.Fprintf(w, "%s: made the file that its configuration includes, with all requests on blue\n", f.Name())
		}
	}
	if d, ok := all.One(p, f).(front.Lacker); ok {
		list, err := d.Lacks(ctx)
		if err != nil {
			fmt.Fprintf(w, "%s: what its configuration has could not be read: %v\n", f.Name(), err)
		}
		for _, lack := range list {
			fmt.Fprintf(w, "%s: its configuration lacks %s\n", f.Name(), lack)
		}
	}
	if config := all.Of(f).Config; config != nil {
		fmt.Fprintf(w, "%s needs in its configuration:\n\n%s\n", f.Name(), config(p.Service, f, front.Site{}).Text)
	}
	return nil
}

func frontConfig(p *plan.Plan, f plan.Front) (embedded.Config, error) {
	secret, err := prober.Secret(p.Secret())
	return embedded.Config{
		Listen: f.Listen, Socket: p.Socket(), State: p.FrontState(), Key: f.Key, Sticky: f.Sticky, Service: p.Service, Secret: []byte(secret),
		Spare: p.SpareSecret(), Settings: *f.Settings.(*embedded.Settings),
	}, err
}
