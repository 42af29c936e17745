package embedded

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/fronttest"
	"vaiven/internal/plan"
)

func TestConformance(t *testing.T) {
	fronttest.Run(t, fronttest.System{Rounds: 100, Exact: true, Sorts: true, Homes: true, Tells: true, Open: func(t *testing.T, w *fronttest.World) fronttest.Proxy {
		dir := t.TempDir()
		kept := filepath.Join(dir, "kept")
		if err := os.Mkdir(kept, 0o700); err != nil {
			t.Fatal(err)
		}
		c := Config{
			Listen: "127.0.0.1:0", Socket: filepath.Join(dir, "s"), State: filepath.Join(kept, "state.json"), Key: plan.Key{From: plan.KeyRandom},
			HeaderSize: 16 << 10, HeaderTime: 10 * time.Second, Idle: 60 * time.Second, Connections: 1000,
		}
		srv, err := NewServer(c)
		if err != nil {
			t.Fatal(err)
		}
		w.Listen = srv.Address()
		ctx, stop := context.WithCancel(context.Background())
		done := make(chan struct{})
		go func() {
			defer close(done)
			if err := srv.Run(ctx); err != nil {
				t.Error(err)
			}
		}()
		end := func() {
			stop()
			<-done
		}
		t.Cleanup(end)
		return fronttest.Proxy{
			Driver: func() front.Driver { return Dial(c.Socket) },
			Foreign: func(t *testing.T, share split.Share) {
				other := Dial(c.Socket)
				r, err := other.Read(t.Context())
				if err == nil {
					_, err = other.Set(t.Context(), share, r.Split.Revision)
				}
				if err != nil {
					t.Fatal(err)
				}
			},
			Spoil: func(t *testing.T) {
				if err := os.RemoveAll(kept); err != nil {
					t.Fatal(err)
				}
			},
			Kill: func(*testing.T) { end() },
		}
	}})
}

// Who has a session stays while the share changes, until the side is drained or
// everybody is taken home.
func TestSessionsStay(t *testing.T) {
	blue, green := newBackend(t, "blue-1", "1", nil), newBackend(t, "green-1", "2", nil)
	url, c, _ := open(t, func(c *Config) { c.Sticky, c.Service, c.Tell = true, "sailings", true })
	putInstances(t, c, split.Blue, blue)
	putInstances(t, c, split.Green, green)
	ask := func(cookie *http.Cookie) (side string, set *http.Cookie) {
		t.Helper()
		r, err := http.NewRequest(http.MethodGet, url, nil)
		if err != nil {
			t.Fatal(err)
		}
		if cookie != nil {
			r.AddCookie(cookie)
		}
		w, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		w.Body.Close()
		for _, s := range w.Cookies() {
			set = s
		}
		return w.Header.Get(front.SideHeader), set
	}
	_, session := ask(nil)
	if session == nil || session.Name != "sailings-side" || session.Value != "blue" || !session.HttpOnly {
		t.Fatalf("the session is %v", session)
	}
	setShare(t, c, split.Whole)
	if side, set := ask(session); side != "blue" || set != nil {
		t.Errorf("with a session on blue and all requests on green: %s, %v", side, set)
	}
	if side, set := ask(nil); side != "green" || set == nil || set.Value != "green" {
		t.Errorf("without one: %s, %v", side, set)
	}
	if side, _ := ask(&http.Cookie{Name: "sailings-side", Value: "purple"}); side != "green" {
		t.Errorf("with a forged one: %s", side)
	}
	if _, err := c.Drain(t.Context(), split.Blue); err != nil {
		t.Fatal(err)
	}
	if side, set := ask(session); side != "green" || set == nil || set.Value != "green" {
		t.Errorf("after blue was drained: %s, %v", side, set)
	}
	on := &http.Cookie{Name: "sailings-side", Value: "green"}
	if _, err := c.Home(t.Context(), 0); err != nil {
		t.Fatal(err)
	}
	if side, set := ask(on); side != "blue" || set == nil || set.Value != "blue" {
		t.Errorf("after everybody was taken home: %s, %v", side, set)
	}
}
