package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"slices"
	"time"

	"github.com/creack/pty"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/keeper"
	"vaiven/internal/people/tui"
	"vaiven/internal/plan/tryout"
)

// screened is what a screen takes for a service of so many instances a side.
type screened struct {
	instances     int
	median, tail  time.Duration // from a key to the first that is painted for it: the middle, and p99
	resting, full float64       // of a core: at rest, and in a crossing
}

const (
	screenKeys  = 300
	screenSpan  = 20 * time.Second // for which its processor time is measured
	screenEvery = 500 * time.Millisecond
)

// timeScreens measures the screen in a terminal of 142 by 38, on snapshots as a keeper sends
// them: it reads each from JSON, as it does from the keeper's socket.
func timeScreens(ctx context.Context) (list []screened, err error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	for _, n := range []int{4, 50, 500} {
		s := screened{instances: n}
		for _, crossing := range []bool{false, true} {
			keys, share, err := timeScreen(ctx, self, n, crossing)
			if err != nil {
				return nil, fmt.Errorf("a screen of %d instances: %w", n, err)
			}
			if s.full = share; !crossing {
				s.resting = share
				continue
			}
			slices.Sort(keys)
			s.median, s.tail = keys[len(keys)/2], keys[len(keys)*99/100]
		}
		list = append(list, s)
	}
	return list, nil
}

// timeScreen runs a screen in a terminal of its own; it is pressed keys only in a crossing.
func timeScreen(ctx context.Context, self string, instances int, crossing bool) (keys []time.Duration, share float64,
	err error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	from, to, err := os.Pipe()
	if err != nil {
		return nil, 0, err
	}
	defer from.Close()
	go sail(ctx, to, instances, crossing)
	cmd := exec.CommandContext(ctx, self, "-screen")
	cmd.ExtraFiles = []*os.File{from}
	cmd.Env = append(os.Environ(), "TERM=xterm-256color", "COLORTERM=truecolor")
	terminal, err := pty.StartWithSize(cmd, &pty.Winsize{Cols: 142, Rows: 38})
	if err != nil {
		return nil, 0, err
	}
	defer func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		_ = terminal.Close()
	}()
	painted := make(chan time.Time, 1024)
	go func() {
		buf := make([]byte, 64<<10)
		for {
			if _, err := terminal.Read(buf); err != nil {
				close(painted)
				return
			}
			select {
			case painted <- time.Now():
			default:
			}
		}
	}()
	settle := time.After(3 * time.Second)
	for done := false; !done; {
		select {
		case <-painted:
		case <-settle:
			done = true
		}
	}
	before, begun := processorTime(cmd), time.Now()
	time.Sleep(screenSpan)
	share = (processorTime(cmd) - before).Seconds() / time.Since(begun).Seconds()
	for n := range screenKeys * map[bool]int{true: 1}[crossing] {
		time.Sleep(time.Duration(20+rand.IntN(90)) * time.Millisecond) // at any phase of what else is painted
		for len(painted) > 0 {
			<-painted
		}
		key := []string{"\x1b[C", "\x1b[D"}[n%2] // the ghost goes right, and left
		pressed := time.Now()
		if _, err := terminal.Write([]byte(key)); err != nil {
			return nil, 0, err
		}
		select {
		case at, ok := <-painted:
			if !ok {
				return nil, 0, errors.New("the screen has ended")
			}
			keys = append(keys, at.Sub(pressed))
		case <-time.After(2 * time.Second):
			keys = append(keys, 2*time.Second)
		}
	}
	return keys, share, nil
}

// screenText is the table of what screens take.
func screenText(list []screened) string {
	text := fmt.Sprintf("## The screen\n\nIn a terminal of 142 by 38, on snapshots twice a second, each read from "+
		"JSON. A key is pressed %d\ntimes at any phase of what else is painted.\n\n", screenKeys) +
		"| instances a side | a key is painted after, in the middle | p99 | of a core at rest | in a crossing |\n| " +
		"---: | ---: | ---: | ---: | ---: |\n"
	for _, s := range list {
		text += fmt.Sprintf("| %d | %.1f ms | %.1f ms | %.1f %% | %.1f %% |\n", s.instances, s.median.Seconds()*1000,
			s.tail.Seconds()*1000, 100*s.resting, 100*s.full)
	}
	return text + "\nA key waits for the next of 60 frames a second and for nothing else; what has not changed is " +
		"not painted. The aim is 33 ms, 3 % at rest\nand 5 % in a crossing. With 500 instances a side a screen reads " +
		"half a megabyte of JSON a second, of which it draws the gravest dozen\ninstances: that is what takes it " +
		"above the last two.\n"
}

// beScreen is a screen on what comes at descriptor 3.
func beScreen(ctx context.Context) error {
	_, err := tui.Run(ctx, tui.Config{Client: sailing{}, By: "bench", Theme: "dark"})
	return err
}

// sent is a snapshot with its track, as it is sent.
type sent struct {
	Snapshot keeper.Snapshot
	Track    []engine.Point
}

// sail sends made-up snapshots, until the context ends.
func sail(ctx context.Context, to io.WriteCloser, instances int, crossing bool) {
	defer to.Close()
	out := json.NewEncoder(to)
	for begun := time.Now(); ; {
		s := snapshot(instances, crossing, time.Now(), begun)
		if out.Encode(sent{s, s.Track}) != nil {
			return
		}
		select {
		case <-time.After(screenEvery):
		case <-ctx.Done():
			return
		}
	}
}

