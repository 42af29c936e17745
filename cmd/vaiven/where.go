package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/plan"
	"vaiven/internal/secret"
	"vaiven/internal/service"
	"vaiven/internal/words"
)

func whereCommand() *cobra.Command {
	var span time.Duration
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "where PLAN",
		Short: "Say where requests go now, read from the front",
		Long: `Reads the split in force and the instances from each front of the plan, counts
requests for a while, and says whether they are split as asked. Meanwhile it asks as
the plan's prober does: what a front counts is no word on a proxy that was forgotten
beside it. It changes nothing and does not disturb a screen that is open.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := readPlan(args[0])
			if err != nil {
				return err
			}
			var list []frontPlace
			known := whoStands(cmd.Context(), p)
			for _, f := range p.Fronts() {
				at, err := whereIs(cmd.Context(), p, f, known, span)
				if err != nil {
					return fmt.Errorf("%s: %w", f.Name(), err)
				}
				list = append(list, at)
			}
			now := atKeeper(cmd, p)
			if asJSON {
				w := whereJSON{Service: p.Service, Fronts: list, Keeper: now}
				newSide := split.Green
				if now != nil && now.Crossing.Stage.UnderWay() {
					newSide = now.Crossing.Target
				}
				return printJSON(cmd.OutOrStdout(), "where", newSide, w)
			}
			err = printWhere(cmd.OutOrStdout(), p, list, now)
			if now != nil {
				err = errors.Join(err, printKeeper(cmd.OutOrStdout(), *now))
			}
			return err
		},
	}
	cmd.Flags().DurationVar(&span, "for", 3*time.Second, "how long to count requests; 0s counts none")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

// whereJSON is where a service's requests go.
type whereJSON struct {
	Service string       `json:"service"`
	Fronts  []frontPlace `json:"fronts"`
	Keeper  *keeperPlace `json:"keeper,omitempty"`
}

// keeperPlace is how far the service's keeper is.
type keeperPlace struct {
	Process  int               `json:"process"`
	Since    time.Time         `json:"since"`
	Crossing crossing.State    `json:"crossing"`
	WayBack  wayback.Readiness `json:"way_back"`
	Watching int               `json:"watching"`
}

// atKeeper asks the keeper how far it is, if one runs; what the fronts say does not depend on it.
func atKeeper(cmd *cobra.Command, p *plan.Plan) *keeperPlace {
	r, err := reaching(cmd, p, false, true)
	if err != nil {
		return nil
	}
	k, err := r.Open(cmd.Context())
	if err != nil {
		return nil
	}
	defer k.Close()
	s, err := k.View(cmd.Context())
	if err != nil {
		return nil
	}
	return &keeperPlace{k.Info.Process, k.Info.Since, s.Crossing, s.WayBack, s.Watching}
}

func printKeeper(w io.Writer, k keeperPlace) error {
	text := words.State(k.Crossing)
	if k.Crossing.Number > 0 {
		text = fmt.Sprintf("crossing %d: %s", k.Crossing.Number, text)
	}
	if k.WayBack.State != "" {
		text += fmt.Sprintf("; way back %s", k.WayBack.State)
		if why := words.WayBack(k.WayBack, time.Now()); why != "" {
			text += " (" + why + ")"
		}
	}
	_, err := fmt.Fprintf(w, "keeper, process %d since %s: %s; %s, %d watch\n", k.Process, k.Since.Local().Format("15:04:05"), text, words.Wheel(k.Crossing.Wheel), k.Watching)
	return err
}

// frontPlace is where one front sends requests.
type frontPlace struct {
	Front    string            `json:"front"`
	Split    reading.Split     `json:"split"`
	Notice   string            `json:"notice,omitempty"`
	Sides    [2]sideOfPlace    `json:"sides"` // blue, green
	Counted  time.Duration     `json:"counted"`
	Judgment *engine.SplitView `json:"judgment,omitempty"` // none if nothing was counted
}

type sideOfPlace struct {
	Instances []serverPlace `json:"instances"`
	Requests  int64         `json:"requests"`
	Failing   int64         `json:"failing"`
}

// serverPlace is one instance as the front has it.
type serverPlace struct {
	reading.Server
	Ended string `json:"ended,omitempty"` // how, of one that does not run any more
}

// running is how many of a side's instances run, as far as can be told.
func (s sideOfPlace) running() int {
	n := 0
	for _, i := range s.Instances {
		if i.Ended == "" {
			n++
		}
	}
	return n
}

// whoStands are the instances that requests go to, by address, as far as can be asked:
// some fronts know no more than addresses.
func whoStands(ctx context.Context, p *plan.Plan) map[string]reading.Instance {
	known := map[string]reading.Instance{}
	y, err := service.OpenStacks(p, secret.Values{}) // nothing is started here
	if err != nil {
		return known
	}
	defer y.Set.Close()
	for _, side := range split.Sides {
		list, _ := y.Set.List(ctx, side)
		for _, i := range list {
			if i.Part == p.Main().Name {
				known[i.Address] = i
			}
		}
	}
	return known
}

// whereIs reads one front, twice if requests are to be counted.
func whereIs(ctx context.Context, p *plan.Plan, f plan.Front, known map[string]reading.Instance, span time.Duration) (frontPlace, error) {
	d := all.One(p, f)
	at := frontPlace{Front: f.Name(), Counted: span}
	var series figures.Series
	read := func() (reading.Front, error) {
		r, err := readOnce(ctx, d, &series)
		for _, s := range r.Sides {
			for n := range s.Instances {
				if i, ok := known[s.Instances[n].Address]; ok && s.Instances[n].Version == "" {
					s.Instances[n].Name, s.Instances[n].Version = i.Name, i.Version
				}
			}
		}
		return r, err
	}
	r, err := read()
	var probed [2]int64
	steady := span > 0
	for range recounts {
		before := r.Split
		if err != nil || span <= 0 {
			break
		}
		if probed, err = probe(ctx, p, f, r, span); err == nil {
			r, err = read()
		}
		if steady = err == nil && r.Split.Revision == before.Revision && r.Split.Share == before.Share; steady {
			break
		}
		series = figures.Series{} // what was counted belongs to two shares
		if err == nil {
			err = series.Add(r)
		}
	}
	if err != nil {
		return at, err
	}
	at.Split, at.Notice = r.Split, r.Notice
	if !steady && span > 0 {
		at.Counted = 0
		at.Notice = strings.TrimSpace("the share was changed again and again while requests were counted: not judged. " + at.Notice)
	}
	var counts evidence.Count
	for _, side := range split.Sides {
		s := &at.Sides[side]
		s.Instances = []serverPlace{}
		for _, c := range r.Sides[side].Instances {
			i := serverPlace{Server: c.Server}
			if k, ok := known[c.Address]; ok && !k.Running {
				i.Ended = cmp.Or(k.Exit, "ended")
			}
			s.Instances = append(s.Instances, i)
		}
		figures := series.Count(side, time.Time{}, 0)
		s.Requests, s.Failing = figures.Requests, figures.Failing
		counts.Of += figures.Requests
		if side == split.Green {
			counts.Bad = figures.Requests
		}
	}
	if at.Counted > 0 {
		v := engine.JudgeSplit(at.Split.Share, f, r.Tells, counts, probed)
		at.Judgment = &v
	}
	return at, nil
}

// recounts is how often requests are counted anew because the share was changed meanwhile.
const recounts = 3

// probe asks at a front for a while, and counts the answers by side.
func probe(ctx context.Context, p *plan.Plan, f plan.Front, r reading.Front, span time.Duration) ([2]int64, error) {
	marker, err := os.ReadFile(p.Secret())
	if err != nil && !errors.Is(err, fs.ErrNotExist) { // there is none before the first screen
		return [2]int64{}, err
	}
	asker := service.NewProber(p, []plan.Front{f}, string(marker), secret.Values{})
	var versions [2]string
	for _, side := range split.Sides {
		for _, c := range r.Sides[side].Instances {
			versions[side] = c.Version
		}
	}
	asker.Sides(versions)
	asking, stop := context.WithTimeout(ctx, span)
	defer stop()
	asker.Run(asking)
	return asker.Report(time.Now()).Seen(time.Time{}), ctx.Err()
}

func readOnce(ctx context.Context, d front.Driver, series *figures.Series) (reading.Front, error) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	r, err := d.Read(ctx)
	if err != nil {
		return r, err
	}
	return r, series.Add(r)
}

func printWhere(w io.Writer, p *plan.Plan, list []frontPlace, k *keeperPlace) error {
	for _, at := range list {
		fresh := ""
		if k != nil && k.Crossing.Stage.UnderWay() {
			fresh = ", " + words.On(at.Split.Share, k.Crossing.Target) + " (new)"
		}
		fmt.Fprintf(w, "%s, %s: %v of the requests go to green%s\n", p.Service, at.Front, at.Split.Share, fresh)
		for _, side := range split.Sides {
			s := at.Sides[side]
			fmt.Fprintf(w, "  %-5v %2d instances", side, s.running())
			if at.Counted > 0 {
				fmt.Fprintf(w, "   %d requests in %gs, %d failing", s.Requests, at.Counted.Seconds(), s.Failing)
			}
			fmt.Fprintln(w)
			for _, i := range s.Instances {
				out := ""
				switch {
				case i.Ended != "":
					out = "  does not run: " + i.Ended
				case i.Out:
					out = "  out"
				}
				fmt.Fprintf(w, "        %-12s %-21s %s%s\n", i.Name, i.Address, i.Version, out)
			}
		}
		if at.Judgment != nil {
			fmt.Fprintf(w, "  split %s\n", words.Split(*at.Judgment))
		}
		if at.Notice != "" {
			fmt.Fprintf(w, "  note  %s\n", at.Notice)
		}
	}
	for _, at := range list[1:] {
		if at.Split.Share != list[0].Split.Share {
			fmt.Fprintf(w, "the fronts differ: %s has %v on green, %s has %v\n", at.Front, at.Split.Share, list[0].Front, list[0].Split.Share)
		}
	}
	return nil
}
