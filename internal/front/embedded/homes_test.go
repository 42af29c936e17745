package embedded

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/lab/testkit"
)

// At the socket of the group one can go home and read, and do nothing else; home is the side that it is. It is there
// again when somebody removes it, and after the front was replaced.
func TestTheHomeSocket(t *testing.T) {
	var known atomic.Bool
	url, c, config := open(t, func(c *Config) {
		c.HomeSocket, c.HomeGroup = filepath.Join(filepath.Dir(c.Socket), "home"), os.Getgid()
		c.Home = func() (split.Side, bool) { return split.Blue, known.Load() }
	})
	putInstances(t, c, split.Blue, newBackend(t, "blue-1", "4.2.0", nil))
	putInstances(t, c, split.Green, newBackend(t, "green-1", "4.3.0", nil))
	homes := Dial(config.HomeSocket)
	testkit.Eventually(t, "it is there", func() bool { _, err := homes.Read(t.Context()); return err == nil })
	if info, err := os.Stat(config.HomeSocket); err != nil || info.Mode().Perm() != 0o660 {
		t.Errorf("it has mode %v, %v", info.Mode(), err)
	}
	set := func() {
		t.Helper()
		if _, err := c.Set(t.Context(), 2500, front.AsRead(read(t, c))); err != nil {
			t.Fatal(err)
		}
	}
	set()
	if _, err := homes.Set(t.Context(), 5000, front.AsRead(read(t, c))); err == nil {
		t.Error("it moves traffic")
	}
	if err := homes.SetInstances(t.Context(), split.Green, nil); err == nil {
		t.Error("it takes instances away")
	}
	if _, err := homes.NewTerm(t.Context(), 0); err == nil {
		t.Error("it begins a term")
	}
	known.Store(true)
	_, err := homes.Home(t.Context(), front.Homing{Side: split.Green, Force: true})
	if !errors.Is(err, front.ErrRefused) {
		t.Errorf("to where the crossing leads: %v", err)
	}
	d, err := homes.Home(t.Context(), front.Homing{Side: split.Blue, By: "somebody"})
	if err != nil || d.Share != 0 {
		t.Fatalf("home: %v, %v", d.Share, err)
	}
	if by := d.Order.By; !strings.HasPrefix(by, "somebody, by uid ") {
		t.Errorf("it was %q", by)
	}
	known.Store(false) // what is not known is no reason to stay
	if d, err := homes.Home(t.Context(), front.Homing{Side: split.Green}); err != nil || d.Share != split.Whole {
		t.Errorf("where home is not known: %v, %v", d.Share, err)
	}

	answers := func() bool { _, err := Dial(config.HomeSocket).Read(t.Context()); return err == nil }
	if err := os.Remove(config.HomeSocket); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "it is there again", answers)
	next := config
	next.TakeOver, next.Listen = true, strings.TrimPrefix(url, "http://")
	s, err := NewServer(next)
	if err != nil {
		t.Fatal(err)
	}
	stop := runServer(t, s)
	testkit.Eventually(t, "it is the next process's", answers)
	stop()
	if !deserted(config.HomeSocket) {
		t.Error("somebody listens when all have ended")
	}
}
