package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/charmbracelet/x/term"
	"github.com/coreos/go-systemd/v22/daemon"
	"github.com/spf13/cobra"

	"vaiven/internal/core/plan"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/api"
	"vaiven/internal/keeper/service"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/state"
)

func keepCommand() *cobra.Command {
	var takeOver, force, unit, beside bool
	level := slog.LevelInfo
	cmd := &cobra.Command{
		Use:   "keep PLAN",
		Short: "Run the keeper of a service: the process that its crossings belong to",
		Long: `Runs a service's keeper in the foreground, for systemd and containers: it runs the
crossings, watches the guards, keeps instances up, and writes the logbook. Screens and
commands are its clients; where no keeper runs, those that need one start one beside
the terminal, which ends when nobody needs it any more. This one stays.

SIGTERM ends it: instances and front go on as they are, and its last line says how.
--take-over replaces the keeper that runs by this one, without a time in which nobody
watches; the one that runs goes on if this one does not get ready. With --force also one
that hangs is replaced: its process is ended, and this one goes on from the logbook. --unit prints
a unit file for systemd. Its log is on standard error, JSON where that is no terminal.

Exit status: 0 ended or replaced, 4 there is one already, or what runs cannot be
replaced just now, 2 bad usage or plan, 1 anything else.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := readPlan(args[0])
			if force && !takeOver && err == nil {
				return usage("--force is for --take-over")
			}
			if unit && err == nil {
				return printUnit(cmd, p)
			}
			if beside {
				return keepBeside(cmd, p, level, err)
			}
			if err == nil {
				logTo(cmd, level)
				err = keep(cmd, p, takeOver, force)
			}
			return notAllowed(err)
		},
	}
	cmd.Flags().BoolVar(&takeOver, "take-over", false, "replace the keeper that runs")
	cmd.Flags().BoolVar(&force, "force", false, "with --take-over: end the keeper that runs if it hangs")
	cmd.Flags().BoolVar(&unit, "unit", false, "print a unit file for systemd, and do nothing")
	cmd.Flags().BoolVar(&beside, "beside", false, "as started by another command, which is told at descriptor 3 when "+
		"it is ready")
	cmd.Flags().TextVar(&level, "log", slog.LevelInfo, "what to log at least: debug, info, warn or error")
	_ = cmd.Flags().MarkHidden("beside")
	return cmd
}

// logTo sends the program's own log to standard error.
func logTo(cmd *cobra.Command, level slog.Level) {
	options := &slog.HandlerOptions{Level: level}
	var h slog.Handler = slog.NewJSONHandler(cmd.ErrOrStderr(), options)
	if term.IsTerminal(os.Stderr.Fd()) {
		h = slog.NewTextHandler(cmd.ErrOrStderr(), options)
	}
	slog.SetDefault(slog.New(h))
}

// keep runs a keeper that stays.
func keep(cmd *cobra.Command, p *plan.Plan, takeOver, force bool) error {
	k, err := keeping(cmd, p)
	if err != nil {
		return err
	}
	var m keeper.Memory
	if takeOver {
		if err := fit(cmd.Context(), p, k.Secrets); err != nil {
			return fmt.Errorf("the keeper that runs goes on, this one would not work: %w", err)
		}
		m, err = service.TakeOver(cmd.Context(), p, who())
		if force && errors.Is(err, service.ErrHangs) {
			var ended service.Holder
			if ended, err = service.EndHanging(cmd.Context(), p); err == nil {
				m.Ended = true
				slog.Warn("ended a keeper that hung", "keeper", ended.Text, "still", ended.Still.Round(time.Second))
			}
		}
		switch {
		case errors.Is(err, api.ErrGone), errors.Is(err, fs.ErrNotExist):
			slog.Info("there is no keeper to take over from, or none that answers", "err", err) // its lock says which
		case err != nil:
			return err
		}
	}
	k.Kept = true
	k.Ready = func() { _, _ = daemon.SdNotify(false, daemon.SdNotifyReady) } // where there is no systemd nobody is told
	k.Beat = func() { _, _ = daemon.SdNotify(false, daemon.SdNotifyWatchdog) }
	err = k.Run(cmd.Context(), m)
	_, _ = daemon.SdNotify(false, daemon.SdNotifyStopping)
	return err
}

// fit finds out whether a keeper of the plan would work, before another one is ended for it:
// front and both sides can be read.
func fit(ctx context.Context, p *plan.Plan, secrets secret.Values) error {
	ctx, cancel := context.WithTimeout(ctx, fitLimit)
	defer cancel()
	return service.Fit(ctx, p, secrets)
}

const fitLimit = 15 * time.Second

// keeping is how this program keeps a plan.
func keeping(cmd *cobra.Command, p *plan.Plan) (service.Keep, error) {
	secrets, err := readSecrets(cmd, p)
	return service.Keep{
		Plan: p, Digest: p.Digest, Secrets: secrets, By: who(), Version: versionText().Version,
		EndAfter: service.EndAfter,
	}, err
}

// keepBeside runs a keeper that was started by another command, and tells that when it is ready
// or why it is not.
func keepBeside(cmd *cobra.Command, p *plan.Plan, level slog.Level, err error) error {
	told := os.NewFile(3, "readiness")
	tell := func(r service.Readiness) {
		if told != nil {
			_ = json.NewEncoder(told).Encode(r) // who waited may be gone
			_ = told.Close()
			told = nil
		}
	}
	logTo(cmd, level)
	var k service.Keep
	if err == nil {
		k, err = keeping(cmd, p)
	}
	if err == nil {
		k.Ready = func() { tell(service.Readiness{}) }
		err = k.Run(cmd.Context(), keeper.Memory{})
	}
	if err != nil {
		tell(service.Readiness{Error: err.Error(), Steered: errors.Is(err, service.ErrSteered)})
	}
	return err
}

// printUnit prints a unit file for a plan's keeper.
func printUnit(cmd *cobra.Command, p *plan.Plan) error {
	program, err := os.Executable()
	if err != nil {
		return err
	}
	_, err = fmt.Fprint(cmd.OutOrStdout(), unitText(program, p, unitUser(p)))
	return err
}

// unitUser is the user that a plan's units are for: whose state folder it is, if there is one, else one of its own.
func unitUser(p *plan.Plan) string {
	in, err := state.Visit(p.State)
	if err != nil {
		return "vaiven-" + p.Service
	}
	defer in.Close()
	return in.Owner()
}

// unitGroup is the line of a unit with the group that a plan is shared with, behind the one with the user.
func unitGroup(p *plan.Plan) string {
	if p.People.Socket == "" {
		return ""
	}
	return "\nSupplementaryGroups=" + p.People.Socket
}

// unitText is a unit file that gives the keeper what it needs and no more. What it may write are
// the folder with the plan's state and those of the front's own files; more is added by hand.
func unitText(program string, p *plan.Plan, user string) string {
	folder := quotedForUnit(filepath.Dir(p.State))
	bounded := "CapabilityBoundingSet=\n"
	if user == "root" {
		bounded = "" // it may need them
	}
	return fmt.Sprintf(`# %[1]s: the keeper of a service's crossings.
# It runs as %[4]s, whose the state folder's parent is to be:
#   useradd --system --user-group --shell /usr/sbin/nologin %[4]s
#   install -d -o %[4]s %[5]s
# Put it at /etc/systemd/system/vaiven-%[1]s.service, then:
#   systemctl enable --now vaiven-%[1]s
# What the plan's secrets come from has to be here too, such as
#   EnvironmentFile=/etc/vaiven/%[1]s.env
[Unit]
Description=Keeper of %[1]s (blue and green)
Wants=network-online.target
After=network-online.target

[Service]
Type=notify
ExecStart=%[2]s keep %[3]s
User=%[4]s%[6]s
Restart=always
RestartSec=1
WatchdogSec=30
# Instances outlive the keeper: only the keeper itself is ended with the unit.
KillMode=process
TimeoutStopSec=10

NoNewPrivileges=yes
ProtectSystem=strict
ReadWritePaths=%[5]s
RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6 AF_NETLINK
%[7]s`+confined+`
[Install]
WantedBy=multi-user.target
`, p.Service, quotedForUnit(program), quotedForUnit(p.File), user, folder, unitGroup(p), bounded)
}

// quotedForUnit is a word as systemd.syntax(7) wants it.
func quotedForUnit(word string) string {
	word = strings.ReplaceAll(word, "%", "%%")
	if strings.ContainsAny(word, " \t\"'\\;") {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(word) + `"`
	}
	return word
}

// confined is what every unit that is printed keeps from its process.
const confined = `ProtectKernelTunables=yes
ProtectKernelModules=yes
ProtectKernelLogs=yes
ProtectControlGroups=yes
ProtectClock=yes
ProtectHostname=yes
RestrictRealtime=yes
RestrictSUIDSGID=yes
LockPersonality=yes
SystemCallArchitectures=native
UMask=0077
`
