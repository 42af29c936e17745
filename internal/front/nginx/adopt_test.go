package nginx

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/include"
	"vaiven/internal/world/place"
	"vaiven/lab/fronttest"
	"vaiven/lab/testkit"
)

// stood is a configuration that stood before Vaiven came. DIR, LISTEN, ONE, TWO and THREE stand for its folder,
// where it listens, and three instances, the third of another service.
type stood struct {
	files   map[string]string // beside nginx.conf
	http    string            // within http of nginx.conf
	of      string            // the group that is adopted
	ask     []string          // paths
	counted int               // of them, that are its requests and are counted
	key     plan.Key          // that it keeps clients by
	notes   []string          // what is said of it
	never   bool              // it cannot be steered
	sticky  bool              // sessions are to stay
}

var stoods = map[string]stood{
	"sites, a prefix, an expression, a nested location, a variable": {
		files: map[string]string{
			"conf.d/up.conf": "upstream app {\n    least_conn;\n    keepalive 16;\n    server ONE max_fails=2;   # first\n" +
				"    server TWO max_fails=2;\n    server THREE backup;\n}\n",
			"sites/a": "server {\n    listen LISTEN;\n    server_name sailings.example;\n    location / {\n" +
				"        proxy_pass http://app/base/;\n    }\n" +
				"    location ~ \\.json$ { proxy_pass http://app; proxy_set_header Host $host; }\n" +
				"    location /static/ {\n        access_log off;\n        proxy_pass http://app;\n" +
				"        location /static/old/ { proxy_pass http://THREE/x/; }\n    }\n" +
				"    set $b app;\n    location /v { proxy_pass http://$b; }\n}\n",
		},
		http: "log_format mine '$remote_addr $request';\naccess_log DIR/mine.log mine;\nproxy_set_header X-One one;\n" +
			"include conf.d/*.conf;\ninclude sites/*;",
		of: "app", ask: []string{"/", "/a?b=c", "/a.json", "/static/q", "/static/old/z", "/v"}, counted: 4,
		notes: []string{"is a backup", "by a variable", "4 places lead to app"},
	},
	"an address, with headers of the server": {
		http: "access_log DIR/mine.log;\nproxy_set_header X-One one;\nserver { listen LISTEN;\nlocation /ferries/ {\n" +
			"\tproxy_pass http://ONE/; # as it is\n}\nlocation = /x { proxy_pass http://ONE; proxy_set_header Host other; } }",
		of: "ONE", ask: []string{"/ferries/a", "/x", "/ferries/"}, counted: 3,
	},
	"clients by cookie, with a prefix": {
		http: "access_log DIR/mine.log;\nupstream app { hash $cookie_passenger consistent; server ONE; server TWO; }\n" +
			"server { listen LISTEN;\n    location /f/ {\n        proxy_pass http://app/base/;\n    }\n" +
			"    location = /y {\n        proxy_pass http://app/z;\n    }\n    location / { proxy_pass http://app; } }",
		of: "app", ask: []string{"/f/a?x=1", "/f/a%20b", "/y", "/k"}, counted: 4,
		key: plan.Key{From: plan.KeyCookie, Name: "passenger"}, notes: []string{"keeps clients together"},
	},
	"sessions, with headers of a server and of a location": {
		http: "access_log DIR/mine.log;\nupstream app { ip_hash; server ONE max_fails=2; server TWO max_fails=2; }\n" +
			"server { listen LISTEN;\n    add_header X-Outer o always;\n    location / { proxy_pass http://app; }\n" +
			"    location /own/ {\n        add_header X-Own o;\n        proxy_pass http://app/;\n    }\n}",
		of: "app", ask: []string{"/", "/own/x"}, counted: 2, sticky: true, key: plan.Key{From: plan.KeyClient},
	},
	"weights, one that is down, and two servers": {
		http: "access_log DIR/mine.log;\nupstream app { server ONE weight=3; server TWO down; }\n" +
			"server { listen LISTEN; location / { proxy_pass http://app; } }\n" +
			"server { listen LISTEN; server_name b.example; access_log off; location / { proxy_pass http://app; } }",
		of: "app", ask: []string{"/", "/b"}, counted: 2, notes: []string{"different weights", "2 places lead to app"},
	},
	"a socket": {
		http: "access_log off;\nupstream app { server unix:/run/app.sock; server ONE; }\n" +
			"server { listen LISTEN; location / { proxy_pass http://app; } }",
		of: "app", never: true, notes: []string{"is a socket"},
	},
}

// What the survey would change is what has it steered, and changes nothing for anybody: the same requests get the same
// answers before and after, and its requests are counted.
func TestWhatStoodIsAdopted(t *testing.T) {
	fronttest.Need(t, Kind.Program)
	for name, s := range stoods {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s.adopt(t)
		})
	}
}

