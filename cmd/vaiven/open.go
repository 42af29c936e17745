package main

import (
	"errors"
	"fmt"
	"os"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"vaiven/internal/keeper"
	"vaiven/internal/plan"
	"vaiven/internal/tui"
)

func openCommand() *cobra.Command {
	var screen tui.Config
	cmd := &cobra.Command{
		Use:   "open PLAN",
		Short: "Open the screen on a service",
		Args:  onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := readPlan(args[0])
			if err != nil {
				return err
			}
			last, err := runScreen(cmd, p, screen)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(cmd.OutOrStdout(), parting(p, last))
			return err
		},
	}
	cmd.Flags().StringVar(&screen.Version, "version", "", "the version to offer for the next crossing")
	themeFlag(cmd, &screen)
	return cmd
}

func themeFlag(cmd *cobra.Command, screen *tui.Config) {
	cmd.Flags().StringVar(&screen.Theme, "theme", "", "dark or light (default: what the terminal says it is)")
}

// runScreen opens the screen with a keeper behind it, and returns the last that
// was seen.
func runScreen(cmd *cobra.Command, p *plan.Plan, screen tui.Config) (keeper.Snapshot, error) {
	if t := screen.Theme; t != "" && t != "dark" && t != "light" {
		return keeper.Snapshot{}, usage("--theme takes dark or light, not %q", t)
	}
	if !term.IsTerminal(os.Stdin.Fd()) || !term.IsTerminal(os.Stdout.Fd()) {
		return keeper.Snapshot{}, usage("the screen needs a terminal; vaiven cross, back and demo --hands-free do without")
	}
	s, err := openService(cmd, p)
	if err != nil {
		return keeper.Snapshot{}, err
	}
	screen.Client, screen.By = s.Keeper, who()
	last, err := tui.Run(cmd.Context(), screen)
	return last, errors.Join(err, s.Close())
}

// parting is how things stand when the screen closes.
func parting(p *plan.Plan, s keeper.Snapshot) string {
	c := s.Crossing
	if !c.Stage.UnderWay() {
		return fmt.Sprintf("%s: all requests go to %v", p.Service, s.Live)
	}
	return fmt.Sprintf("%s: crossing %d stays at %q, %v on green. vaiven open %s goes on with it, vaiven back %[5]s goes back",
		p.Service, c.Number, c.Stage, s.Front.Split.Share, p.File)
}
