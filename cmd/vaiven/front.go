package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/coreos/go-systemd/v22/activation"
	"github.com/coreos/go-systemd/v22/daemon"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/front/embedded"
	"vaiven/internal/front/held"
	"vaiven/internal/keeper/service"
	"vaiven/internal/people/headless"
	"vaiven/internal/proving/prober"
	"vaiven/internal/words"
	"vaiven/internal/world/state"
)

func frontCommand() *cobra.Command {
	var try, takeOver, detach, unit bool
	var grace time.Duration
	level := slog.LevelInfo
	cmd := &cobra.Command{
		Use:   "front PLAN",
		Short: "Run the embedded front of a plan, or prepare another one",
		Long: `Runs the reverse proxy that splits requests between blue and green, in the
foreground. It is a process of its own, so that traffic outlives everything else:
run it under whatever keeps your services running. Its split survives a restart.
Its log is on standard error, JSON where that is no terminal: what was refused and why,
once a minute, and certificates that expire or cannot be loaded.

With --take-over it replaces the front that runs, without a refused connection: it gets
the listeners, the split, the counts and the sessions; the old process finishes its
requests and tunnels within --grace and follows every change until then. If the new
process dies meanwhile, the old one serves again. --detach starts the front in the
background, and returns when it serves. --unit prints unit files for systemd; listeners
that systemd opened are used.

For a front that includes a file of Vaiven's, it writes that file if there is none
yet, with all requests on blue, so that the proxy can be started; for every other
front it says what its configuration needs. Neither runs anything. What it writes and
prints has the instances that serve in it.

With --try a front that serves is held to what every front promises, as far as that harms
nobody: between 0 and 1 % on green, with requests of Vaiven's own on the way. Nothing may be
crossing, everything has to be on blue, and green has to stand.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := readPlan(args[0])
			if err != nil {
				return err
			}
			switch {
			case try:
				return tryFront(cmd, p)
			case unit:
				return printFrontUnits(cmd, p)
			}
			at := slices.IndexFunc(p.Fronts(), func(f plan.Front) bool { return f.Kind() == embedded.Kind.Name })
			if at < 0 || len(p.Beside) > 0 {
				for _, f := range p.Fronts() {
					if err := prepare(cmd.Context(), cmd.OutOrStdout(), p, f); err != nil {
						return err
					}
				}
			}
			if at < 0 {
				return nil
			}
			if detach {
				return startFront(cmd, p)
			}
			in, err := state.Open(p.State)
			if err != nil {
				return err
			}
			defer in.Close()
			if _, err := service.Admit(in, p); err != nil {
				return err
			}
			logTo(cmd, level)
			log.SetOutput(io.Discard) // the library quotes what instances send unasked: it may be anybody's
			c, err := frontConfig(p, p.Fronts()[at])
			if err != nil {
				return err
			}
			c.TakeOver, c.Grace = takeOver, grace
			if c.Inherited, err = activation.Listeners(); err != nil {
				return fmt.Errorf("listeners that systemd opened: %w", err)
			}
			return runFront(cmd, p, c)
		},
	}
	cmd.Flags().BoolVar(&try, "try", false, "hold a front that serves to what every front promises")
	cmd.Flags().BoolVar(&takeOver, "take-over", false, "replace the front that runs, without a refused connection")
	cmd.Flags().DurationVar(&grace, "grace", 10*time.Minute, "with --take-over, how long the old process may take to "+
		"finish its requests and tunnels")
	cmd.Flags().BoolVar(&detach, "detach", false, "start it in the background, and return when it serves")
	cmd.Flags().BoolVar(&unit, "unit", false, "print unit files for systemd, and do nothing")
	cmd.Flags().TextVar(&level, "log", slog.LevelInfo, "what to log at least: debug, info, warn or error")
	return cmd
}

// runFront runs the embedded front until it is stopped or replaced.
func runFront(cmd *cobra.Command, p *plan.Plan, c embedded.Config) error {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(frontGC)
	}
	wanted := c.Connections
	srv, err := embedded.NewServer(c)
	if err != nil {
		return err
	}
	var said strings.Builder
	fmt.Fprintf(&said, "front of %s listens on %s, admin socket %s\n", p.Service, srv.Address(), p.Socket())
	switch pid := srv.Replaces(); {
	case pid > 0:
		fmt.Fprintf(&said, "it replaces process %d, which finishes its requests and tunnels within %v\n", pid, c.Grace)
	case c.TakeOver:
		fmt.Fprintln(&said, "no front was running: nothing to take over")
	}
	if at := srv.SpareAddress(); at != "" {
		fmt.Fprintf(&said, "the spare side's own door is %s\n", at)
	}
	if c.Spare.Asks() {
		fmt.Fprintf(&said, "the secret of the spare side's own door is in %s\n", p.SpareSecret())
	}
	if room := srv.Connections(); room < wanted*9/10 {
		fmt.Fprintf(&said, "there are descriptors for %d connections of clients, and the plan wants %d: raise the "+
			"limit of open files (ulimit -n)\n", room, wanted)
	}
	fmt.Fprint(cmd.OutOrStdout(), said.String())
	// Where there is no systemd nobody is told.
	_, _ = daemon.SdNotify(false, daemon.SdNotifyReady+fmt.Sprintf("\nMAINPID=%d", os.Getpid()))
	if os.Getenv(startedBy) != "" { // nor who started it, where nobody waits
		ready := os.NewFile(3, "readiness")
		_, _ = io.WriteString(ready, said.String())
		_ = ready.Close()
	}
	err = srv.Run(cmd.Context())
	_, _ = daemon.SdNotify(false, daemon.SdNotifyStopping)
	return err
}

// startedBy is the variable by which a front knows that somebody waits at descriptor 3 until it serves.
const startedBy = "VAIVEN_FRONT_READY"

// frontLog is where a front that was started in the background logs, in the state folder.
const frontLog = "front.log"

// startFront starts the same command in a session of its own, and waits until it serves. What it logs goes
// to a file; under systemd to the journal, as what this command says does.
func startFront(cmd *cobra.Command, p *plan.Plan) error {
	program, err := os.Executable()
	if err != nil {
		return err
	}
	args := []string{"front", p.File}
	cmd.Flags().Visit(func(f *pflag.Flag) {
		if f.Name != "detach" {
			args = append(args, "--"+f.Name+"="+f.Value.String())
		}
	})
	wait, told, err := os.Pipe()
	if err != nil {
		return err
	}
	defer wait.Close()
	child := exec.Command(program, args...) // it outlives this one, and its context
	child.Stdout, child.Stderr, child.ExtraFiles = os.Stdout, os.Stderr, []*os.File{told}
	at := "the journal"
	if os.Getenv("JOURNAL_STREAM") == "" {
		in, err := state.Open(p.State)
		if err != nil {
			return err
		}
		defer in.Close()
		log, err := in.OpenFile(frontLog, os.O_CREATE|os.O_APPEND|os.O_WRONLY)
		if err != nil {
			return err
		}
		defer log.Close()
		at, child.Stdout, child.Stderr = in.Path(frontLog), log, log
	}
	child.Env = append(os.Environ(), startedBy+"=yes")
	child.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	err = child.Start()
	_ = told.Close()
	if err != nil {
		return err
	}
	if said, _ := io.ReadAll(wait); len(said) > 0 {
		fmt.Fprintf(cmd.OutOrStdout(), "%sprocess %d serves; it logs to %s\n", said, child.Process.Pid, at)
		return child.Process.Release()
	}
	err = child.Wait()
	return fmt.Errorf("the front did not start (%w): %s says why", err, at)
}

// printFrontUnits prints unit files for a plan's embedded front.
func printFrontUnits(cmd *cobra.Command, p *plan.Plan) error {
	at := slices.IndexFunc(p.Fronts(), func(f plan.Front) bool { return f.Kind() == embedded.Kind.Name })
	if at < 0 {
		return usage("the plan has no front that Vaiven runs: its proxy has units of its own")
	}
	program, err := os.Executable()
	if err != nil {
		return err
	}
	_, err = fmt.Fprint(cmd.OutOrStdout(), frontUnits(program, p, p.Fronts()[at], unitUser(p)))
	return err
}

// frontUnits are a socket's unit and a service's. The socket stays open while the service is started anew, and a
// reload replaces the process without an outage.
func frontUnits(program string, p *plan.Plan, f plan.Front, user string) string {
	doors := "ListenStream=" + f.Listen
	if f.Spare.Listen != "" {
		doors += "\nListenStream=" + f.Spare.Listen
	}
	return fmt.Sprintf(`# %[1]s: the front that requests arrive at, in two files.
# Put them at the places that they name, then:
#   systemctl enable --now vaiven-front-%[1]s.socket vaiven-front-%[1]s.service
# A new version of the program, or a changed plan, without an outage:
#   systemctl reload vaiven-front-%[1]s

# /etc/systemd/system/vaiven-front-%[1]s.socket
[Unit]
Description=Where requests to %[1]s arrive

[Socket]
%[6]s
Backlog=4096

[Install]
WantedBy=sockets.target

# /etc/systemd/system/vaiven-front-%[1]s.service
[Unit]
Description=Front of %[1]s (blue and green)
Requires=vaiven-front-%[1]s.socket
After=network-online.target

[Service]
Type=notify
# The process that takes over tells systemd that it is the main one now.
NotifyAccess=all
ExecStart=%[2]s front %[3]s
ExecReload=%[2]s front %[3]s --take-over --detach
User=%[4]s%[7]s
Restart=always
RestartSec=1
LimitNOFILE=65536
TimeoutStopSec=15

NoNewPrivileges=yes
ProtectSystem=strict
ReadWritePaths=%[5]s
RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6
`+confined+`
[Install]
WantedBy=multi-user.target
`, p.Service, quotedForUnit(program), quotedForUnit(p.File), user, quotedForUnit(filepath.Dir(p.State)), doors, unitGroup(p))
}

// whole reports whether a front of a plan moves all requests at once.
func whole(p *plan.Plan) bool {
	return slices.ContainsFunc(p.Fronts(), func(f plan.Front) bool {
		w, ok := f.Settings.(plan.Whole)
		return ok && w.Whole() != nil
	})
}

// tryFront holds a plan's front to the rules, as the only one that steers it.
func tryFront(cmd *cobra.Command, p *plan.Plan) error {
	in, err := state.Open(p.State)
	if err != nil {
		return err
	}
	defer in.Close()
	unlock, err := service.Lock(in, who())
	if err != nil {
		return err
	}
	defer func() { _ = unlock() }()
	if _, _, err := headless.NewAsker(cmd.Context(), p); err != nil { // nothing is tried on what cannot be read
		return err
	}
	asks := func(ctx context.Context) (int64, string) {
		asker, _, err := headless.NewAsker(ctx, p)
		if err != nil {
			return 1, err.Error()
		}
		asker.Send(ctx, prober.Sending{Requests: 50, Per: 2 * time.Millisecond, Clients: 5})
		d := asker.Report(time.Now())
		last := ""
		if n := len(d.Bad); n > 0 {
			last = d.Bad[n-1].Why
		}
		return d.Failing + d.Lost, last
	}
	results, err := held.Try(cmd.Context(), func() front.Driver { return all.Open(p) }, asks, whole(p))
	failed := 0
	for _, r := range results {
		mark := "✓"
		if r.Untried {
			fmt.Fprintf(cmd.OutOrStdout(), "○ %-52s %8s\n", r.Rule, "not tried: requests move all at once")
			continue
		}
		if r.Err != nil {
			mark = "✗"
			failed++
		}
		fmt.Fprintf(cmd.OutOrStdout(), "%s %-52s %8s\n", mark, r.Rule, words.Milliseconds(r.Took))
		if r.Err != nil {
			fmt.Fprintf(cmd.OutOrStdout(), "  the promise: %s\n  %v\n", r.Promise, r.Err)
		}
	}
	switch {
	case errors.Is(err, held.ErrNotNow):
		return notAllowed(err)
	case err != nil:
		return err
	case failed > 0:
		return fmt.Errorf("%d of %d rules do not hold", failed, len(results))
	}
	return nil
}

// frontGC is how much the front's memory may grow between two collections, in percent of what
// is in use: that is little, and collecting it less often leaves more for requests.
const frontGC = 300

// prepare makes what a front needs to be started with, and says what else it needs.
func prepare(ctx context.Context, w io.Writer, p *plan.Plan, f plan.Front) error {
	driver := all.One(p, f)
	standing := whoServes(ctx, p, driver)
	there := len(standing[split.Blue]) + len(standing[split.Green])
	if f.Spare.Asks() {
		in, err := state.Open(p.State) // where its secret is
		if err != nil {
			return err
		}
		defer in.Close()
		defer fmt.Fprintf(w, "the secret of the spare side's own door is in %s from the first instances on\n",
			f.Spare.File)
	}
	if d, ok := front.Can[front.Preparer](driver); ok {
		made, err := d.Prepare(ctx, standing)
		if err != nil {
			return fmt.Errorf("%s: %w", f.Name(), err)
		}
		if made {
			live := standing.Live()
			fmt.Fprintf(w, "%s: made what it takes to steer it, with all requests on %v, which has %d instances\n",
				f.Name(), live, len(standing[live]))
		}
	}
	whole := false
	if d, ok := front.Can[front.Lacker](driver); ok {
		list, err := d.Lacks(ctx)
		if err != nil {
			fmt.Fprintf(w, "%s: what its configuration has could not be read: %v\n", f.Name(), err)
		}
		whole = err == nil && len(list) == 0
		for _, lack := range list {
			fmt.Fprintf(w, "%s: its configuration lacks %s\n", f.Name(), lack)
		}
	}
	if config := all.Of(f).Config; whole {
		fmt.Fprintf(w, "%s: all is there\n", f.Name())
	} else if config != nil {
		fmt.Fprintf(w, "%s needs in its configuration:\n\n%s\n", f.Name(),
			config(p.Service, f, front.Site{Standing: standing, Members: members(p)}).Text)
	}
	if there == 0 {
		fmt.Fprintf(w, "%s: no instance of either side is there. A proxy that serves would have nobody to send "+
			"requests to: say in the plan what stands (\"stands\"), or raise a side first\n", f.Name())
	}
	return nil
}

// whoServes are the instances that are there, by side, with the names that the front has for them where it can be
// asked.
func whoServes(ctx context.Context, p *plan.Plan, d front.Driver) (sides front.Known) {
	listed := map[string]reading.Server{}
	for _, side := range split.Sides {
		limited, cancel := context.WithTimeout(ctx, 3*time.Second)
		list, _ := front.Listed(limited, d, side) // it may not be Vaiven's yet
		cancel()
		for _, i := range list {
			listed[i.Address] = i
		}
	}
	for _, i := range headless.WhoStands(ctx, p) {
		if !i.Running {
			continue
		}
		s := reading.Server{Name: i.Name, Address: i.Address, Version: i.Version}
		if l, ok := listed[i.Address]; ok {
			s.Name = l.Name
		}
		sides[i.Side] = append(sides[i.Side], s)
	}
	for _, side := range split.Sides {
		slices.SortFunc(sides[side],
			func(a, b reading.Server) int { return cmp.Or(len(a.Name)-len(b.Name), strings.Compare(a.Name, b.Name)) })
	}
	return sides
}

// members are the addresses that instances of a plan may be given, where they are few.
func members(p *plan.Plan) []string {
	const most = 200
	var list []string
	for _, s := range p.Main().Stacks {
		if here := s.Kind() == plan.Processes || s.Kind() == plan.Containers && s.Network == "host"; !here {
			continue
		}
		for port := s.FirstPort; port <= s.LastPort && len(list) < most; port++ {
			if address := net.JoinHostPort("127.0.0.1", strconv.Itoa(port)); !slices.Contains(list, address) {
				list = append(list, address)
			}
		}
	}
	return list
}

func frontConfig(p *plan.Plan, f plan.Front) (embedded.Config, error) {
	secret, err := prober.Secret(p.Secret())
	home, group := "", -1
	if err == nil && p.People.Socket != "" {
		home = p.HomeSocket()
		group, err = service.GroupOf(p)
	}
	return embedded.Config{
		HomeSocket: home, HomeGroup: group, Home: func() (split.Side, bool) { return service.HomeOf(p) },
		Listen: f.Listen, Socket: p.Socket(), State: p.FrontState(), Key: f.Key, Sticky: f.Sticky, Service: p.Service,
		Secret: []byte(secret),
		Spare:  f.Spare, Settings: *f.Settings.(*embedded.Settings),
	}, err
}
