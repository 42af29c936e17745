package haproxy

import (
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
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

// stoods are configurations that stood before Vaiven came, by their files in the order in which HAProxy reads them.
// DIR, LISTEN, ONE, TWO and THREE stand for the folder, where it listens, and two instances and another service's.
var stoods = map[string]struct {
	files   []string
	notes   []string
	section string
}{
	"rules and checks": {
		files: []string{"global\n\tstats socket DIR/admin.sock level admin\n\nfrontend www\n\tmode http\n\tbind LISTEN\n" +
			"\ttimeout client 5s\n\tuse_backend other if { path_beg /other }\n\tuse_backend sailings if { path_beg /s }\n" +
			"\tdefault_backend sailings\n\nbackend other\n\tmode http\n\ttimeout connect 1s\n\ttimeout server 5s\n" +
			"\tserver x THREE\n\nbackend sailings\n\tmode http\n\ttimeout connect 1s\n\ttimeout server 5s\n" +
			"\toption httpchk GET /\n\tdefault-server inter 200ms rise 1\n\tserver app1 ONE check weight 10\n" +
			"\tserver app2 TWO check weight 10\n"},
		notes: []string{"2 lines lead to sailings"},
	},
	"cookies and several files": {
		files: []string{"global\n  stats socket DIR/admin.sock level admin\n  server-state-file DIR/states\ndefaults\n  mode http\n" +
			"  timeout connect 1s\n  timeout client 5s\n  timeout server 5s\n",
			"frontend www\n  bind LISTEN\n  default_backend sailings # all\n  use_backend other if { path_beg /other }\n" +
				"backend other\n  server x THREE\nbackend sailings\n  balance leastconn\n  cookie SRV insert indirect nocache\n" +
				"  server app1 ONE cookie app1\n  server app2 TWO cookie app2\n"},
		notes:   []string{"by the cookie SRV", "gets less than its share"},
		section: "sticky: yes",
	},
	"one block and a table": {
		files: []string{"defaults\n mode http\n timeout connect 1s\n timeout client 5s\n timeout server 5s\n" +
			"listen other\n bind unix@DIR/other.sock\n server x THREE\n" +
			"listen sailings\n bind LISTEN\n stick-table type ip size 1k expire 30m\n stick on src\n" +
			" use_backend other if { path_beg /other }\n server blue-1 ONE\n server blue-2 TWO\n",
			"global\n stats socket DIR/admin.sock level admin\n"},
		notes:   []string{"by a table"},
		section: "sticky: yes",
	},
}

// What the survey would change is what has it steered, and changes nothing for anybody.
func TestWhatStoodIsAdopted(t *testing.T) {
	fronttest.Need(t, Kind.Program)
	for name, s := range stoods {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			port, _ := testkit.Ports(t, 1)
			listen := fronttest.Address(port)
			places := []string{"DIR", dir, "LISTEN", listen}
			instance := func(who string) string {
				return fronttest.Echo(t, who, func(r *http.Request) []string { return []string{r.Host} })
			}
			one, green := instance("blue"), instance("green")
			places = append(places, "ONE", one, "TWO", instance("blue"), "THREE", instance("other"))
			var args []string
			for n, text := range s.files {
				file := filepath.Join(dir, fmt.Sprintf("%d.cfg", n))
				fronttest.Write(t, file, text, places...)
				args = append(args, "-f", file)
			}
			run := func() *fronttest.Program {
				p := fronttest.Start(t, listen, Kind.Program, args...)
				testkit.Until(t, "its socket", func() error {
					c, err := net.Dial("unix", filepath.Join(dir, "admin.sock"))
					if err == nil {
						err = c.Close()
					}
					return err
				})
				return p
			}
			p := run()
			paths := []string{"/", "/other/a", "/s?x=1"}
			before := fronttest.Asked(t, listen, paths...)
			all, err := survey(t.Context(), place.Local{}, front.Target{Name: filepath.Join(dir, "admin.sock")})
			if err != nil {
				t.Fatal(err)
			}
			found := all[slices.IndexFunc(all, func(f front.Surveyed) bool { return f.Name == "sailings" })]
			for _, note := range s.notes {
				if !strings.Contains(strings.Join(found.Notes, "\n"), note) {
					t.Errorf("it does not say %q, but %q", note, found.Notes)
				}
			}
			if found.Listen != listen || found.Ready || !strings.Contains(found.Section, s.section) {
				t.Errorf("it finds %+v", found)
			}
			entries, _ := os.ReadDir(dir)
			change := found.Adopt(t.Context(), "sailings")
			if now, _ := os.ReadDir(dir); change.Err != nil || len(change.Files) == 0 || len(now) != len(entries) {
				t.Fatalf("HAProxy does not take the change: %v; %v", change.Err, now)
			}
			p.Kill()
			for _, e := range change.Files {
				fronttest.Write(t, e.Name, string(e.Now))
			}
			run()
			if after := fronttest.Asked(t, listen, paths...); after != before {
				t.Errorf("users got\n%s\nand get now\n%s", before, after)
			}
			// it can be steered now
			settings := &Settings{Socket: filepath.Join(dir, "admin.sock"), Backends: [2]string{"sailings", "sailings"},
				Servers: [2]string{stem([]string{found.Servers[0].Name, found.Servers[1].Name}), "green"}}
			d := New(place.Local{}, plan.Front{Listen: listen, Key: plan.Key{From: plan.KeyRandom}, Settings: settings,
				Sticky: s.section != "", Order: filepath.Join(dir, "order")})
			if list, err := d.Lacks(t.Context()); err != nil || len(list) > 0 {
				t.Errorf("after the change it lacks %q, %v", list, err)
			}
			err = d.SetInstances(t.Context(), split.Green, []reading.Server{{Name: "green-1", Address: green}})
			var r reading.Front
			if err == nil {
				err = d.Reach(t.Context(), green)
			}
			if err == nil {
				r, err = d.Read(t.Context())
			}
			if err == nil {
				_, err = d.Set(t.Context(), split.Whole, front.AsRead(r))
			}
			if err != nil {
				t.Fatal(err)
			}
			if s.section == "" && !strings.Contains(fronttest.Asked(t, listen, "/s"), "green") { // else sessions stay
				t.Errorf("all on green, and it says %s", fronttest.Asked(t, listen, "/s"))
			}
		})
	}
}
