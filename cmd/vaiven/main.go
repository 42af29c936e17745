package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"os/user"
	"runtime/debug"
	"syscall"
	_ "time/tzdata" // the zones of a plan's hours, wherever it runs

	"github.com/spf13/cobra"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/people/headless"
	"vaiven/internal/plan/planfile"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/section"
)

// version is set when the program is built; see the Makefile.
var version = ""

// Exit statuses, as the README has them.
const (
	exitDone       = 0
	exitOther      = 1
	exitUsage      = 2
	exitRolledBack = 3
	exitCalledOff  = 4
	exitFrozen     = 5
	exitLiveIll    = 6
	exitWaits      = 10
	exitKept       = 11
)

// exitError is an error with an exit status of its own.
type exitError struct {
	status int
	err    error // nil if everything has been said
}

func (e *exitError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}
func (e *exitError) Unwrap() error { return e.err }

func usage(format string, args ...any) error {
	return &exitError{exitUsage, fmt.Errorf(format, args...)}
}

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP)
	out, errOut := secret.NewWriter(os.Stdout), secret.NewWriter(os.Stderr)
	slog.SetDefault(slog.New(slog.DiscardHandler)) // what commands have to say they print
	cmd := root()
	cmd.SetOut(out)
	cmd.SetErr(errOut)
	err := cmd.ExecuteContext(ctx)
	stop()
	os.Exit(status(err, errOut))
}

// status is the exit status for an error, which is told first.
func status(err error, to io.Writer) int {
	var exit *exitError
	if err != nil && !(errors.As(err, &exit) && exit.err == nil) {
		fmt.Fprintf(to, "vaiven: %v\n", err)
	}
	return statusOf(err)
}

func statusOf(err error) int {
	var problems section.Problems
	var exit *exitError
	switch {
	case err == nil:
		return exitDone
	case errors.As(err, &problems):
		return exitUsage
	case errors.As(err, &exit):
		return exit.status
	}
	return exitOther
}

func root() *cobra.Command {
	cmd := &cobra.Command{
		Use:           "vaiven",
		Short:         "Take a service from its blue stack to its green one, and back",
		SilenceErrors: true,
		SilenceUsage:  true,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usage("there is no command %q (vaiven --help lists what there is)", args[0])
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			return errors.Join(cmd.Help(), &exitError{status: exitUsage})
		},
	}
	cmd.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return usage("%w (%s --help lists what there is)", err, cmd.CommandPath())
	})
	var level slog.Level // read by the keepers that are started
	cmd.PersistentFlags().TextVar(&level, "log", slog.LevelInfo,
		"what a keeper that is started logs at least, in STATE/keeper.log: debug, info, warn or error")
	cmd.Version = versionText().Version
	cmd.SetVersionTemplate("vaiven {{.Version}} (" + versionText().Go + ")\n")
	cmd.AddCommand(openCommand(), surveyCommand(), there(versionsCommand()), raiseCommand(), proveCommand(),
		there(differCommand()), crossCommand(), arrivedCommand(), shiftCommand(), there(whereCommand()), splitCommand(),
		there(backCommand()), evacuateCommand(), reopenCommand(),
		rehearseCommand(), pauseCommand(), resumeCommand(), sayCommand(),
		followCommand(), noticesCommand(),
		retireCommand(), planCommand(), evidenceCommand(), there(logCommand()), keepCommand(),
		takeOverCommand(), reachCommand(),
		admitCommand(), frontCommand(), demoCommand(), versionCommand(), manCommand())
	cmd.PersistentPreRunE = notNegative
	cmd.SetHelpCommand(helpCommand(cmd))
	return explained(cmd)
}

// onePlan is the argument check of commands that take a plan file.
func onePlan(cmd *cobra.Command, args []string) error {
	if len(args) != 1 {
		return usage("%s takes one plan file: %s", cmd.CommandPath(), cmd.UseLine())
	}
	return nil
}

// readPlan reads a plan file. One that is not there is a mistake in usage.
func readPlan(file string) (*plan.Plan, error) {
	p, err := planfile.Read(file)
	if errors.Is(err, os.ErrNotExist) {
		return nil, usage("there is no plan file %s", file)
	}
	return p, err
}

// readSecrets reads a plan's secrets; from then on they are hidden in what is printed.
func readSecrets(cmd *cobra.Command, p *plan.Plan) (secret.Values, error) {
	v, err := secret.Read(p.Secrets)
	for _, w := range []io.Writer{cmd.OutOrStdout(), cmd.ErrOrStderr()} {
		if said, ok := w.(*secret.Writer); ok {
			said.Know(v)
		}
	}
	return v, err
}

// who is the handle of the person at the keyboard.
func who() string {
	if name := os.Getenv("SUDO_USER"); name != "" && os.Geteuid() == 0 {
		return name
	}
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username
	}
	return "somebody"
}

// outcomeStatus is the exit status for how a crossing ended.
func outcomeStatus(o headless.Outcome) error {
	switch o {
	case headless.Settled, headless.Reached, headless.Detached, headless.Noted:
		return nil
	case headless.Waits:
		return &exitError{status: exitWaits}
	case headless.Kept:
		return &exitError{status: exitKept}
	case headless.RolledBack:
		return &exitError{status: exitRolledBack}
	case headless.CalledOff, headless.NotBegun:
		return &exitError{status: exitCalledOff}
	case headless.Frozen:
		return &exitError{status: exitFrozen}
	case headless.LiveIll:
		return &exitError{status: exitLiveIll}
	}
	return &exitError{status: exitOther}
}

func versionCommand() *cobra.Command {
	var out output
	cmd := &cobra.Command{
		Use:   "version",
		Short: "Say which Vaiven this is",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			v := versionText()
			return out.print(cmd.OutOrStdout(), split.Green, v, func(w io.Writer) error {
				_, err := fmt.Fprintf(w, "vaiven %s (%s)\n", v.Version, v.Go)
				return err
			})
		},
	}
	out.flag(cmd)
	return cmd
}

type versionInfo struct {
	Version string `json:"version"`
	Go      string `json:"go"`
}

func versionText() versionInfo {
	v := versionInfo{Version: version}
	if info, ok := debug.ReadBuildInfo(); ok {
		v.Go = info.GoVersion
		if v.Version == "" {
			v.Version = info.Main.Version
		}
	}
	if v.Version == "" {
		v.Version = "unknown"
	}
	return v
}
