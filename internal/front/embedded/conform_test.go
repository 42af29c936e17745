package embedded

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/lab/fronttest"
)

func TestConformance(t *testing.T) {
	fronttest.Run(t, fronttest.System{Lacks: []fronttest.Ability{fronttest.Reloads, fronttest.Checker},
		Open: func(t *testing.T, w *fronttest.World) fronttest.Proxy {
			dir := t.TempDir()
			kept := filepath.Join(dir, "kept")
			if err := os.Mkdir(kept, 0o700); err != nil {
				t.Fatal(err)
			}
			c := Config{
				Listen: "127.0.0.1:0", Socket: filepath.Join(dir, "s"), State: filepath.Join(kept, "state.json"),
				Key:      plan.Key{From: plan.KeyRandom},
				Settings: *Defaults(), Spare: fronttest.NewDoor(dir),
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
				Door:   c.Spare,
				Foreign: func(t *testing.T, share split.Share) {
					other := Dial(c.Socket)
					r, err := other.Read(t.Context())
					if err == nil {
						_, err = other.Set(t.Context(), share, front.AsRead(r))
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
	session := h.Get("Set-Cookie")
	if !regexp.MustCompile(`^sailings-side=blue\.\d+\.[0-9a-f]+\.[\w-]{22}; Path=/; HttpOnly; SameSite=Lax$`).MatchString(session) {
		t.Errorf("the session is %q", session)
	}
	session, _, _ = strings.Cut(session, ";")
	for _, forged := range []string{"sailings-side=purple", "sailings-side=green",
		strings.Replace(session, "blue", "green", 1), session + "x", "sailings-side=", "sailings-side=."} {
		if _, h, _ := get(t, http.DefaultClient, url, "Cookie", forged); h.Get(front.SideHeader) != "blue" ||
			h.Get("Set-Cookie") == "" {
			t.Errorf("with the forged session %q it is %s that answers, and says %q", forged, h.Get(front.SideHeader),
				h.Get("Set-Cookie"))
		}
	}
	if _, h, _ = get(t, http.DefaultClient, url, "Cookie", session); h.Get("Set-Cookie") != "" {
		t.Errorf("a session that is known is said again: %q", h.Get("Set-Cookie"))
	}
	r, err := c.Read(t.Context())
	if err != nil || r.Sides[split.Blue].Kept != 2 || r.Sides[split.Green].Kept != 0 {
		t.Errorf("two sessions keep somebody on blue, and it tells of %d and %d, %v", r.Sides[split.Blue].Kept,
			r.Sides[split.Green].Kept, err)
	}
}
