package main

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/situation"
	"vaiven/internal/keeper"
	"vaiven/internal/people/headless"
	"vaiven/internal/people/report"
)

// onTheWall writes the page for the wall until it is ended. A page that cannot be written is said once, and tried
// again.
func onTheWall(cmd *cobra.Command, plan string, k *kept, file string) error {
	zone := time.Local
	if p, err := readPlan(plan); err == nil { // of one elsewhere the keeper alone knows the plan
		zone = zoneOf(p)
	}
	failing := ""
	headless.Show(cmd.Context(), k, func(s keeper.Snapshot, is situation.Situation, last bool) {
		said := ""
		if err := report.Wall(file, s, is, time.Now(), zone, last); err != nil {
			said = err.Error()
		}
		if said != failing && said != "" {
			fmt.Fprintln(cmd.ErrOrStderr(), "vaiven: the page is old:", said)
		}
		failing = said
	})
	return nil
}
