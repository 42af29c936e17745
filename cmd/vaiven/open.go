package main

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"

	"vaiven/internal/core/route"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/service"
	"vaiven/internal/people/tui"
	"vaiven/internal/plan/planfile"
	"vaiven/internal/words"
)

func openCommand() *cobra.Command {
	var screen tui.Config
	var parts bool
	cmd := &cobra.Command{
		Use:   "open PLAN|FOLDER|FLEET",
		Short: "Open the screen on a service, or on many",
		Args:  onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			if many(args[0]) {
				return openAll(cmd, args[0], screen)
			}
			return withScreen(cmd, args[0], screen.Theme, func(k *kept) error {
				last, err := runScreen(cmd, k, screen)
				if err != nil || !parts {
					return err
				}
				_, err = fmt.Fprintln(cmd.OutOrStdout(), parting(k, last))
				return err
			})
		},
	}
	cmd.Flags().StringVar(&screen.Version, "version", "", "the version to offer for the next crossing")
	cmd.Flags().StringVar(&screen.Theme, "theme", "", "dark or light (default: what the terminal says it is)")
	cmd.Flags().BoolVar(&screen.ASCII, "ascii", onlyASCII(os.Getenv),
		"draw with the signs of ASCII alone (default: where the "+
			"locale has no others)")
	cmd.Flags().BoolVar(&parts, "parting", true, "say at the end how things stand")
	_ = cmd.Flags().MarkHidden("parting")
	return cmd
}

// withScreen reaches a plan's keeper for a screen, if one can be shown.
func withScreen(cmd *cobra.Command, file, theme string, do func(*kept) error) error {
	if theme != "" && theme != "dark" && theme != "light" {
		return usage("--theme takes dark or light, not %q", theme)
	}
	if err := canShow(); err != nil {
		return err
	}
	k, err := reach(cmd, file, true, false)
	if err != nil {
		return notAllowed(err)
	}
	return errors.Join(do(k), k.Close())
}

// runScreen opens the screen on a keeper, and returns the last that was seen.
func runScreen(cmd *cobra.Command, k *kept, screen tui.Config) (keeper.Snapshot, error) {
	screen.Client, screen.By, screen.Identity, screen.Copy = k, who(), k.Identity(),
		func(legs route.Route) (string, error) { return copyPlan(k.Plan, legs) }
	debug.SetGCPercent(400) // what a screen is sent it draws and drops: collecting it less often costs a few megabytes
	left := tidied(os.Stdin, os.Stdout)
	s, err := tui.Run(cmd.Context(), screen, screenOptions(os.Getenv("TERM"))...)
	if left {
		fmt.Fprintln(cmd.ErrOrStderr(), "vaiven: a screen that was killed had left this terminal in disorder; it is "+
			"put right (tput reset does the same)")
	}
	return s, err
}

// copyPlan writes a copy of a plan beside it, with other legs: under the first name that is free.
func copyPlan(file string, legs route.Route) (string, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return "", err
	}
	text, err := planfile.WithRoute(file, data, legs)
	if err != nil {
		return "", err
	}
	name := strings.TrimSuffix(file, filepath.Ext(file))
	for n := 2; ; n++ {
		to := fmt.Sprintf("%s.route-%d%s", name, n, filepath.Ext(file))
		f, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if errors.Is(err, fs.ErrExist) && n < 1000 {
			continue
		}
		if err != nil {
			return "", err
		}
		_, err = f.Write(text)
		return to, errors.Join(err, f.Close())
	}
}

// parting is how things stand when the screen closes.
func parting(k *kept, s keeper.Snapshot) string {
	c := s.Crossing
	if !c.Stage.UnderWay() {
		if len(s.Sides[s.Live].Instances) == 0 {
			return fmt.Sprintf("%s: nothing is released yet", k.Info.Service)
		}
		text := fmt.Sprintf("%s: all requests go to %v", k.Info.Service, s.Live)
		switch {
		case k.Info.Kept || s.Watching > 1:
		case len(s.Keeps) > 0:
			text += ", and the keeper stays: it starts again what ends"
		default:
			text += fmt.Sprintf("; the keeper ends in %s, then %s: vaiven keep %s --unit prints a unit file for one "+
				"that stays", route.Short(service.EndAfter), words.Unwatched(s.View), k.Plan)
		}
		return text
	}
	return fmt.Sprintf("%s: crossing %d is at %q, %s, and the keeper goes on with it. vaiven open %s comes back, "+
		"vaiven back %[5]s rolls back",
		k.Info.Service, c.Number, c.Stage, words.On(s.Front.Split.Share, c.Target), k.Plan)
}
