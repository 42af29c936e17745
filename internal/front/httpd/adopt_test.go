package httpd

import (
	"cmp"
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

// stoods are configurations that stood before Vaiven came, by what stands in a file beside the main one. DIR,
// LISTEN, ONE, TWO and THREE stand for the folder, where it listens, and two instances and another service's.
var stoods = map[string]struct {
	site    string
	of      string // what is adopted; "" for the balancer
	counted int    // of four requests, those that are its own
	notes   []string
	never   bool
}{
	"a virtual host with parameters": {
		site: "CustomLog DIR/main.log common\n<Proxy \"balancer://sailings\">\n\tBalancerMember \"http://ONE\" timeout=7\n" +
			"\tBalancerMember http://TWO timeout=7\n\tBalancerMember http://THREE status=+H\n</Proxy>\n<VirtualHost *:*>\n" +
			"\tProxyPreserveHost On\n\tProxyPass /other http://THREE/\n\tProxyPassMatch \"^/m/(.*)$\" \"balancer://sailings/x/$1\"\n" +
			"\tProxyPass / balancer://sailings/\n</VirtualHost>\n",
		counted: 3,
		notes:   []string{"hot standby", "2 lines lead to sailings"},
	},
	"no virtual host, and a location": {
		site: "CustomLog DIR/main.log common\n<Proxy balancer://sailings>\n  BalancerMember http://ONE\n" +
			"  BalancerMember http://TWO\n</Proxy>\n<Location /other>\n  ProxyPass http://THREE/\n</Location>\n" +
			"<Location />\n  ProxyPass balancer://sailings/\n</Location>\n",
		counted: 4,
	},
	"an address, with what it replaces": {
		site: "CustomLog DIR/main.log common\n<VirtualHost *:*>\n\tProxyPass /other http://THREE/\n" +
			"\tProxyPass / http://ONE/ timeout=7\n\tProxyPassReverse / http://ONE/\n</VirtualHost>\n",
		counted: 3, of: "ONE",
	},
	"an address in a location": {
		site: "CustomLog DIR/main.log common\n<Location />\n\tProxyPass http://ONE/\n\tProxyPassReverse http://ONE/\n" +
			"</Location>\n<Location /other>\n\tProxyPass http://THREE/\n</Location>\n",
		counted: 3, of: "ONE",
	},
	"sessions": {
		site: "<Proxy balancer://sailings>\n  BalancerMember http://ONE route=a\n  ProxySet stickysession=ferry\n</Proxy>\n" +
			"ProxyPass / balancer://sailings/\n",
		never: true,
	},
}

// What the survey would change is what has it steered, and changes nothing for anybody.
func TestWhatStoodIsAdopted(t *testing.T) {
	program := fronttest.Need(t, Kind.Program)
	for name, s := range stoods {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			for d := dir; d != "/" && d != os.TempDir(); d = filepath.Dir(d) {
				_ = os.Chmod(d, 0o755) // for processes of another user
			}
			port, _ := testkit.Ports(t, 1)
			listen := fronttest.Address(port)
			places := []string{"DIR", dir, "LISTEN", listen}
			instance := func(who string) string {
				return fronttest.Echo(t, who, func(*http.Request) []string { return nil })
			}
			places = append(places, "ONE", instance("blue"), "TWO", instance("blue"), "THREE", instance("other"))
			own := plan.Front{Listen: listen, Settings: &Settings{Balancer: "nobody"}}
			c := config("nobody", own, front.Site{Folder: dir})
			head, _, _ := strings.Cut(c.Text, "Include")
			head, _, _ = strings.Cut(head, "<VirtualHost")
			head, _, _ = strings.Cut(head, "<Proxy")
			fronttest.Write(t, c.File, head+"\nIncludeOptional DIR/sites/*.conf\n", places...)
			fronttest.Write(t, filepath.Join(dir, "sites", "a.conf"), s.site, places...)
			p := fronttest.Start(t, listen, program, c.Args...)
			paths := []string{"/", "/other/a", "/m/k", "/s?x=1"}
			before := fronttest.Asked(t, listen, paths...)
			all, err := survey(t.Context(), place.Local{}, front.Target{Name: c.File})
			if err != nil {
				t.Fatal(err)
			}
			of := strings.NewReplacer(places...).Replace(cmp.Or(s.of, "sailings"))
			n := slices.IndexFunc(all, func(f front.Surveyed) bool { return f.Name == of })
			if n < 0 {
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
					t.Error("it would lose the sessions")
				}
				return
			}
			change := found.Adopt(t.Context(), "sailings")
			if change.Err != nil || len(change.Files) != 1 {
				t.Fatalf("httpd does not take the change: %v", change.Err)
			}
			h := &Settings{Balancer: "sailings", Parameters: "timeout=7"}
			h.Config, h.Program, h.File = c.File, []string{program}, filepath.Join(dir, "vaiven", "sailings.conf")
			h.Log = filepath.Join(dir, "sailings.log")
			d := NewIncluded(place.Local{}, "sailings", plan.Front{Listen: listen, Key: plan.Key{From: plan.KeyRandom},
				Settings: h})
			var known [2][]reading.Server
			for _, v := range found.Servers {
				known[split.Blue] = append(known[split.Blue], reading.Server{Name: v.Name, Address: v.Address})
			}
			if made, err := d.Prepare(t.Context(), known); err != nil || !made {
				t.Fatalf("made %v, %v", made, err)
			}
			for _, e := range change.Files {
				fronttest.Write(t, e.Name, string(e.Now))
			}
			if list, err := d.Lacks(t.Context()); err != nil || len(list) > 0 {
				t.Errorf("after the change it lacks %q, %v", list, err)
			}
			fronttest.Reload(p, syscall.SIGUSR1, d.File.Server.Running, include.AllNew)(t)
			if after := fronttest.Asked(t, listen, paths...); after != before {
				t.Errorf("users got\n%s\nand get now\n%s", before, after)
			}
			fronttest.Counted(t, d, h.Log, s.counted, paths)
		})
	}
}

