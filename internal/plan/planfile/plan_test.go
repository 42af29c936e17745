package planfile

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"

	"vaiven/docs"
	"vaiven/internal/core/calendar"
	"vaiven/internal/core/people"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/front/asked"
	"vaiven/internal/front/cluster"
	"vaiven/internal/front/dns"
	"vaiven/internal/front/embedded"
	"vaiven/internal/front/queue"
	"vaiven/internal/world/broker"
	"vaiven/internal/world/section"
	"vaiven/internal/world/trust"
	"vaiven/lab/testkit"
)

const smallest = `service: sailings
stack:
  command: ./{version}/run {address}
  ports: 18100-18109
smoke:
  - request: /
route:
  - 100 %
`

func hoursOf(t *testing.T, zone string, spans ...string) (h calendar.Hours) {
	t.Helper()
	var err error
	if h.Zone, err = time.LoadLocation(zone); err != nil {
		t.Fatal(err)
	}
	for _, text := range spans {
		s, err := calendar.ParseSpan(text)
		if err != nil {
			t.Fatal(err)
		}
		h.Spans = append(h.Spans, s)
	}
	return h
}

func TestEveryKeyIsRead(t *testing.T) {
	p, err := Read("testdata/full.yaml")
	if err != nil {
		t.Fatal(err)
	}
	file, _ := filepath.Abs("testdata/full.yaml")
	base, _ := filepath.Abs("testdata")
	blue := plan.Stack{
		Instances: 3, Command: []string{"/srv/{service}/builds/{version}/sailings", "--listen", "{address}"},
		Build: "/srv/{service}/builds/{version}", Folder: "/srv/{service}",
		Environment: map[string]string{"REGION": "north", "NAME": "{instance}", "PLATFORM": "old"},
		FirstPort:   18100, LastPort: 18199, Raise: 20 * time.Second, Grace: 5 * time.Second,
		Capacity: plan.Capacity{Each: 120, Of: map[string]float64{"green-4": 60, "10.1.0.6": 240}},
		Output:   plan.Output{Size: 1 << 20, Keep: 5},
		Price:    plan.Price{Amount: 0.048, Unit: "EUR"}, Engine: "/var/run/docker.sock", Network: "host",
	}
	green := blue
	green.Instances = 4
	green.Command = []string{"/opt/sailings {version}/run", "--port", "{port}"}
	green.Build = "builds/{version}"
	green.Environment = map[string]string{"REGION": "north", "NAME": "{instance}"}
	green.Hosts = []plan.Host{{User: "deploy", Address: "10.1.0.5:22"}, {User: "deploy", Address: "10.1.0.6:2222"}}
	green.Identity, green.KnownHosts = base+"/keys/deploy", base+"/keys/known_hosts"
	smoke := func(c plan.Check) plan.Check {
		c.Every, c.Up, c.Down = time.Second, 1, 1
		if c.Within == 0 {
			c.Within = time.Second
		}
		return c
	}
	worker := newPart("worker")
	worker.Versions = plan.Versions{Kind: plan.VersionRegistry, Where: "registry.internal/worker"}
	for i := range worker.Stacks {
		s := &worker.Stacks[i]
		s.Image, s.Engine, s.Network, s.Port = "registry.internal/worker@{build}", "/run/engine.sock", "ferries", 8080
		s.Memory, s.CPUs = 256<<20, 0.5
	}
	worker.Health.Every, worker.Health.What = 2*time.Second, plan.TCP{Address: "{address}"}
	worker.Smoke = []plan.Check{smoke(plan.Check{Name: "tcp {address}", What: plan.TCP{Address: "{address}"}})}
	cache := newPart("cache")
	cache.Versions = plan.Versions{Kind: plan.VersionFolder, Where: base + "/caches"}
	for i := range cache.Stacks {
		cache.Stacks[i].Tool = []string{base + "/yard", "--service", "{service}"}
	}
	cache.Smoke = worker.Smoke
	want := &plan.Plan{
		File: file, Base: base + "/shared.yaml", Service: "sailings", State: "/var/lib/sailings",
		Secrets: map[string]plan.Secret{"fares": {Env: "FARES_PASSWORD", At: "testdata/full.yaml:5"},
			"token": {File: base + "/secrets/token", At: "testdata/full.yaml:6"}},
		Front: plan.Front{
			Listen: "127.0.0.1:8080", Key: plan.Key{From: plan.KeyCookie, Name: "passenger"},
			Spare: plan.SpareDoor{Listen: "127.0.0.1:8090", Header: "X-Vessa-Try", Cookie: "try",
				File: "/var/lib/sailings/spare.secret"},
			Carry: [2]plan.Capacity{blue.Capacity, green.Capacity},
			Settings: &embedded.Settings{
				Tell: true, Shuffle: true, HeaderSize: 32 << 10, HeaderTime: 5 * time.Second, Idle: time.Minute,
				BodyRate: 1000, FirstByte: 20 * time.Second, NextByte: 2 * time.Minute,
				TunnelIdle: time.Hour, Connections: 2000, PerClient: 100,
				TrustedProxies: []netip.Prefix{netip.MustParsePrefix("10.1.0.7/32"), netip.MustParsePrefix("fd00::/8")},
				Announced:      []netip.Prefix{netip.MustParsePrefix("10.2.0.0/16")},
				Certificates: []embedded.Certificate{{File: base + "/tls/sailings.pem",
					Key: "/etc/ssl/sailings.key"}},
				ClientCA: base + "/tls/clients.pem", HTTP2: true, BodySize: 8 << 20,
				Paths: []embedded.Path{{Begins: "/manifests/", FirstByte: 3 * time.Minute, NextByte: 10 * time.Minute,
					BodySize: 2 << 30}},
			},
		},
		Parts: []plan.Part{{
			Name:     "search",
			Versions: plan.Versions{Kind: plan.VersionTags, Where: filepath.Dir(base) + "/sailings", Ref: "v*"},
			Stacks:   [2]plan.Stack{blue, green},
			Health: plan.Check{
				Name: "health", Every: 500 * time.Millisecond, Within: 250 * time.Millisecond, Up: 3, Down: 2,
				What: plan.HTTP{Method: "GET", URL: "/healthz", Caches: true},
			},
			Settle: time.Second,
			Smoke: []plan.Check{
				smoke(plan.Check{Name: "search", Within: 300 * time.Millisecond, What: plan.HTTP{
					Method: "POST", URL: "/sailings", Headers: map[string]string{"Host": "sailings.example"},
					Status: 201, Contains: "Aurelia",
					JSON: []plan.JSONValue{{Path: "sailings.0.ship", Want: "Aurelia"},
						{Path: "sold-out", Want: "false"}, {Path: "berths", Want: "null"}},
					Version: plan.Field{Header: "X-Version"},
				}}),
				smoke(plan.Check{Name: "GET /fares", What: plan.HTTP{
					Method: "GET", URL: "/fares", Status: 200, Version: plan.Field{JSON: "version"}, Redirects: true,
					Caches: true,
				}}),
				smoke(plan.Check{Name: "GET https://{address}/berths", What: plan.HTTP{
					Method: "GET", URL: "https://{address}/berths", Status: 200,
					Trust: plan.Trust{CA: base + "/ca.pem", Name: "berths.example"},
				}}),
				smoke(plan.Check{Name: "tcp {host}:{port}", What: plan.TCP{Address: "{host}:{port}"}}),
				smoke(plan.Check{Name: "tls {address}", What: plan.TLS{Address: "{address}", Days: 30}}),
				smoke(plan.Check{Name: "grpc sailings.Search",
					What: plan.GRPC{Address: "{address}", Service: "sailings.Search", Secure: true}}),
				smoke(plan.Check{Name: "./look",
					What: plan.Command{Words: []string{"./look", "{address}"},
						Environment: map[string]string{"PASSWORD": "{secret fares}"}, Status: 3, Contains: "well"}}),
			},
			Needs: []plan.Check{
				{
					Name: "fares", Every: 2 * time.Second, Within: 4 * time.Second, Up: 2, Down: 3, Settle: time.Second,
					What: plan.SQL{URL: "postgres://fares:{secret fares}@db.internal:5432/fares",
						Query: "select count(*) from fares", Answer: "12"},
				},
				{
					Name: "dns fares.internal", Every: time.Second, Within: 3 * time.Second, Up: 1, Down: 2,
					What: plan.DNS{Name: "fares.internal", Type: "CNAME", Answer: "db.internal",
						Server: "10.0.0.53:53"},
				},
			},
			Says: plan.Says{Path: "/about", Build: plan.Field{JSON: "build"},
				Version: plan.Field{Header: "X-Version"}, Runtime: plan.Field{JSON: "runtime"}},
			Figures:       plan.Page{Path: "/metrics", Every: 2 * time.Second},
			Configuration: []string{"conf/{version}.yaml"},
		}, worker, cache},
		Differences: plan.Differences{Meant: []plan.Meant{{Area: "build"}, {Area: "environment", Name: "FEATURE_*"}},
			Secret: []string{"BERTH_*"}, Shown: []string{"SORT_KEY"}, Then: plan.Stop},
		Pairs: plan.Pairs{
			Requests: []plan.Request{{Method: "GET", Path: "/sailings?from=vessa"}, {Method: "POST", Path: "/fares"}},
			Hosts:    []string{"vessa.example"}, Headers: map[string]string{"Authorization": "Bearer {secret fares}"},
			Log: base + "/access.log", HAR: base + "/session.har", Rate: 40, Repeat: 10,
			Ignore: []string{"json version", "header Date"}, Writes: true, Within: 2 * time.Second, Then: plan.Note,
		},
		WarmUp: plan.WarmUp{Requests: 200, Rate: 50},
		Route: route.Route{
			{Part: 500, Dwell: 2 * time.Minute},
			{Part: 2500, Dwell: 90 * time.Second, Sure: true, Least: 30 * time.Second}, {Part: split.Whole, Ask: true},
		},
		Keep: 30 * time.Minute, Then: plan.ThenAsk, KeepLog: 90 * 24 * time.Hour,
		Sources: newSources(),
		Guards: []plan.Guard{
			{Name: "failing", Watch: plan.Failing, Margin: 0.005, Find: 0.015, Then: plan.Freeze},
			{Name: "over 400ms", Watch: plan.Slow, After: 400 * time.Millisecond, Margin: 0.02, Find: 0.04,
				Then: plan.RollBack},
			{Name: "over 2s", Watch: plan.Slow, After: 2 * time.Second, Margin: 0.005, Find: 0.02, Then: plan.Freeze},
			{Name: "unhealthy", Watch: plan.Unhealthy, Most: 1, Then: plan.Freeze},
			{Name: "no answer at the front", Watch: plan.Lost, Off: true, Then: plan.RollBack},
			{Name: "door", Watch: plan.Door, After: 600 * time.Millisecond, Margin: 0.1, Find: 0.2, Then: plan.Freeze},
			{Name: "memory grows", Every: 2 * time.Second, Watch: plan.Grows, Figure: plan.Figure{Name: "process_resident_memory_bytes"},
				Margin: 10e6, Settle: 30 * time.Second, Then: plan.Freeze},
			{Name: "jobs_open grows", Every: 2 * time.Second, Watch: plan.Grows,
				Figure: plan.Figure{Name: "jobs_open", Labels: map[string]string{"kind": "print", "lane": "2"}},
				Margin: 0.5, Settle: time.Minute, Then: plan.RollBack},
			{Name: "process_open_fds higher", Every: 2 * time.Second, Watch: plan.Higher, Figure: plan.Figure{Name: "process_open_fds"},
				Margin: 20, Settle: 30 * time.Second, Then: plan.Freeze},
			{Name: "fewer booked_total", Every: 2 * time.Second, Watch: plan.Fewer, Figure: plan.Figure{Name: "booked_total"}, Margin: 0.1,
				After: time.Minute,
				Then:  plan.Freeze},
		},
		Find: 0.02, Sure: 0.995, Quiet: plan.QuietGoOn,
		Hours:  hoursOf(t, "Europe/Rome", "Mon-Fri 09:00-16:30", "Mon, Wed 22:00-02:00"),
		Closed: base + "/days/closed.ics", Embargo: "https://harbour.lineavessa.example/embargo",
		Start: plan.Start{When: plan.StartAppears, Every: 2 * time.Minute, Far: plan.FarLeg,
			At: calendar.Clock{Zone: hoursOf(t, "Europe/Rome").Zone, At: 150 * time.Minute}},
		Build: plan.Build{Words: []string{base + "/make-version"}, Within: 20 * time.Minute,
			Environment: map[string]string{"TOKEN": "{secret fares}"}},
		People: people.Rules{Socket: "sailings", Gate: "gatekeeper",
			Groups: map[string][]string{"crew": {"marit", "@oncall"}},
			May: map[people.Right][]string{people.Watch: {people.Everybody}, people.Begin: {"crew", "deploy"},
				people.Steer: {"crew"}, people.Approve: {"crew"}, people.Accept: {"crew"}, people.Force: {},
				people.Retire: {"crew"}},
			Asks: map[string][]string{"leg 2": {"ines"}}, FourEyes: true},
		WayBack: plan.WayBack{Every: 30 * time.Second, Checks: []plan.Check{{
			Name: "data still fit", Every: time.Second, Within: 3 * time.Second, Up: 1, Down: 2,
			What: plan.SQL{URL: "postgres://fares:{secret fares}@db.internal:5432/fares",
				Query: "select count(*) from sailings where deck is not null", Answer: "0"},
		}}},
		Hooks: []plan.Hook{
			{Moment: plan.BeforeRaise, Words: []string{base + "/permit", "open"}, Within: 30 * time.Second},
			{Moment: plan.WhenProven, Words: []string{base + "/tell", "the new side"}, Within: 30 * time.Second},
			{Moment: plan.BeforeLeg, Words: []string{base + "/permit", "check"}, Within: 5 * time.Second},
			{Moment: plan.BeforeLeg, Words: []string{"/opt/look", "--deep"}, Within: 30 * time.Second, There: true},
			{Moment: plan.AfterLeg, Words: []string{base + "/tell", "leg"}, Within: 30 * time.Second},
			{Moment: plan.WhenRolled, Words: []string{base + "/permit", "close"}, Within: 30 * time.Second,
				Environment: map[string]string{"PASSWORD": "{secret fares}"}},
			{Moment: plan.WhenOff, Words: []string{base + "/permit", "close"}, Within: 30 * time.Second},
			{Moment: plan.WhenSettled, Words: []string{base + "/permit", "close"}, Within: 30 * time.Second},
			{Moment: plan.WhenFrozen, Words: []string{base + "/tell", "frozen"}, Within: 30 * time.Second},
			{Moment: plan.WhenAsks, Words: []string{base + "/tell", "asks"}, Within: 30 * time.Second},
			{Moment: plan.WhenLiveIll, Words: []string{base + "/tell", "somebody"}, Within: 30 * time.Second},
			{Moment: plan.BeforeRetire, Words: []string{base + "/look", "at-it"}, Within: 30 * time.Second},
		},
		Limit: plan.Limit{Part: 0.8, Refuses: true}, Harm: 500,
		Door: plan.Entrance{
			Secure: true, Host: "sailings.example:8443", Name: "sailings.example", CA: base + "/tls/ca.pem",
			Certificate: base + "/tls/client.pem", Key: base + "/tls/client.key",
			Headers: map[string]string{"X-Tenant": "vessa", "Authorization": "Bearer {secret fares}"}, HTTP1: true,
		},
		Prober: plan.Prober{
			Path: "/sailings?from=vessa", Rate: 50, Within: time.Second, Status: 200, Contains: "ship",
			JSON: []plan.JSONValue{{Path: "company", Want: "Linea Vessa"}},
			Side: plan.Field{Header: "X-Side"}, Version: plan.Field{JSON: "version"},
		},
	}
	p.Digest = ""
	if !reflect.DeepEqual(p, want) {
		t.Errorf("read\n%+v\nwant\n%+v", p, want)
	}
}

