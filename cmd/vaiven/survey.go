package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/front/all"
	"vaiven/internal/plan/planfile"
	"vaiven/internal/plan/survey"
	"vaiven/internal/world/section"
)

func surveyCommand() *cobra.Command {
	var q survey.Question
	var apply, folder, log, after, ports string
	cmd := &cobra.Command{
		Use:   "survey SOCKET|CONFIG|URL > PLAN",
		Short: "Read a running proxy and what is behind it, and print a first plan",
		Long: `Reads what is there: HAProxy by its run-time socket or its configuration, nginx and
Apache httpd by their configuration, httpd's balancer manager by its URL, and a DNS name by
the server that has its zone (dns://SERVER/NAME:PORT). It prints a plan
with the front as it is, both sides as far as they can be told apart, checks that were tried
and pass, and the load of a minute; where a person has to decide, a comment says so.
It changes nothing. What has to change in the proxy's configuration before requests can be
split stands in the plan as a diff, which the proxy has tested on a copy; with --apply the
changed files are written into a folder, beside those that are there now, with what the
proxy answers to the requests of the plan's checks; --after asks again when the change was
made, and says what users get otherwise.

Of a proxy with many services behind it --all makes a folder of plans with a file that they
share, and prints a table: what comes in where, who answers, and what is in the way.

With that plan vaiven where says where requests go. docs/begin.md goes on from there.`,
		Args: func(cmd *cobra.Command, args []string) error {
			if after != "" {
				return cobra.NoArgs(cmd, args)
			}
			return cobra.ExactArgs(1)(cmd, args)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if after != "" {
				return surveyAfter(cmd, q, after)
			}
			q.Target = args[0]
			if ports != "" {
				var err error
				if q.Ports, err = section.Ports(ports); err != nil {
					return usage("--ports: %v", err)
				}
			}
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
			if folder != "" {
				return surveyAll(cmd, q, folder, apply)
			}
			found, err := survey.Read(cmd.Context(), q)
			if err != nil {
				return err
			}
			if err := keepChange(cmd, &found, apply, log); err != nil {
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
	cmd.Flags().BoolVar(&q.Sticky, "sticky", false, "who has a session is to stay on its side: the change makes a cookie do it "+
		"where nothing does yet")
	cmd.Flags().StringVar(&ports, "ports", "", "the ports that green's instances may have, such as 18100-18103: httpd's balancer "+
		"manager needs a member for each beforehand")
	cmd.Flags().StringVar(&log, "log", "", "with --apply: an access log whose most frequent paths are compared too, those of GET "+
		"without a query")
	cmd.Flags().StringVar(&after, "after", "", "the folder of --apply, when the change was made: ask again, and say what users "+
		"get otherwise")
	cmd.Flags().StringVar(&folder, "all", "", "a new folder for a plan of each service behind the proxy, and their base")
	cmd.Flags().StringVar(&apply, "apply", "", "a new folder for the changed files of the proxy's configuration, which "+
		"stays as it is")
	cmd.Flags().DurationVar(&q.For, "for", time.Minute, "how long to count requests; 0s counts none")
	return cmd
}

// answersFile is where a change's folder has what the proxy answered before it.
const answersFile = "answers.json"

// keepChange writes the change of the proxy's configuration into a folder, with what the proxy answers now, and
// says what to do with it.
func keepChange(cmd *cobra.Command, f *survey.Found, dir, log string) error {
	w := cmd.ErrOrStderr()
	switch {
	case dir == "":
		return nil
	case f.Change.Err != nil:
		return fmt.Errorf("the change of the configuration is not written: %w", f.Change.Err)
	case len(f.Change.Files) == 0 && f.Ready:
		fmt.Fprintf(w, "vaiven: the configuration needs no change, and %s is not made\n", dir)
		return nil
	case len(f.Change.Files) == 0:
		return errors.New("no change of this configuration can be made that is sure to be right: the plan says what it needs")
	}
	var paths []string
	if log != "" {
		var err error
		if paths, err = survey.LoggedPaths(log); err != nil {
			return err
		}
	}
	sample, err := f.Sample(cmd.Context(), paths)
	if err != nil {
		return err
	}
	if err := f.Keep(dir); err != nil {
		return err
	}
	data, err := json.MarshalIndent(sample, "", " ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, answersFile), data, 0o600); err != nil {
		return err
	}
	fmt.Fprintf(w, "vaiven: the change was tested by %s, and is in %s/change.diff; nothing was changed. When it is made, \"vaiven "+
		"survey --after %[2]s\" says whether users get the same\n", f.Kind, dir)
	return nil
}

// surveyAfter asks the proxy again for what it was asked before a change.
func surveyAfter(cmd *cobra.Command, q survey.Question, dir string) error {
	data, err := os.ReadFile(filepath.Join(dir, answersFile))
	if err != nil {
		return usage("%s is no folder of --apply: %v", dir, err)
	}
	var s survey.Sample
	if err := json.Unmarshal(data, &s); err != nil {
		return usage("%s cannot be read: %v", filepath.Join(dir, answersFile), err)
	}
	on, end := all.On(q.At)
	defer end()
	list, err := s.Differs(cmd.Context(), on)
	if err != nil {
		return err
	}
	for _, line := range list {
		fmt.Fprintln(cmd.OutOrStdout(), line)
	}
	if len(list) > 0 {
		return fmt.Errorf("%d of %d paths are answered otherwise than before the change: undo it with what is in %s/old, and reload",
			len(list), len(s.Asked), dir)
	}
	_, err = fmt.Fprintf(cmd.OutOrStdout(), "all is as it was: %d of %[1]d paths are answered as before the change\n", len(s.Asked))
	return err
}

// surveyAll surveys all services behind a proxy: a table, and a folder of plans that share a base.
func surveyAll(cmd *cobra.Command, q survey.Question, folder, apply string) error {
	switch {
	case apply != "":
		return usage("--apply is for one service: each change is one of the configuration as it is now (--of)")
	case q.Only != "" || q.Service != "":
		return usage("--all is for all services, without --of and --service")
	}
	list, err := survey.ReadAll(cmd.Context(), q)
	if err != nil {
		return err
	}
	if err := os.Mkdir(folder, 0o755); err != nil {
		return fmt.Errorf("the plans are written into a folder of their own: %w", err)
	}
	const base = "base.yaml"
	files := map[string]string{base: survey.Base()}
	for _, f := range list {
		file := f.Service + ".yaml"
		if file == base {
			file = f.Service + "-service.yaml"
		}
		f.Base = base
		files[file] = f.Plan(time.Now())
	}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s\n%d plans are in %s: vaiven plan %[3]s checks them\n", survey.Table(list), len(list),
		folder)
	return err
}
