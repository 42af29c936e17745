package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/charmbracelet/x/term"
	"github.com/coreos/go-systemd/v22/daemon"
	"github.com/spf13/cobra"

	"vaiven/internal/core/plan"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/api"
	"vaiven/internal/keeper/service"
	"vaiven/internal/keeper/several"
	"vaiven/internal/people/headless"
	"vaiven/internal/world/state"
)

func keepCommand() *cobra.Command {
	var takeOver, force, unit, beside bool
	var follows string
	var after time.Duration
	level := slog.LevelInfo
	cmd := &cobra.Command{
		Use:   "keep PLAN|FOLDER",
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

--standby USER@HOST:PLAN stands by in place of that: it follows the keeper of that plan and takes down its
logbook, and takes over when vaiven take-over says so; with --after also by itself, when it has not heard of that
keeper for so long. vaiven plan says what of a plan one machine alone has: with any of that there is no standby.

Of a folder it runs the keepers of all plans below it, a process each, as the user whose plan it is,
with what stands in NAME.env beside NAME.yaml as its environment. It starts, replaces and ends them as
plans appear, change and are gone, and starts one again that ends, after a pause; it replaces one that
hangs, or that takes more than 1 GiB. They go on when it is killed, and it finds them again.
With --standby USER@HOST:FOLDER it runs standbys of the keepers of that folder's plans, by their names in it.

Exit status: 0 ended or replaced, 4 there is one already, another one has taken over, or what runs
cannot be replaced just now, 2 bad usage or plan, 1 anything else.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			if isFolder(args[0]) {
				if takeOver || force || beside {
					return usage("of a folder, keepers are replaced by themselves: --take-over is for one plan")
				}
				if after > 0 && follows == "" {
					return usage("--after is for --standby")
				}
				return keepAll(cmd, &several.Keepers{Dir: args[0], Level: level, Standby: follows, After: after}, unit)
			}
			p, err := readPlan(args[0])
			if force && !takeOver && err == nil {
				return usage("--force is for --take-over")
			}
			if after > 0 && follows == "" || follows != "" && (takeOver || beside) {
				return usage("--after is for --standby, and --standby is not for --take-over")
			}
			if unit && err == nil {
				return printUnit(cmd, p, standbyWords(follows, after))
			}
			if beside {
				return keepBeside(cmd, p, level, err)
			}
			if err == nil {
				logTo(cmd, level)
				if follows != "" {
					err = standBy(cmd, p, follows, after)
				} else {
					err = keep(cmd, p, takeOver, force)
				}
			}
			return notAllowed(err)
		},
	}
	cmd.Flags().BoolVar(&takeOver, "take-over", false, "replace the keeper that runs")
	cmd.Flags().BoolVar(&force, "force", false, "with --take-over: end the keeper that runs if it hangs")
	cmd.Flags().StringVar(&follows, "standby", "",
		"follow the keeper of this plan, USER@HOST:PLAN, and take over when told to")
	cmd.Flags().DurationVar(&after, "after", 0,
		"with --standby: take over by itself when that keeper is gone for so long")
	cmd.Flags().BoolVar(&unit, "unit", false, "print a unit file for systemd, and do nothing")
	cmd.Flags().BoolVar(&beside, "beside", false, "as started by another command, which is told at descriptor 3 when "+
		"it is ready")
	cmd.Flags().TextVar(&level, "log", slog.LevelInfo, "what to log at least: debug, info, warn or error")
	_ = cmd.Flags().MarkHidden("beside")
	return cmd
}

// logTo sends the program's own log to standard error. That nobody reads it any more is no reason to end.
func logTo(cmd *cobra.Command, level slog.Level) {
	signal.Notify(make(chan os.Signal, 1), syscall.SIGPIPE) // and not ignored, which all that is started would inherit
	options := &slog.HandlerOptions{Level: level}
	var h slog.Handler = slog.NewJSONHandler(cmd.ErrOrStderr(), options)
	if term.IsTerminal(os.Stderr.Fd()) {
		h = slog.NewTextHandler(cmd.ErrOrStderr(), options)
	}
	slog.SetDefault(slog.New(h))
}

