package main

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"vaiven/internal/core/fleet"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front/all"
	"vaiven/internal/keeper/remote"
	"vaiven/internal/people/headless"
	"vaiven/internal/plan/fleetfile"
	"vaiven/internal/plan/planfile"
	"vaiven/internal/words"
)

func evacuateCommand() *cobra.Command {
	e := headless.Evacuation{By: who()}
	var from string
	var raise bool
	var out output
	cmd := &cobra.Command{
		Use:   "evacuate FLEET|FOLDER|PLAN --from SIDE",
		Short: "Evacuate a side with all services at once, and close it",
		Long: `Sends all requests of all services to the other side, all fronts at the same time, and closes
the side that is evacuated: no guard, crossing or restart sends anything there until vaiven reopen says
so. It tells the fronts and nobody else: no keeper, no machine of that side, nothing is drained or
waited for. The order at each front holds as that of vaiven back does, and keepers that run take
it in. Of each plan it reads where the front is: a mistake elsewhere in the file is no hindrance.

Where nobody stands on the other side, or that is closed itself, the service stays as it is, also with
--force. What stays as well unless --force is said: where the other side has not passed its proof, where
fewer than half as many instances answer there as this side has, and a front that cannot be read. None
waits for another.

Exit status: 0 all are evacuated, 1 some are not, and which is said, 2 bad usage or a wrong file.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			side, err := split.ParseSide(from)
			if err != nil {
				return usage("--from takes blue or green, not %q", from)
			}
			e.From = side
			list, err := servicesAt(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return evacuate(cmd, cmd.OutOrStdout(), list, e, raise && !e.Dry, out)
		},
	}
	cmd.Flags().StringVar(&from, "from", "", "the side to evacuate: blue or green")
	cmd.Flags().StringVar(&e.Why, "why", "", "what to write into the logbooks")
	cmd.Flags().BoolVar(&e.Force, "force", false, "past all but that nobody stands on the other side")
	cmd.Flags().BoolVar(&e.Dry, "dry-run", false, "say which services would go, and do nothing")
	cmd.Flags().BoolVar(&raise, "raise", false, "where nobody stands on the other side, raise the version there that the "+
		"side runs, the most loaded first, and evacuate then")
	cmd.Flags().DurationVar(&e.Within, "within", headless.Within, "how long a front may take to say how it stands")
	cmd.Flags().DurationVar(&e.For, "for", 30*time.Second, "how long to try each front")
	out.lines(cmd, "print JSON, a line for each service")
	return cmd
}

// member is one of several services, by its plan here or on another machine.
type member struct {
	file string
	at   *remote.Address // nil if it is on this machine
	plan *plan.Plan      // with where its front is, and no more
	err  error

	raised bool // its other side was, a moment ago
}

func (m member) name() string {
	if m.plan != nil {
		return m.plan.Service
	}
	return m.file
}

// plansAt are the plan files of a fleet file, those below a folder, or the one of a plan. Some may be on other
// machines.
func plansAt(ctx context.Context, path string) ([]string, error) {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		if _, elsewhere := remote.Parse(path); !elsewhere {
			return nil, usage("there is no file or folder %s", path)
		}
		return []string{path}, nil
	case err != nil:
		return nil, err
	case info.IsDir():
		return plansBelow(ctx, path)
	}
	if is, err := fleetfile.IsFleet(path); err != nil || !is {
		return []string{path}, nil
	}
	f, err := fleetfile.Read(path)
	if err != nil {
		return nil, fmt.Errorf("%w\nnothing was done; the folder with the plans does as well", err)
	}
	var files []string
	for _, m := range f.Members {
		files = append(files, m.Plan)
	}
	return files, nil
}

// servicesAt are the services of a path, as [plansAt] has them, with where their fronts are.
func servicesAt(ctx context.Context, path string) ([]member, error) {
	files, err := plansAt(ctx, path)
	if err != nil {
		return nil, err
	}
	var list []member
	for _, file := range files {
		m := member{file: file}
		if at, elsewhere := remote.Parse(file); elsewhere {
			m.at = &at
		} else {
			m.plan, m.err = planfile.ReadFront(file)
		}
		list = append(list, m)
	}
	return list, nil
}

// evacuating is a side that is being evacuated with many services.
type evacuating struct {
	headless.Evacuation
	cmd   *cobra.Command
	to    io.Writer
	out   output
	raise bool // where nobody stands on the other side

	mu     sync.Mutex // protects what follows, and what is printed
	gone   int
	stay   []string
	nobody []stranded
	failed []error
}

// stranded is a service of which nobody stands on the other side.
type stranded struct {
	member
	is headless.Evacuated
}

// standKnown is when it is known of all services whether somebody stands on their other side, but of those whose front
// does not answer.
const standKnown = 2 * time.Second

// evacuate evacuates a side with all services at the same time, and says of each what came of it when it has.
func evacuate(cmd *cobra.Command, to io.Writer, list []member, e headless.Evacuation, raise bool, out output) error {
	l := &evacuating{Evacuation: e, cmd: cmd, to: to, out: out, raise: raise}
	begun := time.Now()
	done := make(chan struct{})
	go func() {
		defer close(done)
		var services sync.WaitGroup
		for _, m := range list {
			services.Go(func() { l.evacuate(m) })
		}
		services.Wait()
	}()
	select {
	case <-done:
	case <-time.After(standKnown): // those that are tried for longer hold up nobody's raising
	}
	l.raiseOthers()
	<-done
	l.raiseOthers()
	if !out.json {
		verb := "evacuated from " + e.From.String() + ", which is closed"
		if e.Dry {
			verb = "would be evacuated from " + e.From.String()
		}
		fmt.Fprintf(to, "%d of %d %s, after %s\n", l.gone, len(list), verb,
			words.Milliseconds(time.Since(begun)))
	}
	if err := errors.Join(l.failed...); err != nil || len(l.stay) == 0 {
		return err
	}
	slices.Sort(l.stay)
	return fmt.Errorf("not evacuated: %s", strings.Join(l.stay, ", "))
}

// evacuate evacuates the side with one service.
func (l *evacuating) evacuate(m member) {
	ctx := l.cmd.Context()
	switch {
	case m.err != nil:
		l.say(m, headless.Evacuated{Service: m.name(), From: l.From, Bar: fleet.Unreachable, Said: m.err.Error()})
		return
	case m.at != nil:
		l.say(m, evacuateThere(ctx, m, l.Evacuation))
		return
	}
	f := all.Open(m.plan)
	r := l.Evacuate(ctx, m.plan, f, func(error) {})
	if r.Bar == fleet.Nobody && l.raise && !m.raised {
		l.mu.Lock()
		l.nobody = append(l.nobody, stranded{m, r})
		l.mu.Unlock()
		return
	}
	l.say(m, r)
	marks := slices.ContainsFunc(m.plan.Fronts(), func(f plan.Front) bool { return f.Settings.Marks() })
	if !r.Gone || !marks {
		return
	}
	if err := l.Hold(ctx, f, r); err != nil {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.failed = append(l.failed, fmt.Errorf("%s is evacuated, and its front not watched any more: %w", m.name(), err))
	}
}

// say says what came of it with one service.
func (l *evacuating) say(m member, r headless.Evacuated) {
	goes := r.Gone || l.Dry && (r.Bar == fleet.Clear || r.Forced)
	mark := "·"
	if !goes {
		mark = "▲"
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if goes {
		l.gone++
	} else {
		l.stay = append(l.stay, m.name())
	}
	err := l.out.print(l.to, l.From.Other(), r, func(w io.Writer) error {
		_, err := fmt.Fprintf(w, "%s %-16s %s\n", mark, cmp.Or(r.Service, m.file), evacuatedText(r, l.Evacuation))
		return err
	})
	if err != nil {
		l.failed = append(l.failed, err)
	}
}

// raisedAtOnce is how many sides are raised at the same time.
const raisedAtOnce = 8

// raiseOthers raises the other side of the services of which nobody stands there, at the version that they run, the
// most loaded first, and evacuates each that stands then.
func (l *evacuating) raiseOthers() {
	l.mu.Lock()
	list := l.nobody
	l.nobody = nil
	l.mu.Unlock()
	slices.SortStableFunc(list, func(a, b stranded) int { return cmp.Compare(b.is.Load, a.is.Load) })
	var raising errgroup.Group
	raising.SetLimit(raisedAtOnce)
	for _, s := range list {
		raising.Go(func() error {
			fmt.Fprintf(l.cmd.ErrOrStderr(), "vaiven: raises %v of %s at %s\n", l.From.Other(), s.name(), s.is.Version)
			o := headless.RaiseOptions{Version: s.is.Version, SameBuild: true, By: who(), TakeWheel: true,
				Why: l.From.String() + " is evacuated"}
			err := withKeeper(l.cmd, s.file, func(ctx context.Context, k *kept) error {
				o.As = k.asOf()
				_, _, err := headless.Raise(ctx, k, o, func([]reading.Condition) {})
				return err
			})
			if err == nil {
				s.raised = true
				l.evacuate(s.member)
				return nil
			}
			s.is.Said = "it was not raised: " + err.Error()
			l.say(s.member, s.is)
			return nil
		})
	}
	_ = raising.Wait() // each has said its own
}

// thereLimit is how long another machine may take beside what its front may.
const thereLimit = 10 * time.Second

// evacuateThere evacuates a side with a service whose plan is on another machine, by Vaiven there.
func evacuateThere(ctx context.Context, m member, e headless.Evacuation) headless.Evacuated {
	r := headless.Evacuated{Service: m.file, From: e.From, Bar: fleet.Unreachable}
	ctx, cancel := context.WithTimeout(ctx, e.For+thereLimit)
	defer cancel()
	c, err := remote.Connect(ctx, *m.at)
	if err != nil {
		r.Said = err.Error()
		return r
	}
	defer c.Close()
	line := []string{"evacuate", "--from=" + e.From.String(), "--why=" + e.Why, "--for=" + e.For.String(),
		"--within=" + e.Within.String(),
		fmt.Sprintf("--force=%t", e.Force), fmt.Sprintf("--dry-run=%t", e.Dry), "--json", "--", m.at.Plan}
	var said, wrong strings.Builder
	if _, err = c.Run(ctx, line, nil, &said, &wrong); err != nil {
		r.Said = err.Error()
		return r
	}
	var there struct { // as that is printed
		Service, Said string
		Gone, Forced  bool
		Bar           fleet.Bar
		Took          float64
		Stand         fleet.Stand
	}
	if json.Unmarshal([]byte(said.String()), &there) != nil {
		r.Said = strings.TrimSpace(wrong.String())
		return r
	}
	r.Service, r.Said, r.Gone, r.Forced = there.Service, there.Said, there.Gone, there.Forced
	r.Bar, r.Took, r.Stand = there.Bar, there.Took, there.Stand
	return r
}

// evacuatedText is what came of evacuating a side with one service.
func evacuatedText(r headless.Evacuated, e headless.Evacuation) string {
	to := r.From.Other()
	text := ""
	switch r.Bar {
	case fleet.Nobody:
		text = fmt.Sprintf("stays: nobody stands on %v; raise it there first", to)
	case fleet.Shut:
		text = fmt.Sprintf("stays: %v is closed itself", to)
	case fleet.Unproven:
		text = fmt.Sprintf("%v has not passed its proof", to)
	case fleet.Few:
		text = fmt.Sprintf("%d of %d instances of %v answer, and %v has %d", r.Stand.Answer, r.Stand.Instances, to, r.From,
			r.Stand.Beside)
	case fleet.Unreachable:
		text = "the front cannot be read"
	}
	switch {
	case r.Gone && text != "":
		text = "forced: " + text
	case r.Gone && r.Had == 0:
		text = "was on " + to.String() + " before"
	case r.Gone:
		text = ""
	case e.Dry && r.Bar == fleet.Clear:
		return fmt.Sprintf("would go to %v, %v of the requests", to, r.Had)
	case r.Bar.Forced() && r.Bar != fleet.Clear && !r.Forced:
		text = "stays: " + text + " (--force goes past that)"
	}
	if r.Gone {
		done := fmt.Sprintf("all requests go to %v, in %s", to,
			words.Milliseconds(time.Duration(r.Took*float64(time.Second))))
		if !r.Until.IsZero() && r.Until.After(time.Now()) {
			done += ", for all who ask by " + r.Until.Local().Format("15:04:05")
		}
		return strings.TrimSuffix(done+"; "+text, "; ")
	}
	if r.Said != "" {
		said, _, _ := strings.Cut(r.Said, "\n")
		text = strings.TrimPrefix(text+": "+said, ": ")
	}
	return text
}

func reopenCommand() *cobra.Command {
	var why string
	cmd := &cobra.Command{
		Use:   "reopen FLEET|FOLDER|PLAN",
		Short: "Open the side again that was evacuated",
		Long: `Opens the side again that vaiven evacuate has closed, of all services. It moves no requests:
crossings go there again, as to any spare side.

Exit status: 0 none is closed any more, 1 some are, and which is said, 2 bad usage or a wrong file.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			list, err := servicesAt(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			var mu sync.Mutex // protects failed, and what is printed
			var failed []error
			var services sync.WaitGroup
			for _, m := range list {
				services.Go(func() {
					text, err := reopen(cmd.Context(), m, why)
					mu.Lock()
					defer mu.Unlock()
					if err != nil {
						failed = append(failed, fmt.Errorf("%s: %w", m.name(), err))
						return
					}
					fmt.Fprintf(cmd.OutOrStdout(), "· %-16s %s\n", m.name(), text)
				})
			}
			services.Wait()
			return errors.Join(failed...)
		},
	}
	cmd.Flags().StringVar(&why, "why", "", "what to write into the logbooks")
	return cmd
}

// reopen opens one service's side again.
func reopen(ctx context.Context, m member, why string) (text string, err error) {
	if m.err != nil {
		return "", m.err
	}
	if m.at != nil {
		c, err := remote.Connect(ctx, *m.at)
		if err != nil {
			return "", err
		}
		defer c.Close()
		var said, wrong strings.Builder
		status, err := c.Run(ctx, []string{"reopen", "--why=" + why, "--", m.at.Plan}, nil, &said, &wrong)
		if err == nil && status != exitDone {
			err = errors.New(strings.TrimSpace(wrong.String()))
		}
		_, text, _ = strings.Cut(strings.TrimPrefix(strings.TrimSpace(said.String()), "· "), " ")
		return strings.TrimSpace(text), err
	}
	var o reading.Order
	o, was, err := headless.Reopen(ctx, all.Open(m.plan), who(), why)
	switch {
	case err != nil:
		return "", err
	case !was:
		return "no side is closed", nil
	}
	return fmt.Sprintf("%v is open again; all requests go to %v", o.Side.Other(), o.Side), nil
}