func TestTheSmallestPlanHasDefaults(t *testing.T) {
	p, err := Parse("small.yaml", []byte(smallest))
	if err != nil {
		t.Fatal(err)
	}
	resolve(p, "/plans")
	if p.State != "/plans/sailings.vaiven" || p.Socket() != "/plans/sailings.vaiven/front.sock" {
		t.Errorf("state in %s, socket %s", p.State, p.Socket())
	}
	if s := p.Main().Stacks[split.Green]; s.Command[0] != "/plans/{version}/run" || s.Build != "/plans/{version}/run" ||
		s.Instances != 1 {
		t.Errorf("green is %+v", s)
	}
	if p.Keep != 30*time.Minute || p.Then != plan.ThenRetire || p.Front.Key.From != plan.KeyRandom {
		t.Errorf("keep %v, then %v, key %v", p.Keep, p.Then, p.Front.Key)
	}
}

// All mistakes of a file are said at once, each with its place and what would be
// right.
func TestMistakes(t *testing.T) {
	_, err := Read("testdata/mistakes.yaml")
	var problems section.Problems
	if !errors.As(err, &problems) {
		t.Fatalf("error %v, want section.Problems", err)
	}
	testkit.Golden(t, "mistakes.txt", err.Error()+"\n")
}

func TestMistakesInShape(t *testing.T) {
	for _, c := range []struct {
		name, text, want string
	}{
		{"empty", "", "1:1: the file is empty"},
		{"only a comment", "# nothing\n", "the file is empty"},
		{"not YAML", "service: [a\n", "not YAML"},
		{"not a plan at all", strings.Repeat("x", 1<<20), "too many for a plan"},
		{"deep nesting", strings.Repeat("[", 60_000), "too deeply"},
		{"deep nesting of mappings", strings.Repeat("{a: ", 15_000), "too deeply"},
		{"a list", "- a\n- b\n", "has to be a mapping"},
		{"one word", "sailings", "has to be a mapping"},
		{"two documents", smallest + "---\nservice: fares\n", "a second document"},
		{"an alias", strings.Replace(smallest, "service: sailings", "service: &s sailings", 1),
			"anchors, aliases and tags"},
		{"a value where a mapping belongs", strings.Replace(smallest, "stack:\n", "front: yes\nstack:\n", 1),
			"front has to be a mapping"},
		{"a mapping where a value belongs", strings.Replace(smallest, "service: sailings", "service: {a: b}", 1),
			"single value"},
		{"an empty value", strings.Replace(smallest, "sailings", "", 1), "is empty"},
		{"a route that ends early", strings.Replace(smallest, "100 %", "50 %", 1), "does not end at 100 %"},
		{"a route without legs", strings.Replace(smallest, "  - 100 %", "  []", 1), "at least one leg"},
		{"a last leg that dwells", strings.Replace(smallest, "100 %", "100 % for 2m", 1),
			"the last leg cannot have an end"},
		{"asks twice", strings.Replace(smallest, "  - 100 %", "  - ask\n  - ask\n  - 100 %", 1), "asked twice"},
		{"no smoke check", strings.Replace(smallest, "  - request: /\n", "  []\n", 1), "no smoke check"},
		{"an uncertain certainty", smallest + "guards:\n  sure: 20 %\n", "no useful certainty"},
		{"a fault that is allowed", smallest + "guards:\n  failing: {worse-by: 2 %, find: 1 %}\n",
			"make find larger than worse-by"},
		{"no fault at all", smallest + "guards: {find: 0 %}\n", "is no fault to find"},
		{"a leg for a time and until sure", strings.Replace(smallest, "100 %", "5 % until sure for 2m\n  - 100 %", 1),
			"lasts for a time and until sure"},
		{"a leg with other terms", strings.Replace(smallest, "100 %", "5 % until sure, perhaps\n  - 100 %", 1),
			"says nothing of how long"},
		{"a leg that ends before it may", strings.Replace(smallest, "100 %", "5 % until sure, at least 5m, at most "+
			"2m\n  - 100 %", 1), "make the second the longer one"},
		{"more than all", strings.Replace(smallest, "100 %", "60 % beside control for 2m\n  - 100 %", 1),
			"as much for a control group are more than all"},
		{"a control group later", strings.Replace(smallest, "100 %", "5 % for 2m\n  - 10 % beside control for 2m\n  - 100 %", 1),
			"stands from the first leg on"},
		{"a control group and a key", strings.Replace(smallest, "100 %", "5 % beside control for 2m\n  - 100 %", 1) +
			"front:\n  key: cookie passenger\n", "would change its clients"},
		{"a last leg until sure", strings.Replace(smallest, "100 %", "100 % until sure", 1),
			"the last leg cannot have an end"},
		{"figures from nowhere", smallest + "guards:\n  grows: {figure: memory_bytes, by: 10 MB}\n",
			"figures: /metrics"},
		{"no figure", smallest + "figures: /metrics\nguards:\n  grows: {figure: 'memory bytes', by: 10 MB}\n",
			"is no figure"},
		{"labels left open", smallest + "figures: /metrics\nguards:\n  higher: {figure: 'open{kind=\"a\"', by: 1}\n",
			"is no figure"},
		{"labels without quotes", smallest + "figures: /metrics\nguards:\n  higher: {figure: 'open{kind=a}', by: 1}\n",
			"is no figure"},
		{"no amount", smallest + "figures: /metrics\nguards:\n  grows: {figure: memory_bytes, by: much}\n",
			"is no amount"},
		{"a part of all", smallest + "figures: /metrics\nguards:\n  fewer: {figure: booked_total, by: 100 %}\n",
			"less than 100 %"},
		{"no such time", smallest + "guards:\n  slow: {after: often}\n", "\"usual\""},
		{"no user", smallest + "people:\n  may: {begin: [two words]}\n", "is no user"},
		{"no right", smallest + "people:\n  may: {beginn: [marit]}\n", "begin"},
		{"no ask", smallest + "people:\n  may: {begin: [marit]}\n  asks: {leg: [marit]}\n", "is nothing that is asked"},
		{"an ask twice", smallest + "people:\n  may: {begin: [marit]}\n  asks: {leg 2: [marit], leg  2: [jon]}\n", "twice"},
		{"a group of nobody's", smallest + "people:\n  groups: {crew: [marit]}\n  may: {begin: [marit]}\n", "named nowhere"},
		{"everybody's group", smallest + "people:\n  groups: {everybody: [marit]}\n  may: {begin: [everybody]}\n",
			"is nobody's group"},
		{"a socket without rights", smallest + "people:\n  socket-group: sailings\n", "what the members"},
		{"a time without a zone", smallest + "start: {at: \"02:30\"}\n", "in which time zone"},
		{"no time of day", smallest + "start: {at: \"25:00\", zone: UTC}\n", "at"},
		{"too often", smallest + "start: {when: appears, every: 10ms}\n", "asks too much"},
		{"no way to begin", smallest + "start: {until: leg 1}\n", "first leg"},
		{"a build with a placeholder", smallest + "build: ./make {version}\n", "has a placeholder"},
		{"what is missing", "service: a\n", `the plan needs "stack"`},
	} {
		_, err := Parse("p.yaml", []byte(c.text))
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v\nwant it to say %q", c.name, err, c.want)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, name := range []string{"full.yaml", "mistakes.yaml"} {
		data, err := os.ReadFile(filepath.Join("testdata", name))
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data)
	}
	f.Add([]byte(smallest))
	for _, s := range []string{"a: &b c\n*b: d", "? [x]\n: y", "service: |\n  a\n", "!!binary x", "<<: a",
		"{a: {b: {c: [", "\t", "\xff", "route: [5 %]\nroute: [ask]"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := Parse("p.yaml", data)
		if err == nil {
			resolve(p, "/plans")
			if _, err := p.Route.Check(); err != nil {
				t.Fatalf("a plan was taken whose route is none: %v", err)
			}
			return
		}
		var problems section.Problems
		if !errors.As(err, &problems) || len(problems.List) == 0 {
			t.Fatalf("the error says nothing: %v", err)
		}
		for _, q := range problems.List {
			if q.Line < 1 || q.Column < 1 || q.What == "" {
				t.Fatalf("a mistake without place or words: %+v", q)
			}
		}
	})
}

