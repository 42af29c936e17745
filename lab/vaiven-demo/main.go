package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"syscall"

	"github.com/spf13/cobra"

	"vaiven/internal/core/plan"
	"vaiven/internal/front/embedded"
	"vaiven/lab/demo"
)

// Exit statuses beside those of vaiven.
const (
	exitOther = 1
	exitUsage = 2
)

func main() {
	runtime.LockOSThread() // whose end its child is told of
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP)
	err := root().ExecuteContext(ctx)
	stop()
	var ended *exec.ExitError
	var wrong usage
	switch {
	case err == nil:
	case errors.As(err, &ended) && ended.ExitCode() > 0: // it has said why
		os.Exit(ended.ExitCode())
	case errors.As(err, &wrong):
		fmt.Fprintf(os.Stderr, "vaiven: %v\n", err)
		os.Exit(exitUsage)
	default:
		fmt.Fprintf(os.Stderr, "vaiven: %v\n", err)
		os.Exit(exitOther)
	}
}

// usage is a mistake in how it was called.
type usage struct{ error }

func root() *cobra.Command {
	var handsFree, asJSON, fleet bool
	var theme string
	o := demo.Options{Fault: demo.None, Rate: 300}
	fault, kind := string(demo.None), string(embedded.Kind.Name)
	cmd := &cobra.Command{
		Use:   "vaiven-demo",
		Short: "See the main job with a made-up ferry company",
		Long: `Builds up a front, three blue instances and a stream of passengers in a
temporary folder, and opens the screen with a crossing ready to start. Everything
is cleaned up at the end; what a crashed demo leaves, the next one clears.

With --hands-free it does a complete crossing by itself, without a terminal, and
ends with the exit status of vaiven cross.`,
		Args:          func(cmd *cobra.Command, args []string) error { return wrong(cobra.NoArgs(cmd, args)) },
		SilenceErrors: true,
		SilenceUsage:  true,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			o.Fault, o.Quick = demo.Fault(fault), handsFree
			if !slices.Contains(demo.Faults, o.Fault) {
				return wrong(fmt.Errorf("there is no fault %q; there are %v", fault, demo.Faults))
			}
			if o.Front = plan.FrontKind(kind); !slices.Contains(demo.Fronts(), o.Front) {
				return wrong(fmt.Errorf("there is no front %q; there are %v", kind, demo.Fronts()))
			}
			if o.Rate < 0 {
				return wrong(fmt.Errorf("--rate is not below zero: %g", o.Rate))
			}
			self, err := os.Executable()
			if err != nil {
				return err
			}
			o.Program = filepath.Join(filepath.Dir(self), "vaiven")
			if fleet {
				return showFleet(cmd.Context(), o.Program, theme)
			}
			s, err := demo.Build(cmd.Context(), o)
			if err != nil {
				return fmt.Errorf("build up the demo: %w", err)
			}
			defer func() { err = errors.Join(err, s.Remove(context.WithoutCancel(cmd.Context()))) }()
			args := []string{"open", s.File, "--parting=false", "--version", demo.NewVersion, "--theme", theme}
			if handsFree {
				args = []string{"cross", s.File, "--version", demo.NewVersion, "--yes",
					fmt.Sprintf("--json=%v", asJSON)}
			}
			return vaiven(cmd.Context(), o.Program, args...)
		},
	}
	cmd.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return wrong(err) })
	cmd.Flags().BoolVar(&handsFree, "hands-free", false, "do a whole crossing by itself")
	cmd.Flags().BoolVar(&fleet, "fleet", false, "six services that depend on each other, on several fronts, on one screen")
	cmd.Flags().BoolVar(&asJSON, "json", false, "with --hands-free, print JSON")
	cmd.Flags().StringVar(&fault, "fault", fault, fmt.Sprintf("how the new version is bad: %v", demo.Faults))
	cmd.Flags().StringVar(&kind, "front", kind, fmt.Sprintf("what divides the requests: %v; all but the first have "+
		"to be installed", demo.Fronts()))
	cmd.Flags().BoolVar(&o.Patient, "patient", false, "have no guards on how soon something is done, for machines "+
		"that stall")
	cmd.Flags().Float64Var(&o.Rate, "rate", o.Rate, "passengers' requests a second")
	cmd.Flags().StringVar(&theme, "theme", "", "dark or light (default: what the terminal says it is)")
	_ = cmd.RegisterFlagCompletionFunc("fault",
		cobra.FixedCompletions(texts(demo.Faults), cobra.ShellCompDirectiveNoFileComp))
	_ = cmd.RegisterFlagCompletionFunc("front",
		cobra.FixedCompletions(texts(demo.Fronts()), cobra.ShellCompDirectiveNoFileComp))
	cmd.AddCommand(sailingsCommand(), passengersCommand(), faresCommand(), registryCommand(), faresReachCommand(),
		clusterCommand())
	return cmd
}

