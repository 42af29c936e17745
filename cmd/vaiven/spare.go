package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/difference"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front/all"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/api"
	"vaiven/internal/keeper/service"
	"vaiven/internal/people/headless"
	"vaiven/internal/proving/prove"
	"vaiven/internal/words"
	"vaiven/internal/world/secret"
)

// versionFlag adds --version, which may stand once for the service and once for each
// part with versions of its own.
func versionFlag(cmd *cobra.Command, to *[]string) {
	cmd.Flags().StringArrayVar(to, "version", nil, "the version to go to; PART=VERSION for a part with versions of "+
		"its own")
}

// chosen reads what --version says.
func chosen(flags []string) (version string, others map[string]string, err error) {
	others = map[string]string{}
	for _, text := range flags {
		part, name, ok := strings.Cut(text, "=")
		switch {
		case ok && part != "" && name != "" && others[part] == "":
			others[part] = name
		case !ok && text != "" && version == "":
			version = text
		default:
			return "", nil, usage("--version %q: want one VERSION, and PART=VERSION at most once for each part", text)
		}
	}
	if version == "" {
		return "", nil, usage("%w", errors.New("--version is needed: vaiven versions PLAN lists what there is"))
	}
	return version, others, nil
}

// looking opens what a look at the spare side of a plan takes.
func looking(cmd *cobra.Command, file string, do func(ctx context.Context, l headless.Looking) error) error {
	p, err := readPlan(file)
	if err != nil {
		return err
	}
	secrets, err := readSecrets(cmd, p)
	if err != nil {
		return err
	}
	y, err := service.OpenStacks(p, secrets)
	if err != nil {
		return err
	}
	defer y.Set.Close()
	return notAllowed(do(cmd.Context(), headless.Looking{
		Plan: p, Secrets: y.Secrets, Front: all.Open(p), Stacks: y.Set, Sources: y.Sources,
	}))
}

// notAllowed gives refusals, and what was begun and came to nothing, their exit status.
func notAllowed(err error) error {
	if errors.Is(err, crossing.ErrNotNow) || errors.Is(err, headless.ErrNotDone) ||
		errors.Is(err, service.ErrSteered) || errors.Is(err, service.ErrOtherFront) ||
		errors.Is(err, service.ErrHangs) || errors.Is(err, keeper.ErrTakenOver) ||
		errors.Is(err, api.ErrStandby) || errors.Is(err, service.ErrTied) || errors.Is(err, api.ErrNotTaken) {
		return &exitError{exitCalledOff, err}
	}
	return err
}

func raiseCommand() *cobra.Command {
	var flags []string
	var o headless.RaiseOptions
	var steer reachFlags
	var out output
	cmd := &cobra.Command{
		Use:   "raise PLAN --version V",
		Short: "Stand the spare side up, without moving any traffic",
		Long: `Starts the spare side at a version that exists and waits until every instance
is healthy. The live side is never touched. What did not come up is left standing
to be looked at: raise it again, or vaiven retire PLAN. Exit status: 0 healthy,
4 not healthy or not allowed, 2 bad usage or plan, 1 anything else.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if o.Version, o.Versions, err = chosen(flags); err != nil {
				return err
			}
			o.By = who()
			return withKeeper(cmd, args[0], func(ctx context.Context, k *kept) error {
				o.Why, o.TakeWheel, o.As = steer.why, steer.takeWheel, k.asOf()
				side, choices, err := headless.Raise(ctx, k, o, progress(cmd.OutOrStdout(), out))
				if err != nil {
					return err
				}
				return out.print(cmd.OutOrStdout(), side, raisedJSON{side, choices}, func(w io.Writer) error {
					main := raise.Main(choices)
					_, err := fmt.Fprintf(w, "%v is up at %s, build %s. It gets no traffic: vaiven prove, then "+
						"vaiven cross\n", side, main.Version, raise.Short(main.Build))
					return err
				})
			})
		},
	}
	versionFlag(cmd, &flags)
	cmd.Flags().BoolVar(&o.SameBuild, "same-build", false, "go on even if the build is the one that is live")
	out.lines(cmd, "print one JSON object a line for each instance that changes")
	steer.add(cmd)
	return cmd
}

// instanceJSON is an instance whose state has changed.
type instanceJSON struct {
	Name    string         `json:"name"`
	Part    string         `json:"part"`
	Side    split.Side     `json:"side"`
	State   reading.Health `json:"state"`
	Address string         `json:"address,omitempty"`
	Said    string         `json:"said,omitempty"`
}

// raisedJSON is a side that is up.
type raisedJSON struct {
	Side  split.Side     `json:"side"`
	Parts []raise.Choice `json:"parts"`
}

// differencesJSON is what differs between the sides.
type differencesJSON struct{ prove.About }

// versionsJSON is what there is to raise.
type versionsJSON struct {
	Parts []keeper.Offer `json:"parts"`
}

// retiredJSON is a side that was removed.
type retiredJSON struct {
	Side split.Side `json:"side"` // removed
	Live split.Side `json:"live"` // where all requests go
}

// progress tells each instance's changes of state.
func progress(w io.Writer, out output) func([]reading.Condition) {
	begun := time.Now()
	last := map[string]reading.Health{}
	return func(conditions []reading.Condition) {
		for _, c := range conditions {
			if last[c.Name] == c.State {
				continue
			}
			last[c.Name] = c.State
			value := instanceJSON{c.Name, c.Part, c.Side, c.State, c.Address, c.Said}
			_ = out.print(w, c.Side, value, func(w io.Writer) error {
				said := c.Said
				if c.State == reading.Healthy {
					said = c.Address
				}
				_, err := fmt.Fprintf(w, "%6.1f s  %-16s %-10s %s\n", time.Since(begun).Seconds(), c.Name, c.State,
					said)
				return err
			})
		}
	}
}

func proveCommand() *cobra.Command {
	var out output
	var steer reachFlags
	cmd := &cobra.Command{
		Use:   "prove PLAN",
		Short: "Find out whether the spare side is good, as it stands",
		Long: `Makes every check of the plan on the spare side, asks for what it depends on from
where it stands, compares it with the live side, and sends both the same requests.
Nothing is changed. Exit status: 0 proven, 4 not proven.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			return withKeeper(cmd, args[0], func(ctx context.Context, k *kept) error {
				found, about, err := headless.Prove(ctx, k, keeper.Command{Why: steer.why, TakeWheel: steer.takeWheel})
				if err != nil {
					return err
				}
				value := proofJSON{found.Pass(), found.Passing(), found.Results, about}
				err = out.print(cmd.OutOrStdout(), split.Green, value,
					func(w io.Writer) error { return printProof(w, found) })
				if err == nil && !found.Pass() {
					err = &exitError{status: exitCalledOff}
				}
				return err
			})
		},
	}
	out.flag(cmd)
	steer.add(cmd)
	return cmd
}