func TestNearest(t *testing.T) {
	for word, want := range map[string]string{"helth": "health", "Route": "route", "rote": "route", "completely": "",
		"x": ""} {
		if got := section.Nearest(word, []string{"health", "route", "keep"}); got != want {
			t.Errorf("nearest(%q) = %q, want %q", word, got, want)
		}
	}
}

// Every key of every mapping is described in the documents, and the full plan has
// it.
func TestEveryKeyIsDocumented(t *testing.T) {
	docs, err := os.ReadFile("../../../docs/plan.md")
	if err != nil {
		t.Fatal(err)
	}
	full, err := os.ReadFile("testdata/full.yaml")
	if err != nil {
		t.Fatal(err)
	}
	fronts, err := os.ReadFile("testdata/fronts.yaml")
	if err != nil {
		t.Fatal(err)
	}
	stands, err := os.ReadFile("testdata/stands.yaml")
	if err != nil {
		t.Fatal(err)
	}
	names, err := os.ReadFile("testdata/names.yaml")
	if err != nil {
		t.Fatal(err)
	}
	clusters, err := os.ReadFile("testdata/cluster.yaml")
	if err != nil {
		t.Fatal(err)
	}
	queues, err := os.ReadFile("testdata/queue.yaml")
	if err != nil {
		t.Fatal(err)
	}
	told, err := os.ReadFile("testdata/figures.yaml")
	if err != nil {
		t.Fatal(err)
	}
	notices, err := os.ReadFile("testdata/notices.yaml")
	if err != nil {
		t.Fatal(err)
	}
	full = slices.Concat(full, fronts, stands, names, clusters, queues, told, notices)
	const wrong = "zzzzzzzzzzzzzzzzzzzzzzzzzzzzzz: 1"
	for _, mapping := range []string{
		wrong, "front: {" + wrong + "}", "front: {embedded: {" + wrong + "}}", "front: {haproxy: {" + wrong + "}}",
		"front: {nginx: {" + wrong + "}}", "front: {httpd: {" + wrong + "}}", "front: {dns: {" + wrong + "}}",
		"front: {cluster: {" + wrong + "}}", "front: {dns: {counts: {" + wrong + "}}}",
		"front: {queue: {" + wrong + "}}", "front: {queue: {green-at: {" + wrong + "}}}", "stack: {" + wrong + "}",
		"stack: {cluster: {" + wrong + "}}", "health: {" + wrong + "}",
		"guards: {" + wrong + "}", "guards: {failing: {" + wrong + "}}", "guards: {slow: {" + wrong + "}}",
		"guards: {grows: {" + wrong + "}}", "guards: {fewer: {" + wrong + "}}", "figures: {" + wrong + "}",
		"guards: {rate: {" + wrong + "}}", "guards: {bound: {" + wrong + "}}", "guards: {alert: {" + wrong + "}}",
		"notices: {" + wrong + "}", "notices: {mail: {" + wrong + "}}", "notices: {answers: {" + wrong + "}}",
		"notices: {tell: [{" + wrong + "}]}", "figures: {prometheus: {" + wrong + "}}", "figures: {sql: {" + wrong + "}}", "figures: {command: {" + wrong + "}}",
		"guards: {lost: {" + wrong + "}}", "guards: {waits: {" + wrong + "}}", "prober: {" + wrong + "}",
		"door: {" + wrong + "}", "hooks: {" + wrong + "}", "hooks: {proven: {" + wrong + "}}",
		"differences: {" + wrong + "}", "same-request: {" + wrong + "}",
		"says: {" + wrong + "}", "smoke: [{request: /, " + wrong + "}]", "smoke: [{tcp: a:1, " + wrong + "}]",
		"smoke: [{tls: a:1, " + wrong + "}]",
		"smoke: [{grpc: a:1, " + wrong + "}]", "smoke: [{dns: a, " + wrong + "}]", "smoke: [{sql: a, " + wrong + "}]",
		"smoke: [{command: a, " + wrong + "}]", "smoke: [{runs: 1s, " + wrong + "}]",
		"smoke: [{printed: a, " + wrong + "}]", "smoke: [{figure: a, " + wrong + "}]",
	} {
		_, err := Parse("p.yaml", []byte(mapping))
		_, names, found := strings.Cut(err.Error(), "it can have: ")
		if !found {
			t.Fatalf("%s: the keys are not named: %v", mapping, err)
		}
		names, _, _ = strings.Cut(names, "\n")
		for _, name := range strings.Split(names, ", ") {
			if !strings.Contains(string(docs), "`"+name+"`") {
				t.Errorf("docs/plan.md does not describe %q (of %s)", name, mapping)
			}
			if !strings.Contains(string(full), name+":") {
				t.Errorf("testdata/full.yaml does not have %q", name)
			}
		}
	}
}

