package main

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"vaiven/internal/keeper/service"
	"vaiven/internal/plan/planfile"
	"vaiven/internal/plan/tryout"
	"vaiven/internal/world/secret"
)

// examples are how each command is used.
var examples = map[string]string{
	"vaiven": "vaiven demo\nvaiven open sailings.yaml --version 4.3.0\nvaiven back sailings.yaml",
	"open": "vaiven open sailings.yaml\nvaiven open sailings.yaml --version 4.3.0 --theme light\nvaiven open " +
		"marit@quay2:/srv/sailings.yaml",
	"survey": "vaiven survey /run/haproxy/admin.sock > sailings.yaml\nvaiven survey --at deploy@gate1 " +
		"/etc/nginx/nginx.conf --of sailings > sailings.yaml",
	"versions": "vaiven versions sailings.yaml\nvaiven versions sailings.yaml --json | jq -r " +
		"'.parts[0].versions[].name'",
	"raise": "vaiven raise sailings.yaml --version 4.3.0\nvaiven raise sailings.yaml --version 4.3.0 --version " +
		"berths=2.2",
	"prove":  "vaiven prove sailings.yaml\nvaiven prove sailings.yaml --json | jq '.results[] | select(.pass | not)'",
	"differ": "vaiven differ sailings.yaml",
	"cross": "vaiven cross sailings.yaml --version 4.3.0 --yes --why 'the winter timetable'\nvaiven cross " +
		"sailings.yaml --version 4.3.0 --yes --accept --json\nvaiven cross sailings.yaml --version 4.3.0 --at-once\n" +
		"vaiven cross ferries.yaml --version fares=5.0 --version sailings=4.3.0 --dry-run",
	"arrived": "vaiven arrived sailings.yaml 4.4.0\nvaiven arrived sailings.yaml 4.4.0 --commit 5eaf00d --until settled",
	"admit":   "vaiven admit marit /etc/vaiven/sailings.yaml",
	"notices": "vaiven notices sailings.yaml\nvaiven notices sailings.yaml --try",
	"shift": "vaiven shift sailings.yaml --to '25 % on green'\nvaiven shift sailings.yaml --to '1 in 8 on green' " +
		"--dry-run\nvaiven " +
		"shift sailings.yaml --to '5 % on green' --unproven --why 'fares are wrong on blue'",
	"where": "vaiven where sailings.yaml\nvaiven where /etc/vaiven\nvaiven where sailings.yaml --for 10s --json\nvaiven where sailings.yaml " +
		"--send 1000 --clients 50",
	"split": "vaiven split /var/log/nginx/access.log\nvaiven split access.log --key 'cookie passenger' --share 25 " +
		"--chart split.svg",
	"evacuate": "vaiven evacuate ferries.yaml --from blue --why 'the hall is under water'\nvaiven evacuate /etc/vaiven --from " +
		"blue --dry-run",
	"reopen":   "vaiven reopen ferries.yaml",
	"back":     "vaiven back sailings.yaml --why 'searches fail'\nvaiven back sailings.yaml --to blue",
	"pause":    "vaiven pause sailings.yaml\nvaiven pause sailings.yaml --within 5m --json",
	"resume":   "vaiven resume sailings.yaml",
	"rehearse": "vaiven rehearse sailings.yaml",
	"say":      "vaiven say sailings.yaml yes --why 'the captain agrees'\nvaiven say sailings.yaml steer 25",
	"follow": "vaiven follow sailings.yaml\nvaiven follow sailings.yaml --since 41 --json\nvaiven follow sailings.yaml --html " +
		"/srv/www/sailings.html",
	"retire": "vaiven retire sailings.yaml\nvaiven retire sailings.yaml --yes",
	"plan": "vaiven plan sailings.yaml\nvaiven plan sailings.yaml --rate '340 /s' --failing '0.1 %' --chart " +
		"route.pdf\nvaiven plan --schema > vaiven-plan.schema.json",
	"evidence": "vaiven evidence sailings.yaml\nvaiven evidence sailings.yaml --guard failing --chart failing.pdf",
	"log": "vaiven log sailings.yaml\nvaiven log sailings.yaml 18\nvaiven log sailings.yaml 18 --at 14:02:10\nvaiven log sailings.yaml 18 --report " +
		"record.pdf\nvaiven log sailings.yaml 18 --verify record.pdf\nvaiven log sailings.yaml --csv",
	"keep":      "vaiven keep sailings.yaml\nvaiven keep sailings.yaml --take-over\nvaiven keep sailings.yaml --unit\nvaiven keep /etc/vaiven --unit\nvaiven keep /etc/vaiven --standby root@pier-1:/etc/vaiven",
	"take-over": "vaiven take-over sailings.yaml\nvaiven take-over sailings.yaml --force\nvaiven take-over /etc/vaiven",
	"front":     "vaiven front sailings.yaml",
	"demo":      "vaiven demo\nvaiven demo --front nginx\nvaiven demo --hands-free --fault errors",
	"version":   "vaiven version --json",
}

