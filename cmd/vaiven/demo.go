package main

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"github.com/spf13/cobra"
)

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
		RunE: func(_ *cobra.Command, args []string) error {
			self, err := os.Executable()
			if err != nil {
				return err
			}
			program := filepath.Join(filepath.Dir(self), "vaiven-demo")
			if err = syscall.Exec(program, append([]string{program}, args...), os.Environ()); errors.Is(err,
				fs.ErrNotExist) {
				return fmt.Errorf("the demo is a program of its own, and is not there: %s (make build makes it)",
					program)
			}
			return err
		},
	}
}