// A password that stands in a plan where none should is not shown with its mistakes.
func TestMistakesShowNoPassword(t *testing.T) {
	_, err := Parse("p.yaml", []byte("service: s\nstack: {command: run, ports: 1000-1009}\nsmoke:\n  - {sql: "+
		"postgres://fares:herring@db/fares, qwery: x}\n  - {request: http://fares:herring@db/, status: 9000}\n"))
	if err == nil || strings.Contains(err.Error(), "herring") ||
		!strings.Contains(err.Error(), "postgres://fares:(hidden 1)@db/fares") {
		t.Errorf("it says\n%v", err)
	}
}

// What is said of the door has to fit together.
func TestTheDoor(t *testing.T) {
	const base = "service: s\nversions: folder builds\nstack: {command: run, ports: 1000-1009}\nsmoke: [{request: " +
		"/}]\nroute: [100 %]\nsecrets: {pw: env PW}\n"
	for _, c := range []struct{ door, says string }{
		{"scheme: http, ca: ca.pem", "the door is http"}, {"scheme: https", "which name"},
		{"scheme: ftp", "is not a choice"}, {"certificate: a.pem, host: a", "needs its key"},
		{"host: 'a/b'", "not a host"},
		{"headers: {A: '{instance}'}", "placeholder of an instance"},
		{"headers: {A: '{secret pwd}'}", "no secret is called"}, {"host: a, http2: perhaps", "perhaps"},
	} {
		if _, err := Parse("p.yaml", []byte(base+"door: {"+c.door+"}\n")); err == nil ||
			!strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", c.door, err)
		}
	}
	p, err := Parse("p.yaml", []byte(base+"door: {host: sailings.example, ca: ca.pem, headers: {A: '{secret pw}'}}\n"))
	if err != nil || !p.Door.Secure || p.Door.HTTP1 {
		t.Errorf("with a file of authorities: %+v, %v", p, err)
	}
}

// A hook names what it is about by its environment, and nothing by its words.
func TestHooks(t *testing.T) {
	const base = "service: s\nversions: folder builds\nstack: {command: run, ports: 1000-1009}\nsmoke: [{request: " +
		"/}]\nroute: [100 %]\nsecrets: {pw: env PW}\n"
	for _, c := range []struct{ hooks, says string }{
		{"before-raise: 'open {version}'", "VAIVEN_VERSION"}, {"before-raise: 'open {secret pw}'", "has a placeholder"},
		{"before-lunch: eat", "before-leg"}, {"proven: {within: 5s}", "run"},
		{"proven: {run: a, on: moon}", "not a choice"},
		{"proven: {run: a, environment: {A: '{instance}'}}", "placeholder of an instance"},
	} {
		if _, err := Parse("p.yaml", []byte(base+"hooks: {"+c.hooks+"}\n")); err == nil ||
			!strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", c.hooks, err)
		}
	}
}

// A limit is a part of a capacity, which has to be there.
func TestTheLimit(t *testing.T) {
	const base = "service: s\nversions: folder builds\nstack: {command: run, ports: 1000-1009%s}\nsmoke: [{request: " +
		"/}]\nroute: [100 %%]\nlimit: %s\n"
	for _, c := range []struct{ stack, limit, says string }{
		{"", "80 %", "that of blue is not said"}, {", capacity: 9 /s", "much", "is no limit of a capacity"},
		{", capacity: 9 /s", "80 %, then pray", "not a choice"}, {", capacity: 9 /s", "0 %", "is no limit"},
	} {
		if _, err := Parse("p.yaml", []byte(fmt.Sprintf(base, c.stack, c.limit))); err == nil ||
			!strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", c.limit, err)
		}
	}
	if p, err := Parse("p.yaml", []byte(fmt.Sprintf(base, ", capacity: 9 /s", "80 %"))); err != nil ||
		p.Limit != (plan.Limit{Part: 0.8}) {
		t.Errorf("80 %%: %v, %v", p, err)
	}
}

// What stands is read in every way in which it can be named. Nothing of it needs a command, ports, or a source of
// versions.
func TestWhatStands(t *testing.T) {
	p, err := Read("testdata/stands.yaml")
	if err != nil {
		t.Fatal(err)
	}
	dir, err := filepath.Abs("testdata")
	if err != nil {
		t.Fatal(err)
	}
	blue, green := p.Main().Stacks[split.Blue], p.Main().Stacks[split.Green]
	want := []plan.Stand{
		{Kind: plan.StandAddress, Address: "10.1.0.7:8080"},
		{Kind: plan.StandUnit, Name: "sailings@1.service", Address: "127.0.0.1:8081"},
		{Kind: plan.StandUnit, Name: "sailings.service", Address: "10.1.0.6:8080",
			On: plan.Host{User: "deploy", Address: "10.1.0.6:22"}},
		{Kind: plan.StandContainer, Name: "sailings-1"}, {Kind: plan.StandContainers, Name: "app=sailings,side={side}"},
		{Kind: plan.StandCommand, Words: []string{dir + "/who-runs", "{side}"}},
	}
	if !reflect.DeepEqual(blue.Stands, want) || blue.Instances != 9 || blue.Kind() != plan.Standing ||
		!p.Stands(split.Blue) {
		t.Errorf("blue is %+v", blue)
	}
	if len(green.Stands) != 1 || green.Stands[0].Kind != plan.StandFront || green.Instances != 1 ||
		green.Renew[0] != dir+"/renew" {
		t.Errorf("green is %+v", green)
	}
	const rest = "smoke: [{request: /}]\nroute: [100 %]\n"
	for _, c := range []struct{ stack, says string }{
		{"stands: []", "it is not said where instances stand"}, {"stands: berth 7", `"berth 7" does not say where`},
		{"stands: 10.1.0.5", "does not say where"},
		{"stands: ':80'", "does not say where"}, {"stands: unit a.service", "does not say where"},
		{"stands: unit a.service at 127.0.0.1:80 on gate", "not a host"},
		{"stands: container a", "no port that they listen on"},
		{"command: run, ports: 1000-1009, renew: ./renew", "nothing stands"},
		{"blue: {stands: 10.1.0.5:80}", "green has no command"},
		{"blue: {stands: 10.1.0.5:80}, green: {command: ./run, ports: 1000-1009}",
			"it is not said which versions there are"},
	} {
		if _, err := Parse("p.yaml", []byte("service: s\nstack: {"+c.stack+"}\n"+rest)); err == nil ||
			!strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", c.stack, err)
		}
	}
	if p, err := Parse("p.yaml", []byte("service: s\nstack: {blue: {stands: 10.1.0.5:80}, green: {command: "+
		"'./builds/{version}/run {address}', ports: 1000-1009}}\n"+rest)); err != nil ||
		p.Main().Versions.Where != "builds" {
		t.Errorf("one side stands: %v", err)
	}
}