type proofJSON struct {
	Proven  bool           `json:"proven"`
	Passing int            `json:"passing"`
	Results []proof.Result `json:"results"`
	prove.About
}

func printProof(w io.Writer, p proof.Proof) error {
	t := tabwriter.NewWriter(w, 0, 4, 2, ' ', 0)
	for _, r := range p.Results {
		verdict := "passes"
		switch {
		case !r.Pass && r.Ask:
			verdict = "ASKS"
		case !r.Pass:
			verdict = "FAILS"
		}
		line := r.Got
		if !r.Pass {
			line = fmt.Sprintf("want %s, got %s", r.Want, r.Got)
		}
		fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\n", verdict, r.Part, r.Instance, r.Check, line)
	}
	if err := t.Flush(); err != nil {
		return err
	}
	verdict := "proven"
	if !p.Pass() {
		verdict = "not proven"
	}
	_, err := fmt.Fprintf(w, "\n%s: %d of %d passing\n", verdict, p.Passing(), len(p.Results))
	return err
}

func differCommand() *cobra.Command {
	var out output
	cmd := &cobra.Command{
		Use:   "differ PLAN",
		Short: "Compare the two sides as they stand",
		Long: `Compares build, runtime, start command, environment, configuration, limits and
instances of the two sides, and their answers to the same requests. Nothing is
changed. Exit status: 0 if there is no unplanned difference, 4 otherwise.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			return looking(cmd, args[0], func(ctx context.Context, l headless.Looking) error {
				about, err := l.Differ(ctx)
				if err != nil {
					return err
				}
				err = out.print(cmd.OutOrStdout(), split.Green, differencesJSON{about},
					func(w io.Writer) error { return printDifferences(w, about) })
				if err == nil && len(about.Differences.Questioned())+len(about.Pairs.Findings) > 0 {
					err = &exitError{status: exitCalledOff}
				}
				return err
			})
		},
	}
	out.flag(cmd)
	return cmd
}

func printDifferences(w io.Writer, about prove.About) error {
	t := tabwriter.NewWriter(w, 0, 4, 2, ' ', 0)
	for _, d := range about.Differences.List {
		meant := ""
		if d.Meant {
			meant = "planned"
		}
		fmt.Fprintf(t, "%s\t%s\t%s\t→ %s\t%s\n", d.Part, d.What(), shown(d, split.Blue), shown(d, split.Green), meant)
	}
	if err := t.Flush(); err != nil {
		return err
	}
	for _, d := range about.Differences.List {
		if len(d.Lines) > 0 {
			fmt.Fprintf(w, "\n%s\n", strings.Join(d.Lines, "\n"))
		}
	}
	for _, m := range about.Differences.Missing {
		fmt.Fprintln(w, "not read:", m)
	}
	fmt.Fprintf(w, "%d differ of %d compared, %d of them unplanned\n", len(about.Differences.List),
		about.Differences.Compared, len(about.Differences.Questioned()))
	if r := about.Pairs; r.Pairs > 0 {
		fmt.Fprintf(w, "same request to both: %d of %d answers are the same; p50 %.1f and %.1f ms, p99 %.1f and %.1f "+
			"ms\n",
			r.Same, r.Pairs, r.Times[0].P50, r.Times[1].P50, r.Times[0].P99, r.Times[1].P99)
		for _, f := range r.Findings {
			fmt.Fprintf(w, "  %d times  %s  %s: %s → %s\n", f.Count, f.Request, f.What, f.Value[0], f.Value[1])
		}
	}
	return nil
}

// shown is a difference's value on a side.
func shown(d difference.Difference, side split.Side) string {
	if !d.Has[side] {
		return "(none)"
	}
	return d.Value[side]
}

func versionsCommand() *cobra.Command {
	var out output
	cmd := &cobra.Command{
		Use:   "versions PLAN",
		Short: "List the versions that there are to raise, newest first",
		Args:  onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := readPlan(args[0])
			if err != nil {
				return err
			}
			y, err := service.OpenStacks(p, secret.Values{}) // nothing is started or asked here
			if err != nil {
				return err
			}
			defer y.Set.Close()
			offers, err := y.Offers(cmd.Context(), p)
			if err != nil {
				return err
			}
			var running []reading.Instance
			for _, side := range split.Sides {
				list, err := y.Set.List(cmd.Context(), side)
				if err != nil {
					fmt.Fprintln(cmd.ErrOrStderr(), "vaiven: which of them run is not known:", err)
				}
				running = append(running, list...)
			}
			return out.print(cmd.OutOrStdout(), split.Green, versionsJSON{offers},
				func(w io.Writer) error { return printVersions(w, offers, running) })
		},
	}
	out.flag(cmd)
	return cmd
}

func printVersions(w io.Writer, offers []keeper.Offer, running []reading.Instance) error {
	t := tabwriter.NewWriter(w, 0, 4, 2, ' ', 0)
	for _, o := range offers {
		if len(offers) > 1 {
			fmt.Fprintf(t, "%s:\n", o.Part)
		}
		for _, v := range o.Versions {
			at := "-"
			if !v.At.IsZero() {
				at = v.At.Local().Format("2006-01-02 15:04")
			}
			var on []string
			for _, i := range running {
				if side := i.Side.String(); i.Part == o.Part && i.Running && v.ID != "" && !slices.Contains(on, side) {
					switch {
					case i.Build == v.ID && i.Version == v.Name:
						on = append(on, side)
					case i.Build == v.ID:
						on = append(on, "same build as "+side)
					}
				}
			}
			fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\n", v.Name, at, raise.Short(v.ID),
				strings.Join(slices.Compact(on), ", "), v.Remark())
		}
	}
	return t.Flush()
}

// leftEvery is how often it is said what a side that is being retired still has.
const leftEvery = 10 * time.Second

func retireCommand() *cobra.Command {
	var yes bool
	var out output
	var steer reachFlags
	cmd := &cobra.Command{
		Use:   "retire PLAN",
		Short: "Drain and remove the side that gets no traffic",
		Long: `Waits for open requests, takes the side without traffic out of the front and stops
its instances. Never the live side. Asks for the service's name, unless --yes. In the
middle of a crossing it is refused; in its keep, it ends the keep. Exit status: 0
done, 4 not allowed.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			return withKeeper(cmd, args[0], func(ctx context.Context, k *kept) error {
				if !yes {
					if !atTerminal() {
						return usage("nobody is at the terminal to type the service's name: add --yes")
					}
					fmt.Fprintf(cmd.ErrOrStderr(), "to remove the spare side of %s, type its name: ", k.Info.Service)
					var typed string
					if _, err := fmt.Fscanln(os.Stdin, &typed); err != nil || typed != k.Info.Service {
						return fmt.Errorf("%w: the name %q was to be typed, not %q", crossing.ErrNotNow, k.Info.Service,
							typed)
					}
				}
				var said time.Time
				side, err := headless.Retire(ctx, k, k.Info.Service,
					keeper.Command{Why: steer.why, TakeWheel: steer.takeWheel},
					func(side split.Side, is engine.SideView) {
						if left := words.Remaining(is, side); left != "" && time.Since(said) > leftEvery {
							said = time.Now()
							fmt.Fprintln(cmd.ErrOrStderr(), left)
						}
					})
				if err != nil {
					return err
				}
				return out.print(cmd.OutOrStdout(), side, retiredJSON{side, side.Other()}, func(w io.Writer) error {
					_, err := fmt.Fprintf(w, "%v is removed; all requests go to %v\n", side, side.Other())
					return err
				})
			})
		},
	}
	steer.add(cmd)
	cmd.Flags().BoolVar(&yes, "yes", false, "without typing the service's name")
	out.flag(cmd)
	return cmd
}
