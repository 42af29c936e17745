package main

import (
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/front/all"
	"vaiven/internal/plan/planfile"
	"vaiven/internal/plan/survey"
)

func surveyCommand() *cobra.Command {
	var q survey.Question
	cmd := &cobra.Command{
		Use:   "survey SOCKET|CONFIG|URL > PLAN",
		Short: "Read a running proxy and what is behind it, and print a first plan",
		Long: `Reads what is there: HAProxy by its run-time socket or its configuration, nginx and
Apache httpd by their configuration, httpd's balancer manager by its URL. It prints a plan
with the front as it is, both sides as far as they can be told apart, checks that were tried
and pass, and the load of a minute; where a person has to decide, a comment says so.
It changes nothing.

With that plan vaiven where says where requests go. docs/begin.md goes on from there.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			q.Target = args[0]
			if _, err := os.Stat(q.Target); err == nil && q.At.Host == "" {
				if q.Target, err = filepath.Abs(q.Target); err != nil {
					return err
				}
			}
			on, end := all.On(q.At)
			defer end()
			q.On = on
			if q.For > 0 {
				fmt.Fprintf(cmd.ErrOrStderr(), "vaiven: requests are counted for %v (--for)\n", q.For)
			}
			found, err := survey.Read(cmd.Context(), q)
			if err != nil {
				return err
			}
			text := found.Plan(time.Now())
			// it is for people to change, and to be read until then
			if _, err := planfile.Parse("plan", []byte(text)); err != nil {
				fmt.Fprintln(cmd.ErrOrStderr(), "vaiven: the plan has to be changed before it can be read:", err)
			}
			_, err = fmt.Fprint(cmd.OutOrStdout(), text)
			return err
		},
	}
	cmd.Flags().StringVar(&q.At.Host, "at", "", "the machine that the proxy runs on, as ssh has it: user@host")
	cmd.Flags().StringVar(&q.At.Identity, "identity", "", "with --at: the private key")
	cmd.Flags().StringVar(&q.At.KnownHosts, "known-hosts", "", "with --at: the file with the hosts' keys")
	cmd.Flags().StringVar(&q.Only, "of", "", "the backend, upstream group or balancer, where there are several")
	cmd.Flags().StringVar(&q.Service, "service", "", "name of the service (default: that of the backend)")
	cmd.Flags().DurationVar(&q.For, "for", time.Minute, "how long to count requests; 0s counts none")
	return cmd
}