// Where docs/plan.md says that a secret can stand it can, and where it says no it is refused
// with the way out. The same goes for a placeholder that nobody knows.
func TestWhereSecretsCanStand(t *testing.T) {
	docs, err := os.ReadFile("../../../docs/plan.md")
	if err != nil {
		t.Fatal(err)
	}
	const check = "stack: {command: run, ports: 1000-1009}\nsmoke: [{%s}]\n"
	with := map[string]string{ // what makes a check of a key that does not
		"headers": "request: /", "contains": "request: /", "json": "request: /", "service": "grpc: a:1",
		"server": "dns: a", "answer": "dns: a", "query": "sql: a",
		"environment": "command: look", "ca": "tls: a:1", "server-name": "tls: a:1",
	}
	value := func(key, text string) string {
		switch key {
		case "headers", "json", "environment":
			return fmt.Sprintf("%s: {A: %q}", key, text)
		case "tcp", "tls", "grpc", "server":
			return fmt.Sprintf("%s: %q", key, text+":1")
		case "request":
			return fmt.Sprintf("request: %q", "/"+text)
		case "configuration":
			return fmt.Sprintf("configuration: [%q]", text)
		}
		return fmt.Sprintf("%s: %q", key, text)
	}
	rows := 0
	for line := range strings.Lines(string(docs)) {
		columns := strings.Split(strings.Trim(strings.TrimSpace(line), "|"), "|")
		if len(columns) != 4 || strings.Contains(columns[0], "---") || strings.TrimSpace(columns[0]) == "in" {
			continue
		}
		where, key := strings.Trim(columns[0], " `"), strings.Trim(columns[1], " `")
		secret := strings.HasPrefix(strings.TrimSpace(columns[3]), "yes")
		rows++
		parse := func(text string) error {
			own := value(key, text)
			body := "service: s\nsecrets: {pw: env PW}\nversions: folder builds\nroute: [100 %]\n"
			switch where {
			case "stack":
				entries := own + ", ports: 1000-1009"
				if key != "command" {
					entries += ", command: run"
				}
				body += "stack: {" + entries + "}\nsmoke: [{request: /}]\n"
			case "a check":
				if also := with[key]; also != "" {
					own = also + ", " + own
				}
				body += fmt.Sprintf(check, own)
			case "same-request":
				body += fmt.Sprintf(check, "request: /") + "same-request: {requests: [/], " + own + "}\n"
			case "a part":
				body += fmt.Sprintf(check, "request: /") + own + "\n"
			default:
				t.Fatalf("docs/plan.md has a row of %q", where)
			}
			_, err := Parse("p.yaml", []byte(body))
			return err
		}
		if err := parse("x{side}"); err != nil {
			t.Errorf("a placeholder in %s of %s: %v", key, where, err)
		}
		if err := parse("x{sied}"); err == nil || !strings.Contains(err.Error(), "{side}") {
			t.Errorf("a placeholder that nobody knows in %s of %s: %v", key, where, err)
		}
		err := parse("x{secret pw}")
		if secret && err != nil || !secret && (err == nil || !strings.Contains(err.Error(), "environment")) {
			t.Errorf("a secret in %s of %s: %v", key, where, err)
		}
	}
	if rows != 25 {
		t.Errorf("the table of docs/plan.md has %d rows", rows)
	}
}

func BenchmarkParse(b *testing.B) {
	data, err := os.ReadFile("testdata/full.yaml")
	if err != nil {
		b.Fatal(err)
	}
	b.ReportAllocs()
	for b.Loop() {
		if _, err := Parse("testdata/full.yaml", data); err != nil {
			b.Fatal(err)
		}
	}
}

// What is wrong in a file's form is named with the right line and what to do, in few words.
func TestMistakesOfForm(t *testing.T) {
	const base = "service: sailings\nfront:\n  listen: 127.0.0.1:8080\nstack:\n  instances: 3\n  command: " +
		"./builds/{version}/run {address}\n  ports: 18100-18199\nhealth:\n  path: /healthz\n" +
		"smoke:\n  - request: /\nroute:\n  - 5 % for 2m\n  - 100 %\n"
	if _, err := Parse("p.yaml", []byte("\ufeff"+base)); err != nil {
		t.Errorf("with a byte order mark: %v", err)
	}
	if _, err := Parse("p.yaml",
		[]byte(strings.Replace(base, "./builds/{version}/run {address}",
			"|\n    ./builds/{version}/run\n    \t{address}", 1))); err != nil {
		t.Errorf("with a tab in a text of several lines: %v", err)
	}
	for _, c := range []struct {
		name, old, now string
		line           int
		says           string
	}{
		{"too few ports", "18100-18199", "18100-18104", 7, "widen the range, to 18100-18105 at least"},
		{"the front's port", "18100-18199", "8000-8199", 7, "the front listens at port 8080, which is among the " +
			"ports of part web"},
		{"a tab", "  instances", "\tinstances", 5, "indent with spaces"},
		{"a tab behind spaces", "  instances", "  \tinstances", 5, "indent with spaces"},
		{"a line further in", "  instances", "   instances", 5,
			"line 5 begins in column 4, and what belongs to it in column 3"},
		{"a line further out", "  path: /healthz", " path: /healthz\n  rise: 2", 9, "line 9 begins in column 2"},
		{"an item further out", "  - 100 %", " - 50 % for 2m\n  - 100 %", 14, "line 14 begins in column 2"},
		{"brackets without end", "request: /", "request: " + strings.Repeat("[", 20_000), 11, "nested too deeply"},
		{"lists without end", "- request: /", strings.Repeat("- ", 20_000) + "x", 11, "nested too deeply"},
		{"a long line", "request: /", "request: " + strings.Repeat("x", 40_000), 11, "want"},
		{"many mistakes", "route:", strings.Repeat("x: 1\n", 900) + "route:", 12, "and 8"},
	} {
		text := strings.Replace(base, c.old, c.now, 1)
		_, err := Parse("p.yaml", []byte(text))
		if err == nil {
			t.Errorf("%s is no mistake", c.name)
			continue
		}
		if says := err.Error(); !strings.HasPrefix(says, fmt.Sprintf("p.yaml:%d:", c.line)) ||
			!strings.Contains(says, c.says) || len(says) > 24_000 {
			t.Errorf("%s: %d bytes\n%.600s", c.name, len(says), says)
		}
	}
}

// Checked, a plan has to have programs and secrets that are there; read, it need not.
func TestWhatAPlanNamesIsThere(t *testing.T) {
	t.Setenv("FARES_SET", "herring")
	for _, c := range []struct {
		name, command, secret string
		line                  int // 0: nothing is wrong
		says                  string
	}{
		{"all is there", "cat run.sh {address} {version}", "env FARES_SET", 0, ""},
		{"depends on the version", "./builds/{version}/run {address}", "env FARES_SET", 0, ""},
		{"no such build", "cat builds/{version}/none {address}", "env FARES_SET", 3,
			"no version has builds/{version}/none: there are 4.2.0 in builds"},
		{"such a build", "cat builds/{version}/run {address}", "env FARES_SET", 0, ""},
		{"not on PATH", "no-such-ferry {address}", "env FARES_SET", 3, `no program "no-such-ferry" is found on PATH`},
		{"no such file", "./ferry {address}", "env FARES_SET", 3, "/ferry\" that can be run"},
		{"not set", "cat run.sh {address} {version}", "env FARES_NOT_SET", 8,
			"the environment variable FARES_NOT_SET of secret \"fares\" is not set here"},
		{"no file", "cat run.sh {address} {version}", "file fares.txt", 8, "the file of secret \"fares\" cannot be read"},
	} {
		file := filepath.Join(t.TempDir(), "p.yaml")
		text := fmt.Sprintf("service: s\nstack:\n  command: %s\n  ports: 18100-18109\nversions: folder "+
			"builds\nsmoke: [{request: /}]\nsecrets:\n  fares: %s\nroute: [100 %%]\n", c.command, c.secret)
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		build := filepath.Join(filepath.Dir(file), "builds", "4.2.0", "run")
		if err := errors.Join(os.MkdirAll(filepath.Dir(build), 0o755), os.WriteFile(build, nil, 0o755)); err != nil {
			t.Fatal(err)
		}
		if _, err := Read(file); err != nil {
			t.Errorf("%s: read: %v", c.name, err)
		}
		_, err := Check(file)
		if c.line == 0 {
			if err != nil {
				t.Errorf("%s: %v", c.name, err)
			}
			continue
		}
		if err == nil || !strings.Contains(err.Error(), fmt.Sprintf("p.yaml:%d:", c.line)) ||
			!strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", c.name, err)
		}
	}
}