// vaiven runs Vaiven with this terminal, until it ends.
func vaiven(ctx context.Context, program string, args ...string) error {
	run := exec.CommandContext(ctx, program, args...)
	run.Stdin, run.Stdout, run.Stderr = os.Stdin, os.Stdout, os.Stderr
	run.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM} // it is nothing without us
	run.Cancel = func() error { return run.Process.Signal(syscall.SIGTERM) }
	return run.Run()
}

// showFleet builds up the company's six services, and opens the screen on all of them.
func showFleet(ctx context.Context, program, theme string) (err error) {
	fmt.Println("building up six services; this takes a while")
	f, err := demo.BuildFleet(ctx, program)
	if err != nil {
		return fmt.Errorf("build up the demo: %w", err)
	}
	defer func() { err = errors.Join(err, f.Remove(context.WithoutCancel(ctx))) }()
	return vaiven(ctx, program, "open", f.File, "--theme", theme)
}

// wrong is an error as one in how it was called.
func wrong(err error) error {
	if err == nil {
		return nil
	}
	return usage{err}
}

func texts[T ~string](list []T) (names []string) {
	for _, v := range list {
		names = append(names, string(v))
	}
	return names
}

// sailingsCommand is what the demo's builds start.
func sailingsCommand() *cobra.Command {
	var a demo.App
	var listen, home string
	var work demo.Work
	cmd := &cobra.Command{
		Use:    "sailings",
		Hidden: true,
		Args:   cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := a.Home(home); err != nil {
				return err
			}
			return a.Listen(cmd.Context(), listen, work)
		},
	}
	cmd.Flags().StringVar(&listen, "listen", "127.0.0.1:0", "address to listen on")
	cmd.Flags().StringVar(&work.Broker, "broker", "", "broker to take bookings from")
	cmd.Flags().StringVar(&work.Queue, "queue", "", "queue to take them from")
	cmd.Flags().StringVar(&a.Version, "version", "", "version to claim")
	cmd.Flags().StringVar(&a.Runtime, "runtime", "", "runtime to claim")
	cmd.Flags().StringVar(&home, "home", ".", "folder of the build")
	cmd.Flags().StringVar(&a.Instance, "instance", "", "name to claim")
	return cmd
}

// clusterCommand is where the demo's instances run with a front of that kind.
func clusterCommand() *cobra.Command {
	var c demo.Cluster
	cmd := &cobra.Command{
		Use:    "cluster",
		Hidden: true,
		Args:   cobra.NoArgs,
		RunE:   func(cmd *cobra.Command, args []string) error { return c.Run(cmd.Context()) },
	}
	cmd.Flags().StringVar(&c.API, "api", "", "address of its API")
	cmd.Flags().StringVar(&c.Listen, "listen", "", "address at which its gateway takes requests")
	cmd.Flags().IntVar(&c.Port, "port", 0, "port at which pods listen")
	cmd.Flags().StringVar(&c.Folder, "folder", "", "folder of the demo")
	return cmd
}

// faresCommand is what sailing searches depend on.
func faresCommand() *cobra.Command {
	var listen string
	cmd := &cobra.Command{
		Use:    "fares",
		Hidden: true,
		Args:   cobra.NoArgs,
		RunE:   func(cmd *cobra.Command, _ []string) error { return demo.Fares(cmd.Context(), listen) },
	}
	cmd.Flags().StringVar(&listen, "listen", "127.0.0.1:0", "address to listen on")
	return cmd
}

// registryCommand is where the versions of the berths come from.
func registryCommand() *cobra.Command {
	var listen, builds string
	cmd := &cobra.Command{
		Use:    "registry",
		Hidden: true,
		Args:   cobra.NoArgs,
		RunE:   func(cmd *cobra.Command, _ []string) error { return demo.Registry(cmd.Context(), listen, builds) },
	}
	cmd.Flags().StringVar(&listen, "listen", "127.0.0.1:0", "address to listen on")
	cmd.Flags().StringVar(&builds, "builds", "", "folder of the builds to make images of")
	return cmd
}

// faresReachCommand looks whether a build reaches what it depends on.
func faresReachCommand() *cobra.Command {
	return &cobra.Command{
		Use:    "reach CONFIGURATION",
		Hidden: true,
		Args:   cobra.ExactArgs(1),
		RunE:   func(cmd *cobra.Command, args []string) error { return demo.Reach(cmd.Context(), args[0]) },
	}
}

// passengersCommand is the demo's traffic.
func passengersCommand() *cobra.Command {
	var url, names, broker string
	var rate float64
	cmd := &cobra.Command{
		Use:    "passengers",
		Hidden: true,
		Args:   cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if broker != "" {
				return demo.Bookings(cmd.Context(), broker, rate)
			}
			demo.Passengers(cmd.Context(), url, names, rate)
			return nil
		},
	}
	cmd.Flags().StringVar(&url, "url", "", "what to ask for")
	cmd.Flags().StringVar(&broker, "broker", "", "broker to publish bookings to, in place of searches")
	cmd.Flags().StringVar(&names, "names", "", "server of names to ask for the host")
	cmd.Flags().Float64Var(&rate, "rate", 300, "requests a second")
	return cmd
}