// keepAll runs the keepers of all plans below a folder, or their standbys.
func keepAll(cmd *cobra.Command, k *several.Keepers, unit bool) (err error) {
	if k.Program, err = os.Executable(); err != nil {
		return err
	}
	if k.Dir, err = filepath.Abs(k.Dir); err != nil {
		return err
	}
	if err := mayFollow(k); err != nil {
		return err
	}
	if unit {
		words := append([]string{quotedForUnit(k.Dir)}, standbyWords(k.Standby, k.After)...)
		_, err = fmt.Fprintf(cmd.OutOrStdout(), unitOfAll, quotedForUnit(k.Program), k.Dir, unitNameOf(k.Dir),
			strings.Join(words, " "))
		return err
	}
	logTo(cmd, k.Level)
	told := false
	k.Every = several.LookEvery
	k.UnderWay = func(ctx context.Context, p *plan.Plan) bool {
		r, err := reaching(cmd, p, false, true)
		if err != nil {
			return false
		}
		s := headless.AtKeeper(ctx, r)
		return s != nil && s.Crossing.Stage.UnderWay()
	}
	k.Looked = func() {
		if !told {
			_, _ = daemon.SdNotify(false, daemon.SdNotifyReady) // where there is no systemd nobody is told
			told = true
		}
		_, _ = daemon.SdNotify(false, daemon.SdNotifyWatchdog)
	}
	err = k.Run(cmd.Context())
	_, _ = daemon.SdNotify(false, daemon.SdNotifyStopping)
	if errors.Is(err, several.ErrKept) {
		return &exitError{exitCalledOff, err}
	}
	return err
}

// unitNameOf is what a unit for a folder is called.
func unitNameOf(dir string) string {
	name := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-' {
			return r
		}
		return '-'
	}, strings.ToLower(filepath.Base(dir)))
	return "vaiven-" + strings.Trim(name, "-")
}

// unitOfAll is a unit file for the keepers of a folder: as root, which each plan's user is made of.
const unitOfAll = `# The keepers of all plans below a folder, a process each, as the user whose plan it is.
# Put it at /etc/systemd/system/%[3]s.service, then:
#   systemctl enable --now %[3]s
# What a plan's secrets come from stands in NAME.env beside NAME.yaml.
[Unit]
Description=Keepers of the plans below %[2]s (blue and green)
Wants=network-online.target
After=network-online.target

[Service]
Type=notify
ExecStart=%[1]s keep %[4]s
Restart=always
RestartSec=1
WatchdogSec=30
# It ends its keepers itself; instances outlive them, and keepers outlive it where it is killed.
KillMode=process
TimeoutStopSec=20
# One that takes too much memory is no reason to end the others.
OOMPolicy=continue

[Install]
WantedBy=multi-user.target
`

// keep runs a keeper that stays.
func keep(cmd *cobra.Command, p *plan.Plan, takeOver, force bool) error {
	k, err := keeping(cmd, p)
	if err != nil {
		return err
	}
	var m keeper.Memory
	if takeOver {
		if err := service.Fit(cmd.Context(), p, k.Secrets); err != nil {
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
			m.Ended = true
		case err != nil:
			return err
		}
	}
	return stay(cmd, k, m)
}

// stay keeps until it is ended or replaced.
func stay(cmd *cobra.Command, k service.Keep, m keeper.Memory) error {
	k.Kept = true
	k.Ready = func() { _, _ = daemon.SdNotify(false, daemon.SdNotifyReady) } // where there is no systemd nobody is told
	k.Beat = func() { _, _ = daemon.SdNotify(false, daemon.SdNotifyWatchdog) }
	err := k.Run(cmd.Context(), m)
	_, _ = daemon.SdNotify(false, daemon.SdNotifyStopping)
	return err
}

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

// printUnit prints a unit file for a plan's keeper, or its standby.
func printUnit(cmd *cobra.Command, p *plan.Plan, flags []string) error {
	program, err := os.Executable()
	if err != nil {
		return err
	}
	_, err = fmt.Fprint(cmd.OutOrStdout(), unitText(program, p, unitUser(p), flags...))
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
func unitText(program string, p *plan.Plan, user string, flags ...string) string {
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
ExecStart=%[2]s keep %[3]s%[8]s
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
`, p.Service, quotedForUnit(program), quotedForUnit(p.File), user, folder, unitGroup(p), bounded, strings.Join(append([]string{""}, flags...), " "))
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