// The schema takes every plan that is read, and none of those with another key.
func TestThePlanSchema(t *testing.T) {
	data, err := json.Marshal(Schema())
	if err != nil {
		t.Fatal(err)
	}
	s, err := testkit.NewSchema(data)
	if err != nil {
		t.Fatal(err)
	}
	asJSON := func(text []byte) []byte {
		var v any
		if err := yaml.Unmarshal(text, &v); err != nil {
			t.Fatal(err)
		}
		data, err := json.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		return data
	}
	files, _ := filepath.Glob("testdata/*.yaml")
	more, _ := filepath.Glob("../../../examples/*/*.yaml")
	tried := 0
	for _, file := range append(files, more...) {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Parse(file, text); err != nil {
			continue // its mistakes are the matter
		}
		tried++
		if err := s.Validate(asJSON(text)); err != nil {
			t.Errorf("%s: %v", file, err)
		}
	}
	if tried == 0 {
		t.Fatal("no plan was tried")
	}
	const good = "service: s\nstack: {command: run, ports: 1000-1009}\nversions: folder b\nsmoke: [{request: " +
		"/}]\nroute: [5 % for 2m, 100 %]\nguards: {failing: off, slow: [{after: 1s}, {after: 2s, then: freeze}]}\n"
	if err := s.Validate(asJSON([]byte(good))); err != nil {
		t.Error(err)
	}
	for _, bad := range []string{"servce: s", "guards: {failing: {wors-by: 1 %}}", "guards: {failing: {then: panic}}",
		"smoke: [{request: /, qwery: x}]", "stack: {command: run, ports: 1-9, blue: {prots: 1-9}}", "route: 100 %"} {
		if s.Validate(asJSON([]byte(bad))) == nil {
			t.Errorf("it takes %q", bad)
		}
	}
}

// A plan with other legs is the same plan otherwise, comments and all, and reads as one.
func TestWithRoute(t *testing.T) {
	base := strings.Replace(smallest, "route:\n  - 100 %\n", "# the way\nroute:\n  - 5 % for 2m # careful\n\n  - 100 "+
		"%\n# how long\nkeep: 10m\n", 1)
	legs := route.Route{{Part: 500, Dwell: time.Minute, Control: true},
		{Part: 1000, Dwell: 20 * time.Minute, Sure: true, Least: time.Minute, Control: true},
		{Part: 5000, Dwell: 90 * time.Second, Ask: true}, {Part: split.Whole}}
	got, err := WithRoute("sailings.yaml", []byte(base), legs)
	want := strings.Replace(base, "route:\n  - 5 % for 2m # careful\n\n  - 100 %\n",
		"route:\n  - 5 % beside control for 1m\n  - 10 % beside control until sure, at least 1m, at most 20m\n  - ask\n  - 50 % for 1m30s\n  - 100 %\n", 1)
	if err != nil || string(got) != want {
		t.Fatalf("%v\n%s\nwant\n%s", err, got, want)
	}
	p, err := Parse("sailings.yaml", got)
	if err != nil || !slices.Equal(p.Route, legs) {
		t.Errorf("it is read as %v, %v", p.Route, err)
	}
	if _, err := WithRoute("sailings.yaml", []byte("service: sailings\n"), legs); err == nil {
		t.Error("a plan without a route has one")
	}
	if _, err := WithRoute("sailings.yaml", []byte(base), legs[:1]); err == nil ||
		!strings.Contains(err.Error(), "no plan") {
		t.Errorf("a route without an end: %v", err)
	}
}

// A name and what it takes: the instances' addresses, and whom to ask.
func TestNames(t *testing.T) {
	data, err := os.ReadFile("testdata/names.yaml")
	if err != nil {
		t.Fatal(err)
	}
	p, err := Parse("testdata/names.yaml", data)
	if err != nil {
		t.Fatal(err)
	}
	got := p.Front.Settings.(*dns.Settings)
	want := &dns.Settings{
		Server: "10.1.0.53:53", Secondaries: []string{"10.2.0.53:53", "10.3.0.53:5353"},
		Resolvers: []string{"10.1.0.2:53"}, Zone: "lineavessa.example.", Name: "sailings.lineavessa.example.",
		Spare: "next.lineavessa.example.", Type: dns.Alias,
		Targets: [2]string{"b.sailings.lineavessa.example.", "g.sailings.lineavessa.example."}, Key: "keys/vaiven.key",
		TTL: 2 * time.Minute, Crossing: 3 * time.Second,
		Counts: asked.Counts{Path: "/metrics", Requests: "sailings_requests_total", Label: "status",
			Open: "sailings_requests_open"},
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("read\n%+v, want\n%+v", got, want)
	}
	if s := p.Main().Stacks[split.Green]; p.Door.Resolver != "10.9.0.2:53" || len(s.Addresses) != 6 ||
		s.Addresses[5] != "10.1.0.10" || s.Room() != 6 {
		t.Errorf("asked is %s, and there are %v", p.Door.Resolver, s.Addresses)
	}
	if before, each := p.Remembered(); before != 2*time.Minute || each != 3*time.Second {
		t.Errorf("what was is remembered for %v, and after each change for %v", before, each)
	}
	for says, change := range map[string][2]string{
		"is no name that DNS has":  {"name: sailings", "name: sail ings"},
		"which cannot be an alias": {"name: sailings", "name: \"@\""},
		"and they are not named": {"    targets: {blue: b.sailings, green: " +
			"g.sailings.lineavessa.example}\n", ""},
		"only an alias has targets":                {"type: CNAME", "type: A"},
		"both sides have the same target":          {"green: g.sailings.lineavessa.example", "green: b.sailings"},
		"is the name itself":                       {"spare: next", "spare: sailings"},
		"and 5m0s is more than 2m0s":               {"crossing-ttl: 3s", "crossing-ttl: 5m"},
		"a TTL of 1.5s":                            {"crossing-ttl: 3s", "crossing-ttl: 1500ms"},
		"does not begin with /":                    {"path: /metrics", "path: metrics"},
		"leads all requests to one side":           {"  - 100 %", "  - 5 % for 1m\n  - 100 %"},
		"cannot split by cookie passenger":         {"  dns:", "  key: cookie passenger\n  dns:"},
		"keeps nobody on a side":                   {"  dns:", "  sticky: yes\n  dns:"},
		"has no door by header or cookie":          {"  dns:", "  spare-door: {cookie: try}\n  dns:"},
		"leave shares out":                         {"    type: CNAME", "    type: CNAME\n    shares: yes"},
		"\"10.1.0.10-10.1.0.5\" is no range":       {"10.1.0.5-10.1.0.10", "10.1.0.10-10.1.0.5"},
		"are more than 254 addresses":              {"10.1.0.5-10.1.0.10", "10.1.0.5-10.2.0.10"},
		"2 addresses with their ports are too few": {"10.1.0.5-10.1.0.10", "10.1.0.5-10.1.0.6"},
	} {
		text := strings.Replace(string(data), change[0], change[1], 1)
		if _, err := Parse("names.yaml", []byte(text)); text == string(data) || err == nil ||
			!strings.Contains(err.Error(), says) || !strings.Contains(err.Error(), "names.yaml:") {
			t.Errorf("%q for %q: %v; want %q", change[1], change[0], err, says)
		}
	}
}