// sailing is a keeper's client on what comes at descriptor 3.
type sailing struct{ keeper.Client }

func (sailing) Do(context.Context, keeper.Command) (uint64, error) { return 0, nil }

func (sailing) Versions(context.Context) ([]keeper.Offer, error) { return nil, nil }

func (sailing) Foresee(context.Context, split.Share) (front.Change, error) {
	return front.Change{}, nil
}

func (sailing) Tryout(context.Context) (tryout.Report, string, error) {
	return tryout.Report{}, "", nil
}

func (sailing) Snapshots(ctx context.Context) <-chan keeper.Snapshot {
	ch := make(chan keeper.Snapshot)
	go func() {
		defer close(ch)
		for in := json.NewDecoder(os.NewFile(3, "snapshots")); ; {
			var t sent
			if in.Decode(&t) != nil {
				return
			}
			t.Snapshot.Track = t.Track
			select {
			case ch <- t.Snapshot:
			case <-ctx.Done():
				return
			}
		}
	}()
	return ch
}

// snapshot is a service in the middle of a crossing, or at rest.
func snapshot(instances int, crosses bool, now, begun time.Time) keeper.Snapshot {
	legs := route.Route{{Part: 500, Dwell: 2 * time.Minute}, {Part: 2500, Dwell: 2 * time.Minute},
		{Part: 5000, Dwell: 2 * time.Minute, Ask: true}, {Part: split.Whole}}
	v := engine.View{
		At: now, Service: "sailings", Ready: true, Planned: legs, Keep: 30 * time.Minute, Then: plan.ThenRetire,
		Live: split.Blue, Left: 48 * time.Second,
		Front: engine.FrontView{At: now.Add(-50 * time.Millisecond), Every: screenEvery,
			Split: reading.Split{Revision: 9, Since: begun}},
		Guarding: forecast.Guarding{Margin: 0.005, Level: 0.0024, Blocks: 4200},
		Traffic:  forecast.Traffic{Rate: 341 + rand.Float64()*10, Capacity: [2]float64{480, 480}, Failing: 0.0008},
		Door:     reading.Door{At: now, Answers: now.Sub(begun).Milliseconds() / 50, LongestGap: 54 * time.Millisecond},
	}
	share := 0.0
	if crosses {
		v.Front.Split.Share, share = 2500, 0.25
		v.Crossing = crossing.State{
			Stage: crossing.Shifting, Service: "sailings", Number: 18, Target: split.Green, Version: "4.3.0",
			LiveVersion: "4.2.0", Route: legs, Keep: 30 * time.Minute, Then: plan.ThenRetire,
			Share: 2500, Leg: 1, Since: begun.Add(-72 * time.Second), Begun: begun.Add(-112 * time.Second),
			Proven: true, Moved: true,
		}
		for n := range 5 {
			v.Guards = append(v.Guards,
				guard.Status{Name: fmt.Sprint("guard ", n), Watch: plan.Failing, State: guard.Watching,
					Trial:    evidence.Count{Bad: int64(n), Of: 8600 + v.Door.Answers},
					Baseline: evidence.Count{Bad: 9, Of: 25_000}, Sure: rand.Float64()})
		}
		v.WayBack = wayback.Judge(wayback.Facts{Side: split.Blue, Healthy: instances, Instances: instances, Rate: 340,
			Capacity: 1000, FrontRead: true})
	}
	for n := range 240 {
		side := "blue"
		if (int(v.Door.Answers)+n)%4 == 0 && crosses {
			side = "green"
		}
		v.Door.Recent = append(v.Door.Recent, reading.Mark{Side: side})
	}
	for _, side := range split.Sides {
		if side == split.Green && !crosses {
			v.Sides[side] = engine.SideView{At: now, Every: time.Second}
			continue
		}
		w := engine.SideView{Version: "4.2.0", Build: "7c1e40d9a0b1", Healthy: instances, Wanted: instances, At: now,
			Every: time.Second, Capacity: 480}
		w.Figures = figures.Figures{Requests: 2550, Timed: 2550, Failing: 2, Rate: 255 + rand.Float64()*10,
			P50: 11 * time.Millisecond, P99: 41 * time.Millisecond, Span: 10 * time.Second, To: now}
		for n := range instances {
			address := fmt.Sprintf("10.0.%d.%d:80", n/250, n%250)
			w.Instances = append(w.Instances, reading.Condition{
				Instance: reading.Instance{Name: fmt.Sprintf("%v-%d", side, n+1), Part: "web", Side: side,
					Version: "4.2.0", Build: "7c1e40d9a0b1", Address: address, Running: true},
				State: reading.Healthy, Since: begun, At: now,
				Took:    time.Duration(1+rand.IntN(9)) * time.Millisecond,
				History: []float64{1, 2, 4, 2, 1, 3, 2, 1, 2, 5},
			})
			w.Served = append(w.Served,
				figures.Served{Name: "web", Address: address, Rate: 85 + rand.Float64(),
					History: []int64{85, 84, 86, 85, 83, 85, 88, 85}})
		}
		v.Sides[side] = w
	}
	for n := range 600 {
		at := now.Truncate(time.Second).Add(time.Duration(n-600) * time.Second)
		v.Track = append(v.Track,
			engine.Point{At: at, Planned: v.Front.Split.Share, All: 340 + at.Unix()%7,
				Green: int64(share*340) + at.Unix()%5})
	}
	return keeper.Snapshot{View: v}
}