// A balancer with a manager gets what it lacks: members for green, and what keeps what the manager is told.
func TestAManagerThatStoodIsAdopted(t *testing.T) {
	program := fronttest.Need(t, Kind.Program)
	dir := t.TempDir()
	for d := dir; d != "/" && d != os.TempDir(); d = filepath.Dir(d) {
		_ = os.Chmod(d, 0o755) // for processes of another user
	}
	port, _ := testkit.Ports(t, 1)
	listen := fronttest.Address(port)
	instance := func() string {
		return fronttest.Echo(t, "blue", func(*http.Request) []string { return nil })
	}
	c := config("nobody", plan.Front{Listen: listen, Settings: &Settings{Balancer: "nobody"}}, front.Site{Folder: dir})
	head, _, _ := strings.Cut(c.Text, "<Proxy")
	head, _, _ = strings.Cut(head, "# Without")
	fronttest.Write(t, c.File, head+"\nIncludeOptional DIR/sites/*.conf\n", "DIR", dir)
	fronttest.Write(t, filepath.Join(dir, "sites", "a.conf"), "CustomLog DIR/main.log common\n<Proxy balancer://sailings>\n"+
		"\tBalancerMember http://ONE timeout=7\n\tBalancerMember http://TWO timeout=7\n</Proxy>\n<VirtualHost LISTEN>\n"+
		"\t<Location /shares>\n\t\tSetHandler balancer-manager\n\t</Location>\n\tProxyPass /shares !\n"+
		"\tProxyPass / balancer://sailings/\n</VirtualHost>\n", "LISTEN", listen, "DIR", dir, "ONE",
		instance(), "TWO", instance())
	p := fronttest.Start(t, listen, program, c.Args...)
	paths := []string{"/", "/a", "/s?x=1"}
	before := fronttest.Asked(t, listen, paths...)
	found := func(of front.Target) front.Surveyed {
		t.Helper()
		all, err := survey(t.Context(), place.Local{}, of)
		if err != nil || len(all) != 1 {
			t.Fatalf("it finds %+v, %v", all, err)
		}
		return all[0]
	}
	if s := found(front.Target{Name: c.File}); s.Adopt != nil ||
		!strings.Contains(strings.Join(s.Notes, " "), "--ports") {
		t.Errorf("without ports it would change something, and says %q", s.Notes)
	}
	s := found(front.Target{Name: c.File, Ports: [2]int{18100, 18102}, Sticky: true})
	if !strings.Contains(s.Section, "sticky: yes") || !strings.Contains(s.Section, "http://"+listen+"/shares") {
		t.Errorf("the plan's section is %s", s.Section)
	}
	change := s.Adopt(t.Context(), "sailings")
	if change.Err != nil || len(change.Files) != 1 {
		t.Fatalf("httpd does not take the change: %v", change.Err)
	}
	h := &Settings{Balancer: "sailings", Manager: "http://" + listen + "/shares"}
	h.Config, h.Program, h.Log = c.File, []string{program}, filepath.Join(dir, "sailings.log")
	m := NewManager(place.Local{}, plan.Front{Listen: listen, Sticky: true, Key: plan.Key{From: plan.KeyRandom},
		Settings: h, Order: filepath.Join(dir, "order")})
	if list, err := m.Lacks(t.Context()); err != nil || len(list) == 0 {
		t.Errorf("before the change it lacks %q, %v", list, err)
	}
	for _, e := range change.Files {
		fronttest.Write(t, e.Name, string(e.Now))
	}
	if list, err := m.Lacks(t.Context()); err != nil || len(list) > 0 {
		t.Errorf("after the change it lacks %q, %v", list, err)
	}
	p.Signal(syscall.SIGUSR1)
	testkit.Until(t, "members for green, switched off", func() error {
		b, err := m.look(t.Context())
		if err == nil && (len(b.workers) != 5 || slices.ContainsFunc(b.workers[2:],
			func(w worker) bool { return w.state != off })) {
			err = fmt.Errorf("there are %+v", b.workers)
		}
		return err
	})
	if after := fronttest.Asked(t, listen, paths...); after != before {
		t.Errorf("users got\n%s\nand get now\n%s", before, after)
	}
	var known []reading.Server
	for n, v := range s.Servers {
		known = append(known, reading.Server{Name: fmt.Sprintf("blue-%d", n+1), Address: v.Address})
	}
	if err := m.SetInstances(t.Context(), split.Blue, known); err != nil {
		t.Fatal(err)
	}
	fronttest.Counted(t, m, h.Log, 3, paths)
}