// Queues of a broker, and workers that nobody asks.
func TestQueue(t *testing.T) {
	data, err := os.ReadFile("testdata/queue.yaml")
	if err != nil {
		t.Fatal(err)
	}
	p, err := Parse("testdata/queue.yaml", data)
	if err != nil {
		t.Fatal(err)
	}
	want := &queue.Settings{
		Management: "http://10.1.0.7:15672", Host: "ferries", User: "vaiven", Password: "keys/broker",
		Exchange: "bookings", Key: "booking.made",
		Queues: [2]string{"bookings", "bookings-next"}, Dead: [2]string{"bookings.dead", "bookings-next.dead"},
		Shares: true, Backlog: queue.Carry, Lag: 2 * time.Second,
		TLS: broker.TLS{On: true, Name: "broker.lineavessa.example",
			Files: trust.Files{CA: "keys/authorities.pem", Certificate: "keys/vaiven.pem", Key: "keys/vaiven.key"}},
		Beyond: queue.Beyond{Listen: "10.1.0.8:5672", Management: "http://10.1.0.8:15672", Host: "ferries",
			User: "vaiven", Password: "keys/other", TLS: broker.TLS{On: true}, Shovel: true},
	}
	if got := p.Front.Settings; !reflect.DeepEqual(got, want) {
		t.Errorf("read\n%+v, want\n%+v", got, want)
	}
	one, three := 1.0, 3.0
	for n, want := range []plan.Asking{plan.Printed{Text: "takes bookings from"},
		plan.Told{Figure: plan.Figure{Name: "bookings_connected"}, Path: "/figures", Least: &one, Most: &three},
		plan.Runs{For: 2 * time.Second}} {
		if got := p.Main().Smoke[n].What; !reflect.DeepEqual(got, want) {
			t.Errorf("read\n%+v, want\n%+v", got, want)
		}
	}
	cluster := plan.Cluster{On: true,
		API:  plan.API{File: "keys/ferries.kubeconfig", Context: "harbour", Namespace: "ferries"},
		Name: "printers-{side}", Template: "printers.yaml", Scales: true}
	if s := p.Main().Stacks[split.Green]; s.Cluster != cluster || s.Kind() != plan.Clustered || !p.Prober.Off {
		t.Errorf("read %+v", s)
	}
	waits, _ := p.Guard(plan.Waits)
	if door, _ := p.Guard(plan.Door); !door.Off || waits.Longest != 30*time.Second || waits.Then != plan.RollBack ||
		waits.Name != "waits over 30s" {
		t.Errorf("guards %+v, %+v", door, waits)
	}
	// Workers that listen nowhere need no ports, and whoever is told an address or is asked there does.
	for stack, wrong := range map[string]string{
		"command: ./builds/{version}/worker --queue {side}":    "",
		"command: ./builds/{version}/worker --told {address}":  "blue has no ports",
		"environment: {PORT: \"{port}\"}\n  command: ./worker": "blue has no ports",
		"command: ./builds/{version}/worker\nhealth: /well":    "blue has no ports",
	} {
		text, _, _ := strings.Cut(string(data), "stack:")
		_, rest, _ := strings.Cut(string(data), "health: {runs: 5s}")
		health := "health: {runs: 5s}"
		if strings.Contains(stack, "health") {
			health = ""
		}
		p, err := Parse("queue.yaml", []byte(text+"stack:\n  "+stack+"\n"+health+rest))
		switch {
		case wrong == "" && (err != nil || p.Main().Stacks[split.Green].Room() < 100):
			t.Errorf("%s: %v", stack, err)
		case wrong != "" && (err == nil || !strings.Contains(err.Error(), wrong)):
			t.Errorf("%s: %v; want %q", stack, err, wrong)
		}
	}
	// Without a bound it is what is usual, without a rule there is one, and it may be off.
	for rule, want := range map[string]plan.Guard{
		"{then: roll back}": {Watch: plan.Waits, Then: plan.RollBack, Name: "waits longer than usual"},
		"":                  {Watch: plan.Waits, Then: plan.Freeze, Name: "waits longer than usual"},
		"off":               {Watch: plan.Waits, Then: plan.Freeze, Name: "waits longer than usual", Off: true},
	} {
		key := "waits: " + rule
		if rule == "" {
			key = "find: 1 %"
		}
		text := strings.Replace(string(data), "waits: {longer-than: 30s, then: roll back}", key, 1)
		p, err := Parse("queue.yaml", []byte(text))
		if err != nil || text == string(data) {
			t.Fatalf("%q: %v", rule, err)
		}
		if got, there := p.Guard(plan.Waits); !there || !reflect.DeepEqual(got, want) {
			t.Errorf("%q: %+v", rule, got)
		}
	}
	for says, change := range map[string][2]string{
		"a certificate and its key come together": {", key: keys/vaiven.key", ""},
		"there is no order between them":          {"order: free", "order: held"},
		"both sides have the same queues":         {"green: bookings-next}", "green: bookings}"},
		"take over from one another all at once":  {"    shares: yes\n", ""},
		"cannot be split by cookie":               {"key: header passenger", "key: cookie passenger"},
		"a queue knows no sessions":               {"  key: header passenger", "  sticky: yes"},
		"has no door of its own":                  {"  key: header passenger", "  spare-door: {cookie: try}"},
		`needs "management"`:                      {"    management: http://10.1.0.7:15672\n", ""},
		"is no name that a cluster has": {"    namespace: ferries\n    deployment",
			"    namespace: Ferries\n    deployment"},
		"at which port its pods listen":              {"  port: 8080\n", ""},
		"runs in a cluster, and it is not said what": {"    template: printers.yaml\n", ""},
		"a number of pods that does not change":      {"  port: 8080\n", "  port: 8080\n  instances: as live\n"},
		"what the figure is to be":                   {"    at-least: 1\n    at-most: 3\n", ""},
	} {
		text := strings.Replace(string(data), change[0], change[1], 1)
		if _, err := Parse("queue.yaml", []byte(text)); text == string(data) || err == nil ||
			!strings.Contains(strings.ToLower(err.Error()), strings.ToLower(says)) ||
			!strings.Contains(err.Error(), "queue.yaml:") {
			t.Errorf("%q for %q: %v; want %q", change[1], change[0], err, says)
		}
	}
}

