package embedded

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/fronttest"
	"vaiven/internal/plan"
)

func TestConformance(t *testing.T) {
	fronttest.Run(t, fronttest.System{Exact: true, Sorts: true, Homes: true, Tells: true, Open: func(t *testing.T, w *fronttest.World) fronttest.Proxy {
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
					_, err = other.Set(t.Context(), share, fronttest.Expect(r))
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

func TestSessionsStay(t *testing.T) {
	w := fronttest.NewWorld(t)
	url, c, _ := open(t, func(c *Config) { c.Sticky, c.Service, c.Tell = true, "sailings", true })
	w.Listen = strings.TrimPrefix(url, "http://")
	fronttest.Sessions(t, w, c)
	// All are on blue now.
	_, h, _ := get(t, http.DefaultClient, url)
	if got, want := h.Get("Set-Cookie"), "sailings-side=blue; Path=/; HttpOnly; SameSite=Lax"; got != want {
		t.Errorf("the session is %q, want %q", got, want)
	}
	_, h, _ = get(t, http.DefaultClient, url, "Cookie", "sailings-side=purple")
	if got := h.Get(front.SideHeader); got != "blue" {
		t.Errorf("with a forged session it is %s that answers", got)
	}
	if _, h, _ = get(t, http.DefaultClient, url, "Cookie", "sailings-side=blue"); h.Get("Set-Cookie") != "" {
		t.Errorf("a session that is known is said again: %q", h.Get("Set-Cookie"))
	}
}
