package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vaiven/internal/keeper/api"
	"vaiven/internal/keeper/remote"
)

// admitted are the commands that run on the keeper's machine for who comes by a key: going home, and looking.
var admitted = []string{"back", "where", "log"}

func admitCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "admit NAME PLAN",
		Short: "Let in over SSH who comes by a key, as the forced command of it",
		Long: `The forced command of a key in the authorized_keys of an account that the plan names as its
gate (people: gate). Whoever comes by that key is NAME to the keeper of PLAN, whatever they
say; the account has to have no other way in:

  restrict,command="vaiven admit marit /etc/vaiven/sailings.yaml" ssh-ed25519 AAAA...

It lets through what Vaiven asks for from another machine, for that plan alone, and runs
where, log and back.`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) != 2 {
				return usage("%s takes a name and a plan file: %s", cmd.CommandPath(), cmd.UseLine())
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			words, err := remote.Words(os.Getenv("SSH_ORIGINAL_COMMAND"))
			if err != nil || len(words) < 2 || words[0] != "vaiven" {
				return usage("this key is for Vaiven alone: vaiven open USER@HOST:%s", args[1])
			}
			return admit(cmd, args[0], args[1], words[1:])
		},
	}
}

// admit does what somebody asks for who came by a key.
func admit(cmd *cobra.Command, name, file string, words []string) error {
	switch verb := words[0]; {
	case verb == remote.Ask[0] && slices.Contains(words, remote.Through):
		return through(cmd, name, file)
	case verb == remote.Ask[0]:
		w, err := reachable(cmd, file, false)
		if err != nil {
			w.Error, w.Status = err.Error(), statusOf(noKeeper(err))
		}
		w.Socket = remote.ByCommand
		return json.NewEncoder(cmd.OutOrStdout()).Encode(w)
	case slices.Contains(admitted, verb):
		at := slices.Index(words, "--") // the plan is behind it
		if at < 0 || at+1 >= len(words) {
			return usage("%s is not understood", verb)
		}
		run := append(slices.Clone(words[:at]), "--", file)
		run = append(run, words[at+2:]...)
		return asSelf(cmd.Context(), run)
	default:
		return &exitError{exitCalledOff, fmt.Errorf("%s is not for who comes by a key: what goes through the keeper is, and %s",
			verb, strings.Join(admitted, ", "))}
	}
}

// asSelf runs this program with other words, and ends as it does.
func asSelf(ctx context.Context, words []string) error {
	program, err := os.Executable()
	if err != nil {
		return err
	}
	run := exec.CommandContext(ctx, program, words...)
	run.Stdin, run.Stdout, run.Stderr = os.Stdin, os.Stdout, os.Stderr
	var exit *exec.ExitError
	if err = run.Run(); errors.As(err, &exit) {
		return &exitError{status: exit.ExitCode()}
	}
	return err
}

// through carries one connection to the plan's keeper, which is told who it is.
func through(cmd *cobra.Command, name, file string) error {
	p, err := readPlan(file)
	if err != nil {
		return err
	}
	r, err := reaching(cmd, p, false, true)
	if err != nil {
		return err
	}
	dial := func(ctx context.Context) (net.Conn, error) { return r.Dial(ctx) }
	return api.Admit(cmd.Context(), os.Stdin, os.Stdout, dial, name)
}