func (s stood) adopt(t *testing.T) {
	dir := t.TempDir()
	for d := dir; d != "/" && d != os.TempDir(); d = filepath.Dir(d) {
		_ = os.Chmod(d, 0o755) // for workers of another user
	}
	port, _ := testkit.Ports(t, 1)
	listen := fronttest.Address(port)
	places := []string{"DIR", dir, "LISTEN", listen}
	for _, name := range []string{"ONE", "TWO", "THREE"} {
		who := name
		if name != "THREE" {
			who = "ours"
		}
		places = append(places, name, fronttest.Echo(t, who, func(r *http.Request) []string {
			return []string{r.Host, r.Header.Get("X-One")}
		}))
	}
	fill := strings.NewReplacer(places...).Replace
	config := filepath.Join(dir, "nginx.conf")
	fronttest.Write(t, config, fill("worker_processes 1; daemon off; pid DIR/nginx.pid; error_log DIR/error.log;\n"+
		"events {}\nhttp {\n"+s.http+"\n}\n"))
	for name, text := range s.files {
		fronttest.Write(t, filepath.Join(dir, name), fill(text))
	}
	p := fronttest.Start(t, listen, Kind.Program, "-c", config)
	before, files := fronttest.Asked(t, listen, s.ask...), listing(t, dir)
	all, err := survey(t.Context(), place.Local{}, front.Target{Name: config, Sticky: s.sticky})
	if err != nil {
		t.Fatal(err)
	}
	n := slices.IndexFunc(all, func(f front.Surveyed) bool { return f.Name == fill(s.of) })
	if n < 0 || all[n].Listen != listen {
		t.Fatalf("it finds %+v", all)
	}
	found := all[n]
	for _, note := range s.notes {
		if !strings.Contains(strings.Join(found.Notes, "\n"), note) {
			t.Errorf("it does not say %q, but %q", note, found.Notes)
		}
	}
	if s.never {
		if found.Adopt != nil {
			t.Error("it would steer what it cannot")
		}
		return
	}
	change := found.Adopt(t.Context(), "sailings")
	if change.Err != nil || len(change.Files) == 0 {
		t.Fatalf("nginx does not take the change: %v", change.Err)
	}
	if now := listing(t, dir); now != files {
		t.Errorf("a survey changes the folder from\n%s\nto\n%s", files, now)
	}
	c := &Settings{Settings: include.Settings{Config: config, File: filepath.Join(dir, "vaiven", "sailings.conf"),
		Program: []string{Kind.Program}, Log: filepath.Join(dir, "sailings.log")}}
	f := plan.Front{Listen: listen, Key: plan.Key{From: plan.KeyRandom}, Sticky: s.sticky, Settings: c}
	if s.key.From != "" {
		f.Key = s.key
	} else if c.Upstream = found.Name; strings.Contains(c.Upstream, ":") {
		c.Upstream = front.Variable("sailings")
	}
	d := New(place.Local{}, "sailings", f)
	var known [2][]reading.Server
	for _, v := range found.Servers {
		if v.In {
			known[split.Blue] = append(known[split.Blue], reading.Server{Name: v.Name, Address: v.Address})
		}
	}
	if made, err := d.Prepare(t.Context(), known); err != nil || !made {
		t.Fatalf("made %v, %v", made, err)
	}
	if err := d.Included(t.Context()); err == nil {
		t.Error("it is included before anything was changed")
	}
	for _, e := range change.Files {
		fronttest.Write(t, e.Name, string(e.Now))
	}
	if list, err := d.Lacks(t.Context()); err != nil || len(list) > 0 {
		t.Errorf("after the change it lacks %q, %v", list, err)
	}
	fronttest.Reload(p, syscall.SIGHUP, d.File.Server.Running, d.File.Server.Fresh)(t)
	if after := fronttest.Asked(t, listen, s.ask...); after != before {
		t.Errorf("users got\n%s\nand get now\n%s", before, after)
	}
	if again, err := survey(t.Context(), place.Local{}, front.Target{Name: config}); s.key.From == "" && (err != nil ||
		!slices.ContainsFunc(again, func(f front.Surveyed) bool {
			return f.Name == c.Upstream && f.Ready && f.Adopt == nil && f.Servers[0].Side == "blue"
		})) {
		t.Errorf("surveyed again it is %+v, %v", again, err)
	}
	fronttest.Counted(t, d, c.Log, s.counted, s.ask)
	for _, path := range s.ask {
		a, err := http.Get("http://" + listen + path)
		if err != nil {
			t.Fatal(err)
		}
		_ = a.Body.Close()
		if began := strings.HasPrefix(a.Header.Get("Set-Cookie"), "sailings_session="); began != s.sticky {
			t.Errorf("%s begins a session: %v, and %v is wanted", path, began, s.sticky)
		}
		if own := strings.HasPrefix(path, "/own/"); s.sticky && (a.Header.Get("X-Own") == "") == own {
			t.Errorf("%s has the headers %v", path, a.Header)
		}
	}
}

// listing is what a folder has, and what stands in its configuration.
func listing(t *testing.T, dir string) string {
	t.Helper()
	var b strings.Builder
	err := filepath.WalkDir(dir, func(name string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() || strings.HasSuffix(name, ".log") {
			return err
		}
		data, err := os.ReadFile(name)
		fmt.Fprintln(&b, name, string(data))
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return b.String()
}
