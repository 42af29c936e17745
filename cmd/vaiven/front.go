package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"

	"github.com/spf13/cobra"

	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/front/embedded"
	"vaiven/internal/plan"
	"vaiven/internal/prober"
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
			at := slices.IndexFunc(p.Fronts(), func(f plan.Front) bool { return f.Kind() == plan.FrontEmbedded })
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
			if err := os.MkdirAll(p.State, 0o700); err != nil {
				return fmt.Errorf("make the state folder: %w", err)
			}
			c, err := frontConfig(p, p.Fronts()[at])
			if err != nil {
				return err
			}
			srv, err := embedded.NewServer(c)
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "front of %s listens on %s, admin socket %s\n", p.Service, srv.Address(), p.Socket())
			return srv.Run(cmd.Context())
		},
	}
}

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
	if d, ok := all.One(p, f).(interface {
		Lacks(context.Context) ([]string, error)
	}); ok {
		list, err := d.Lacks(ctx)
		if err != nil {
			fmt.Fprintf(w, "%s: what its configuration has could not be read: %v\n", f.Name(), err)
		}
		for _, lack := range list {
			fmt.Fprintf(w, "%s: its configuration lacks %s\n", f.Name(), lack)
		}
	}
	if need := f.Needs(p.Service); need != "" {
		fmt.Fprintf(w, "%s needs in its configuration:\n\n%s\n", f.Name(), need)
	}
	return nil
}

func frontConfig(p *plan.Plan, f plan.Front) (embedded.Config, error) {
	secret, err := prober.Secret(p.Secret())
	return embedded.Config{
		Listen: f.Listen, Socket: p.Socket(), State: p.FrontState(), Key: f.Key, Sticky: f.Sticky, Service: p.Service, Secret: []byte(secret), Tell: f.Tell,
		HeaderSize: f.HeaderSize, HeaderTime: f.HeaderTime, Idle: f.Idle, Connections: f.Connections,
	}, err
}
