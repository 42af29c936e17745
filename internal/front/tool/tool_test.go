package tool

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/world/place"
	"vaiven/lab/fronttest"
	"vaiven/lab/testkit"
)

// start starts the example's pool, and is a plan's front with the example's tool.
func start(t *testing.T, w *fronttest.World, args ...string) (plan.Front, *fronttest.Program, string) {
	t.Helper()
	port, _ := testkit.Ports(t, 2)
	w.Listen = fronttest.Address(port)
	api := fronttest.Address(port + 1)
	p := fronttest.Start(t, w.Listen, testkit.Program(t, "vaiven/examples/pool"),
		append([]string{"-listen", w.Listen, "-api", api}, args...)...)
	f := plan.Front{
		Listen: w.Listen, Key: plan.Key{From: plan.KeyRandom}, Order: filepath.Join(t.TempDir(), "order"),
		Settings: &Settings{Command: []string{testkit.Program(t, "vaiven/examples/poolfront"), "-api",
			"http://" + api}},
	}
	return f, p, api
}

// The example is held to what every front is held to, by a pool whose changes take their time, that shows late what
// it does, and refuses one change in five.
func TestConformance(t *testing.T) {
	fronttest.Run(t, fronttest.System{Lacks: []fronttest.Ability{fronttest.Ends, fronttest.Reloads, fronttest.Disk,
		fronttest.Checker, fronttest.Door, fronttest.Divides,
	}, Open: func(t *testing.T, w *fronttest.World) fronttest.Proxy {
		f, p, api := start(t, w, "-delay", "20ms", "-lag", "20ms", "-refuse", "7")
		return fronttest.Proxy{
			Driver: func() front.Driver { return New(place.Local{}, "sailings", f, nil) },
			Foreign: func(t *testing.T, share split.Share) {
				r, err := http.Get("http://" + api + "/pool")
				if err != nil {
					t.Fatal(err)
				}
				var pool struct {
					ETag    string `json:"etag"`
					Members []struct {
						Address string            `json:"address"`
						Weight  int               `json:"weight"`
						Labels  map[string]string `json:"labels"`
					} `json:"members"`
				}
				err = json.NewDecoder(r.Body).Decode(&pool)
				r.Body.Close()
				for n := range pool.Members {
					m := &pool.Members[n]
					if m.Weight = int(split.Whole - share); m.Labels["side"] == "green" {
						m.Weight = int(share)
					}
				}
				data, errData := json.Marshal(pool)
				for errors.Join(err, errData) == nil {
					q, _ := http.NewRequest(http.MethodPut, "http://"+api+"/pool", bytes.NewReader(data))
					q.Header.Set("If-Match", "*")
					a, errPut := http.DefaultClient.Do(q)
					if errPut != nil {
						t.Fatal(errPut)
					}
					a.Body.Close()
					if a.StatusCode == http.StatusAccepted {
						break
					}
				}
				if err := errors.Join(err, errData); err != nil {
					t.Fatal(err)
				}
				d := New(place.Local{}, "sailings", f, nil)
				testkit.Until(t, "the pool has it", func() error {
					now, err := d.look(t.Context())
					if got, _ := d.share(now); err == nil && got != share {
						err = fmt.Errorf("it has %v", got)
					}
					return err
				})
			},
			Kill: func(*testing.T) { p.Kill() },
		}
	}})
}

// A command that answers wrongly is said to, and believed nothing.
func TestACommandThatAnswersWrongly(t *testing.T) {
	for says, script := range map[string]string{
		"it says no revision": `echo '{}'`, "is not an answer": `echo nonsense`,
		"is no share in percent": `echo '{"revision":"1","share":250}'`,
		"the console is closed":  `echo '{"error":"the console is closed"}'`,
		"exit status 7":          `echo no >&2; exit 7`, "something follows": `echo '{"revision":"1","share":0} more'`,
		"unknown field": `echo '{"revision":"1","berth":7}'`,
	} {
		file := filepath.Join(t.TempDir(), "tool")
		if err := os.WriteFile(file, []byte("#!/bin/sh\ncat >/dev/null\n"+script+"\n"), 0o755); err != nil {
			t.Fatal(err)
		}
		d := New(place.Local{}, "sailings",
			plan.Front{Order: filepath.Join(t.TempDir(), "order"), Settings: &Settings{Command: []string{file}}}, nil)
		if _, err := d.Read(t.Context()); err == nil || !strings.Contains(err.Error(), says) ||
			!errors.Is(err, front.ErrUnreachable) && !errors.Is(err, front.ErrRefused) {
			t.Errorf("%s: %v", script, err)
		}
	}
}

// Home is gone to where nothing can be read, and its order holds: that it was not seen to be there is said.
func TestHomeNeedsNoReading(t *testing.T) {
	dir := t.TempDir()
	file, did := filepath.Join(dir, "tool"), filepath.Join(dir, "did")
	script := "#!/bin/sh\nq=$(cat)\ncase $q in *'\"do\":\"home\"'*) echo \"$q\" >" + did +
		"; echo '{}';; *) echo '{\"error\":\"the console is closed\"}';; esac\n"
	if err := os.WriteFile(file, []byte(script), 0o755); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	f := plan.Front{Order: filepath.Join(dir, "order"), Settings: &Settings{Command: []string{file}}}
	d := New(place.Local{}, "sailings", f, nil)
	said := make(chan error, 1)
	go func() {
		_, err := d.Home(ctx, front.Homing{Side: split.Green, By: "mate", Why: "hail"})
		said <- err
	}()
	testkit.Until(t, "the command is told to go home", func() error {
		data, err := os.ReadFile(did)
		if err == nil && (!strings.Contains(string(data), `"side":"green"`) ||
			!strings.Contains(string(data), `"why":"hail"`)) {
			err = fmt.Errorf("it was told %s", data)
		}
		return err
	})
	testkit.Until(t, "its order holds", func() error {
		_, err := os.Stat(f.Order)
		return err
	})
	cancel()
	if err := <-said; !errors.Is(err, front.ErrUnreachable) {
		t.Errorf("it says %v", err)
	}
	if o, err := front.NewOrderFile(place.Local{}, f.Order).Read(t.Context()); err != nil || o.Side != split.Green ||
		o.By != "mate" || o.Generation != 1 {
		t.Errorf("the order is %+v, %v", o, err)
	}
}

// What somebody else changed since the reading is refused by the command, and nothing is done.
func TestARevisionFences(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, _, _ := start(t, w, "-delay", "10ms", "-lag", "0")
	d := New(place.Local{}, "sailings", f, nil)
	if err := d.SetInstances(t.Context(), split.Blue,
		[]reading.Server{{Name: "blue-1", Address: "127.0.0.1:1"}}); err != nil {
		t.Fatal(err)
	}
	if _, err := d.ask(t.Context(), Request{Do: "set", Share: percent(0), If: "somebody's"}, readLimit); !errors.Is(err,
		front.ErrChanged) {
		t.Errorf("another revision: %v", err)
	}
}