// explained gives every command its examples, its completion, and status 2 for arguments that
// it cannot take.
func explained(root *cobra.Command) *cobra.Command {
	for _, cmd := range append(root.Commands(), root) {
		if text, ok := examples[cmd.Name()]; ok {
			cmd.Example = "  " + strings.ReplaceAll(text, "\n", "\n  ")
		}
		if check := cmd.Args; check != nil {
			cmd.Args = func(cmd *cobra.Command, args []string) error {
				err := check(cmd, args)
				if err != nil && statusOf(err) == exitOther {
					return usage("%w (%s --help says what it takes)", err, cmd.CommandPath())
				}
				return err
			}
		}
		if word := strings.Fields(cmd.Use); len(word) > 1 && cmd != root {
			takes := strings.Split(word[1], "|")
			if slices.Contains(takes, "PLAN") || slices.Contains(takes, "FILE") {
				cmd.ValidArgsFunction = completePlan(cmd.Name())
			}
		}
		complete(cmd, "version", completeVersion)
		shares := []string{"blue", "green"}
		if cmd.Name() != "back" {
			shares = append(shares, "5 % on green", "25 % on green", "50 % on green", "75 % on green")
		}
		complete(cmd, "to", cobra.FixedCompletions(shares, cobra.ShellCompDirectiveNoFileComp))
		complete(cmd, "from", cobra.FixedCompletions([]string{"blue", "green"}, cobra.ShellCompDirectiveNoFileComp))
		complete(cmd, "share", func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return []string{"1", "5", "10", "25", "50", "75"}, cobra.ShellCompDirectiveNoFileComp
		})
		complete(cmd, "key", func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return append([]string{"cookie ", "header "}, tryout.Usual...), cobra.ShellCompDirectiveNoFileComp
		})
		complete(cmd, "theme", func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return []string{"dark", "light"}, cobra.ShellCompDirectiveNoFileComp
		})
	}
	return root
}

// notNegative refuses times and counts below zero, which no flag means.
func notNegative(cmd *cobra.Command, _ []string) (err error) {
	cmd.Flags().Visit(func(f *pflag.Flag) {
		switch f.Value.Type() {
		case "duration", "int", "float64":
			if strings.HasPrefix(f.Value.String(), "-") && err == nil {
				err = usage("--%s is not below zero: %s", f.Name, f.Value)
			}
		}
	})
	return err
}

// helpCommand is help on a command; a command that there is not is a mistake.
func helpCommand(root *cobra.Command) *cobra.Command {
	return &cobra.Command{
		Use:   "help [COMMAND]",
		Short: "Help about any command",
		ValidArgsFunction: func(*cobra.Command, []string, string) (names []string, _ cobra.ShellCompDirective) {
			for _, c := range root.Commands() {
				if c.IsAvailableCommand() {
					names = append(names, c.Name()+"\t"+c.Short)
				}
			}
			return names, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			cmd, rest, err := root.Find(args)
			if err != nil || len(rest) > 0 {
				return usage("there is no command %q (vaiven --help lists what there is)", strings.Join(args, " "))
			}
			return cmd.Help()
		},
	}
}

func complete(cmd *cobra.Command, flag string, by cobra.CompletionFunc) {
	if cmd.Flags().Lookup(flag) != nil {
		_ = cmd.RegisterFlagCompletionFunc(flag, by) // fails for flags that are not there
	}
}

// completePlan completes plan files, and behind them what a command takes.
func completePlan(command string) cobra.CompletionFunc {
	return func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		switch {
		case len(args) == 0:
			return []string{"yaml", "yml"}, cobra.ShellCompDirectiveFilterFileExt
		case command == "say" && len(args) == 1:
			var words []string
			for _, a := range sayable() {
				words = append(words, a.Name+"\t"+a.Does)
			}
			return words, cobra.ShellCompDirectiveNoFileComp
		}
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
}

// completeVersion completes the versions that a plan has, the newest first.
func completeVersion(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	const none = cobra.ShellCompDirectiveNoFileComp
	if len(args) == 0 {
		return nil, none
	}
	p, err := planfile.Read(args[0])
	if err != nil {
		return nil, none
	}
	y, err := service.OpenStacks(p, secret.Values{}) // nothing is started here
	if err != nil {
		return nil, none
	}
	defer y.Set.Close()
	offers, err := y.Offers(cmd.Context(), p)
	if err != nil {
		return nil, none
	}
	var names []string
	for n, o := range offers {
		for _, v := range o.Versions {
			name := v.Name
			if n > 0 {
				name = o.Part + "=" + name
			}
			names = append(names, name+"\t"+v.Remark())
		}
	}
	return names, none | cobra.ShellCompDirectiveKeepOrder
}