// Pods are in the cluster that the front is, if the plan does not say otherwise.
func TestStackInTheFrontsCluster(t *testing.T) {
	data, err := os.ReadFile("testdata/cluster.yaml")
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	file := filepath.Join(dir, "plan.yaml")
	config := filepath.Join(dir, "keys/ferries.kubeconfig")
	for says, want := range map[string]plan.API{
		"{}": {File: config, Context: "harbour", Namespace: "ferries",
			Reach: plan.Forwarded},
		"{reach: direct, namespace: tenders}": {File: config, Context: "harbour", Namespace: "tenders",
			Reach: plan.Direct},
		"{context: island, namespace: tenders}": {Context: "island", Namespace: "tenders", Reach: plan.Forwarded},
		"{kubeconfig: other}":                   {File: filepath.Join(dir, "other"), Reach: plan.Forwarded},
	} {
		text := strings.Replace(string(data), "  stands: [10.1.0.5:8080, 10.1.0.6:8080]\n",
			"  image: registry.lineavessa.example/web:{version}\n  port: 8080\n  cluster: "+says+
				"\nversions: registry registry.lineavessa.example/web\n", 1)
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		p, err := Read(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range p.Main().Stacks {
			if s.Cluster.API != want {
				t.Errorf("%s: %+v, want %+v", says, s.Cluster.API, want)
			}
		}
	}
}

// A route or a service of a cluster.
func TestCluster(t *testing.T) {
	data, err := os.ReadFile("testdata/cluster.yaml")
	if err != nil {
		t.Fatal(err)
	}
	p, err := Parse("testdata/cluster.yaml", data)
	if err != nil {
		t.Fatal(err)
	}
	for n, want := range []*cluster.Settings{
		{API: plan.API{File: "keys/ferries.kubeconfig", Context: "harbour", Namespace: "ferries",
			Reach: plan.Forwarded}, Pods: "app=sailings", Route: "sailings",
			Services: [2]string{"sailings-blue", "sailings-green"}},
		{Pods: "app=sailings", Service: "sailings", Shares: true,
			Counts: asked.Counts{Path: "/metrics", Requests: "sailings_requests_total", Label: "code"}},
	} {
		if got := p.Fronts()[n].Settings; !reflect.DeepEqual(got, want) {
			t.Errorf("read\n%+v, want\n%+v", got, want)
		}
	}
	for says, change := range map[string][2]string{
		"is an HTTPRoute or a Service": {"      service: sailings\n", ""},
		"services are not named": {"      services: {blue: sailings-blue, green: sailings-green}\n",
			""},
		"both sides have the same service":   {"green: sailings-green", "green: sailings-blue"},
		"With a Service there are no others": {"      shares: yes", "      services: {blue: a, green: b}"},
		"do every share": {"      httproute: sailings",
			"      httproute: sailings\n      shares: yes"},
		"is no name that a cluster has":          {"httproute: sailings", "httproute: Sailings"},
		"a Service's selector leads to one side": {"      shares: yes", ""},
		"not by client": {"  - listen: 10.1.0.1:80",
			"  - listen: 10.1.0.1:80\n    key: client"},
		"keeps nobody on a side": {"  - listen: 10.1.0.1:80",
			"  - listen: 10.1.0.1:80\n    sticky: yes"},
		"has no door of its own": {"  - listen: 10.1.0.1:80",
			"  - listen: 10.1.0.1:80\n    spare-door: {cookie: try}"},
	} {
		text := strings.Replace(string(data), change[0], change[1], 1)
		if strings.HasPrefix(says, "a Service's") {
			text = strings.Replace(text, "  - 100 %", "  - 5 % for 1m\n  - 100 %", 1)
		}
		if _, err := Parse("cluster.yaml", []byte(text)); text == string(data) || err == nil ||
			!strings.Contains(strings.ToLower(err.Error()), strings.ToLower(says)) ||
			!strings.Contains(err.Error(), "cluster.yaml:") {
			t.Errorf("%q for %q: %v; want %q", change[1], change[0], err, says)
		}
	}
}

// What makes a file no YAML is told in words about the file, at the place that has to be mended.
func TestWhatIsNoYAML(t *testing.T) {
	for text, want := range map[string]string{
		"service sailings\nfront: embedded\n":                                 `1:1: there is no ": " in this line`,
		"service: sailings\nfront:\u00a0embedded\n":                           "2:7: a non-breaking space stands here",
		"service: sailings\nstack: {run: [a, b\nfront: x\n":                   "2:14: the [ here is not closed",
		"service: x\nstack: {command: ./{version}/run a, ports: 1000-1009}\n": "2:20: within { } a { in a text without quotes",
		"service: x\nstack: {run: [a, \"]\"]\nfront: x\n":                     "2:8: the { here is not closed",
		"service: \"sailings\nfront: x\n":                                     "1:10: the text that is quoted from here on does not end",
		"service: sailings\n stack: x\n":                                      "1:10: what follows does not belong here",
		"service: @x\n":                                                       "1:10: a text cannot begin with this sign",
		"service: x # [\nfront: {a: b\n":                                      "2:8: the { here is not closed",
	} {
		_, err := Parse("p.yaml", []byte(text))
		if err == nil || !strings.Contains(err.Error(), want) || strings.Contains(err.Error(), "must be specified") {
			t.Errorf("%q: %v\nand %q was expected", text, err, want)
		}
	}
}

// A shell is no build, and an instance has to be told where to listen.
func TestWhatCommandsSay(t *testing.T) {
	for command, wants := range map[string][]string{
		`sh -c "exec true"`: {"sh is the first word, and is no build", "build: ./builds/{version}",
			"not told where to listen"},
		`sh -c "exec x {address}"`:     {"sh is the first word"},
		"true":                         {"not told where to listen"},
		"true --port {port} {version}": nil,
		"true --port {port}":           {"nothing says which version is started"},
		"env A=1 true --at {address}":  {"env is the first word"},
		"sh -c x {port}\n  build: ./b": nil,
	} {
		file := filepath.Join(t.TempDir(), "p.yaml")
		text := "service: s\nversions: folder builds\nroute: [100 %]\nsmoke: [{request: /}]\nstack:\n  ports: 18100-18109\n" +
			"  command: " + command + "\n"
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		_, err := Check(file)
		if (err != nil) != (wants != nil) {
			t.Errorf("%s: %v", command, err)
		}
		for _, want := range wants {
			if !strings.Contains(err.Error(), want) {
				t.Errorf("%s: %q is not said by\n%v", command, want, err)
			}
		}
	}
}

// Each key of the schema says what the reference says of it.
func TestTheSchemaDescribesEachKey(t *testing.T) {
	for _, where := range undescribed(Schema(), "") {
		t.Errorf("nothing is said of %s: docs/plan.md has no row for it", where)
	}
	for path, want := range map[string]string{
		"stack grace": "time for open requests", "guards failing worse-by": "how much higher", "route": "the legs",
		"smoke within": "for one reading", "front embedded body-size": "largest body",
	} {
		s := Schema()
		for key := range strings.FieldsSeq(path) {
			s = property(s, key)
		}
		if text, _ := s["description"].(string); !strings.Contains(text, want) {
			t.Errorf("of %s it says %q", path, text)
		}
	}
}

// parts are the shapes that a shape is made of.
func parts(s section.Shape) (list []section.Shape) {
	for _, name := range []string{"items", "additionalProperties"} {
		if inner, ok := s[name].(section.Shape); ok {
			list = append(list, inner)
		}
	}
	for _, name := range []string{"anyOf", "oneOf"} {
		inner, _ := s[name].([]section.Shape)
		list = append(list, inner...)
	}
	return list
}

func property(s section.Shape, key string) section.Shape {
	if properties, _ := s["properties"].(section.Shape); properties != nil {
		if of, ok := properties[key].(section.Shape); ok {
			return of
		}
	}
	for _, inner := range parts(s) {
		if of := property(inner, key); of != nil {
			return of
		}
	}
	return nil
}

func undescribed(s section.Shape, path string) (list []string) {
	properties, _ := s["properties"].(section.Shape)
	for key, of := range properties {
		inner, _ := of.(section.Shape)
		if text, _ := inner["description"].(string); text == "" {
			list = append(list, path+"."+key)
		}
		list = append(list, undescribed(inner, path+"."+key)...)
	}
	for _, inner := range parts(s) {
		list = append(list, undescribed(inner, path)...)
	}
	return list
}

// The whole plans in the reference are plans.
func TestTheReferencesPlans(t *testing.T) {
	found := 0
	for block := range strings.SplitSeq(docs.Plan, "```yaml\n") {
		text, _, ended := strings.Cut(block, "```")
		if !ended || !strings.HasPrefix(text, "service: ") {
			continue
		}
		found++
		if _, err := Parse(fmt.Sprintf("plan %d of docs/plan.md", found), []byte(text)); err != nil {
			t.Error(err)
		}
	}
	if found < 3 {
		t.Errorf("the reference has %d whole plans", found)
	}
}

// What a form of values allows the reader takes, and what it does not the reader refuses.
func TestFormsOfValues(t *testing.T) {
	data, err := json.Marshal(Schema())
	if err != nil {
		t.Fatal(err)
	}
	schema, err := testkit.NewSchema(data)
	if err != nil {
		t.Fatal(err)
	}
	for of, values := range map[string][]string{
		"grace":     {"10s", "1h30m", "500ms", "10", "soon", "1 m", "10 s", "-1s"},
		"capacity":  {"250 /s", "0.5/s", "250", "250/m", "1e3 /s"},
		"memory":    {"256 MiB", "1.5 GiB", "256"},
		"ports":     {"18100-18109", "18100 - 18109", "18100", "18100-", "a-b"},
		"price":     {"0.12 EUR", "12 EUR", "12", "EUR", "1 EUR an hour"},
		"instances": {"4", "as live", "2 until 25 %, then 8", "2 until 25 %, then as live", "some", "2 until 25 %"},
		"route": {"[5 % for 2m, 100 %]", "[1 in 20 for 30s, ask, 100 %]", "[5 % until sure, 100 %]", "[12.5 %, 100 %]",
			"['5 % until sure, at least 1m, at most 20m', 100 %]", "[5, 100 %]", "[5 % 2m, 100 %]", "[5 % for 2, 100 %]",
			"[5 % beside control for 2m, 100 %]", "[5 % beside it, 100 %]"},
		"keep":     {"30m", "30m, then ask", "30m, then wait", "30", "0s, then leave"},
		"keep-log": {"30 days", "1 day", "0 days", "30d", "30", "days"},
		"limit":    {"80 %", "80 %, then ask", "80 %, then refuse", "80", "80 %, then go"},
		"warm-up":  {"200 at 50 /s", "200", "200 at 50"},
	} {
		for _, value := range values {
			m := map[string]string{"service": "s", "versions": "folder b", "route": "[100 %]",
				"smoke": "[{request: /}]"}
			stack := map[string]string{"image": "x", "network": "host", "ports": "18100-18199"}
			in := stack
			if slices.Contains([]string{"route", "keep", "keep-log", "limit", "warm-up"}, of) {
				in = m
			}
			if in[of] = value; of == "limit" {
				stack["capacity"] = "250 /s"
			}
			text := ""
			for _, key := range slices.Sorted(maps.Keys(m)) {
				text += key + ": " + m[key] + "\n"
			}
			text += "stack:\n"
			for _, key := range slices.Sorted(maps.Keys(stack)) {
				text += "  " + key + ": " + stack[key] + "\n"
			}
			_, read := Parse("p.yaml", []byte(text))
			data, err := yaml.YAMLToJSON([]byte(text))
			if err != nil {
				t.Fatal(err)
			}
			if said := schema.Validate(data); (read == nil) != (said == nil) {
				t.Errorf("%s: %s is read with %v, and the schema says %v", of, value, read, said)
			}
		}
	}
}

// A version is built as what the command names of it.
func TestBuildOf(t *testing.T) {
	for command, want := range map[string]string{
		"builds/{version}/sailings --listen {address}":               "builds/{version}/sailings",
		"python3 builds/{version}/app.py {address}":                  "builds/{version}",
		"gunicorn --chdir builds/{version} --bind {address} app:app": "builds/{version}",
		"gunicorn --chdir=builds/{version}/web app:app":              "builds/{version}",
		"java -jar /srv/app-{version}.jar --port {port}":             "/srv/app-{version}.jar",
		"serve --name sailings-{version} --port {port}":              "serve",
		"sailings --listen {address}":                                "sailings",
	} {
		if got := buildOf(strings.Fields(command)); got != want {
			t.Errorf("%s is built as %s, want %s", command, got, want)
		}
	}
	p, err := Parse("p.yaml", []byte(strings.Replace(smallest, "./{version}/run {address}",
		"python3 builds/{version}/app.py {address}", 1)))
	if err != nil {
		t.Fatal(err)
	}
	if v := p.Main().Versions; v.Kind != plan.VersionFolder || v.Where != "builds" {
		t.Errorf("versions are %+v", v)
	}
	resolve(p, "/plans")
	if s := p.Main().Stacks[split.Blue]; s.Build != "/plans/builds/{version}" || s.Command[0] != "python3" {
		t.Errorf("blue is %+v", s)
	}
}
