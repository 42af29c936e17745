package main

import (
	"os"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/place"
)

// relayWait is how long a relay waits beside a container to be used.
const relayWait = 10 * time.Minute

// relayCommand connects from where it is started; see package place.
func relayCommand() *cobra.Command {
	var wait bool
	cmd := &cobra.Command{
		Use:    "relay",
		Hidden: true,
		Args:   cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if wait {
				select {
				case <-cmd.Context().Done():
				case <-time.After(relayWait):
				}
				return nil
			}
			return place.ServeRelay(cmd.Context(), os.Stdin, os.Stdout)
		},
	}
	cmd.Flags().BoolVar(&wait, "wait", false, "do nothing for a while")
	return cmd
}
