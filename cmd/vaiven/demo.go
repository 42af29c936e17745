package main

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
)

// demoProgram is the demo's, beside this one.
func demoProgram() (string, error) {
	self, err := os.Executable()
	return filepath.Join(filepath.Dir(self), "vaiven-demo"), err
}

// demoCommand runs the demo, which is a program of its own beside this one.
func demoCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "demo",
		Short: "See the main job with a made-up ferry company",
		Long: `Builds up a front, three blue instances and a stream of passengers in a
temporary folder, and opens the screen with a crossing ready to start. Everything
is cleaned up at the end; what a crashed demo leaves, the next one clears.

With --hands-free it does a complete crossing by itself, without a terminal, and
ends with the exit status of vaiven cross. --fault and --front say how the new
version is bad, and what divides the requests. It is vaiven-demo, found beside
vaiven, that does it: vaiven demo --help lists all that it takes.`,
		DisableFlagParsing: true,
		ValidArgsFunction: func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
			program, err := demoProgram()
			if err != nil {
				return nil, cobra.ShellCompDirectiveError
			}
			asked := append(append([]string{cobra.ShellCompRequestCmd}, args...), typed)
			out, err := exec.CommandContext(cmd.Context(), program, asked...).Output()
			if err != nil {
				return nil, cobra.ShellCompDirectiveError
			}
			list, _, _ := strings.Cut(string(out), "\n:") // the directive comes last
			return strings.Split(list, "\n"), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			program, err := demoProgram()
			if err != nil {
				return err
			}
			if err = syscall.Exec(program, append([]string{program}, args...), os.Environ()); errors.Is(err,
				fs.ErrNotExist) {
				return fmt.Errorf("the demo is a program of its own, and is not there: %s (make build makes it)",
					program)
			}
			return err
		},
	}
}
