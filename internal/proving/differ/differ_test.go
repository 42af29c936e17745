package differ

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/stack"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
)

// yard is two sides in memory with their configuration in a folder.
type yard map[string]stack.Description

func (y yard) From(reading.Instance) place.Place { return place.Local{} }

func (y yard) Place(context.Context, reading.Instance) (place.Place, error) {
	return place.Local{}, nil
}

func (y yard) Describe(_ context.Context, i reading.Instance) (stack.Description, error) {
	d, ok := y[i.Name]
	if !ok {
		return d, errors.New("nobody knows")
	}
	return d, nil
}

func write(t *testing.T, path, text string) {
	t.Helper()
	if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte(text), 0o644)); err != nil {
		t.Fatal(err)
	}
}

func TestWhatDiffers(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("FARES_PASSWORD", "sea salt")
	secrets, err := secret.Read(map[string]plan.Secret{"fares": {Env: "FARES_PASSWORD"}})
	if err != nil {
		t.Fatal(err)
	}
	for version, hold := range map[string]string{"4.2.0": "15m", "4.3.0": "5m"} {
		write(t, dir+"/"+version+"/app.yaml", "berths:\n  hold: "+hold+"\nname: {a: [1, 2]}\n")
		write(t, dir+"/"+version+"/app.toml", "[berths]\nhold = '"+hold+"'\n")
		write(t, dir+"/"+version+"/app.json", `{"berths":{"hold":"`+hold+`"}}`)
		write(t, dir+"/"+version+"/app.env", "HOLD="+hold+"\nexport SAME=1\n")
		write(t, dir+"/"+version+"/app.ini", "[berths]\nhold = "+hold+"\n")
		write(t, dir+"/"+version+"/motd.txt", "welcome\nhold "+hold+"\npassword sea salt\n")
	}
	runtime := map[string]string{"blue-1": "vessa 1.8", "green-1": "vessa 2.0", "green-2": "vessa 2.0"}
	y := yard{}
	instance := func(side split.Side, n int, version, region string) reading.Instance {
		name := fmt.Sprintf("%v-%d", side, n)
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, `{"runtime":%q}`, runtime[name])
		}))
		t.Cleanup(s.Close)
		address := s.Listener.Addr().String()
		y[name] = stack.Description{
			Command: []string{"/srv/" + version + "/sailings", "--listen", address},
			Environment: map[string]string{
				"REGION": region, "NAME": name + " of " + version, "TEMPLATED": "at " + address,
				"DB_PASSWORD": map[bool]string{true: "sea salt", false: "pepper"}[side == split.Blue],
				"API_TOKEN":   fmt.Sprint("t-", side),
			},
			Limits: map[string]string{"open files": "1024"},
		}
		return reading.Instance{Name: name, Part: "web", Side: side, Version: version, Build: "build of " + version,
			Address: address, Running: true}
	}
	p := &plan.Plan{Service: "sailings", Parts: []plan.Part{{
		Name: "web", Health: plan.Check{Within: 10 * time.Second},
		Says: plan.Says{Path: "/", Runtime: plan.Field{JSON: "runtime"}},
		Configuration: []string{"{version}/app.yaml", "{version}/app.toml", "{version}/app.json", "{version}/app.env",
			"{version}/app.ini", "{version}/motd.txt", "{version}/gone.yaml"},
	}}}
	for i := range p.Parts[0].Stacks {
		p.Parts[0].Stacks[i].Folder = dir
		p.Parts[0].Stacks[i].Environment = map[string]string{"TEMPLATED": "at {address}"}
	}
	p.Differences.Meant = []plan.Meant{{Area: "build"}, {Area: "configuration", Name: "app.toml *"}}
	q := Question{Plan: p, Secrets: secrets, Standing: y, Sides: [2][]reading.Instance{
		{instance(split.Blue, 1, "4.2.0", "north")},
		{instance(split.Green, 1, "4.3.0", "north"), instance(split.Green, 2, "4.3.0", "south")},
	}}
	r := Compare(t.Context(), q)
	var got []string
	for _, d := range r.List {
		line := d.What() + ": " + d.Value[0] + " → " + d.Value[1]
		if d.Meant {
			line += " (meant)"
		}
		got = append(got, line)
	}
	want := []string{
		"runtime: vessa 1.8 → vessa 2.0",
		"environment API_TOKEN: secret, not shown → secret, not shown",
		"environment DB_PASSWORD: secret, not shown → secret, not shown",
		"environment REGION: north → its instances disagree: north | south",
		"configuration app.env HOLD: 15m → 5m",
		"configuration app.ini berths.hold: 15m → 5m",
		`configuration app.json berths.hold: "15m" → "5m"`,
		`configuration app.yaml berths.hold: "15m" → "5m"`,
		"configuration motd.txt: 3 lines → 3 lines",
		"instances: 1 → 2",
		"build: build of 4.2 → build of 4.3 (meant)",
		`configuration app.toml berths.hold: "15m" → "5m" (meant)`,
	}
	if !slices.Equal(got, want) {
		t.Errorf("found\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	for _, d := range r.List {
		if d.Name == "motd.txt" {
			text := strings.Join(d.Lines, "\n")
			if !strings.Contains(text, "-hold 15m\n+hold 5m") || strings.Contains(text, "salt") {
				t.Errorf("the text differs by\n%s", text)
			}
		}
	}
	if len(r.Missing) != 3 || !strings.Contains(r.Missing[0], "gone.yaml of blue-1") {
		t.Errorf("missing %q", r.Missing)
	}
}

// What is the same but for what placeholders stand for does not differ.
func TestPlaceholdersAreNoDifference(t *testing.T) {
	for _, c := range []struct{ text, old, want string }{
		{"a 4.3.0 b", "4.3.0", "a {v} b"},
		{"/srv/4.3.0/x", "4.3.0", "/srv/{v}/x"},
		{"14.3.0", "4.3.0", "14.3.0"},
		{"4.3.01 and 4.3.0", "4.3.0", "4.3.01 and {v}"},
		{"4.3.0.1 and 1.4.3.0", "4.3.0", "4.3.0.1 and 1.4.3.0"},
		{"sailings-4.3.0.tar.gz.", "4.3.0", "sailings-{v}.tar.gz."},
		{"ends with 4.3.0.", "4.3.0", "ends with {v}."},
		{"nothing", "", "nothing"},
	} {
		if got := replaceWord(c.text, c.old, "{v}"); got != c.want {
			t.Errorf("replaceWord(%q, %q) = %q, want %q", c.text, c.old, got, c.want)
		}
	}
}

// A version that is a mere number is not found in other numbers: what differs is not taken
// for the release, and what does not differ is not made to.
func TestAVersionThatIsANumber(t *testing.T) {
	environment := func(version, pool string) map[string]string {
		return map[string]string{
			"POOL": pool, "PORT_RANGE": "2-5", "RETRIES": "2", "APP_VERSION": version,
			"HOME_DIR": "/srv/" + version + "/data", "SHARD": "1", "RATIO": "1/2",
		}
	}
	y := yard{
		"blue-1":  {Command: []string{"/srv/1/sailings", "-n", "2"}, Environment: environment("1", "1")},
		"green-1": {Command: []string{"/srv/2/sailings", "-n", "2"}, Environment: environment("2", "2")},
	}
	p := &plan.Plan{Service: "sailings", Parts: []plan.Part{{Name: "web"}}}
	q := Question{Plan: p, Standing: y}
	for _, side := range split.Sides {
		q.Sides[side] = []reading.Instance{{Name: fmt.Sprintf("%v-1", side), Part: "web", Side: side,
			Version: fmt.Sprint(int(side) + 1), Address: "127.0.0.1:1", Running: true}}
	}
	var got []string
	for _, d := range Compare(t.Context(), q).List {
		got = append(got, d.What()+": "+d.Value[0]+" → "+d.Value[1])
	}
	if want := []string{"environment POOL: 1 → 2"}; !slices.Equal(got, want) {
		t.Errorf("found %q, want %q", got, want)
	}
}

// Passwords in files that are compared line by line are told apart and not shown, also those
// that no plan knows of.
func TestAFilesPasswordsAreNotShown(t *testing.T) {
	dir := t.TempDir()
	write(t, dir+"/blue-1/redis.conf", "port 6379\nrequirepass herring\nurl redis://:herring@cache/0\n")
	write(t, dir+"/green-1/redis.conf", "port 6380\nrequirepass mackerel\nurl redis://:herring@cache/0\n")
	y := yard{"blue-1": {}, "green-1": {}}
	p := &plan.Plan{Service: "sailings",
		Parts: []plan.Part{{Name: "web", Configuration: []string{"{instance}/redis.conf"}}}}
	q := Question{Plan: p, Standing: y}
	for _, side := range split.Sides {
		p.Parts[0].Stacks[side].Folder = dir
		q.Sides[side] = []reading.Instance{{Name: fmt.Sprintf("%v-1", side), Part: "web", Side: side,
			Address: "127.0.0.1:1", Running: true}}
	}
	r := Compare(t.Context(), q)
	text := fmt.Sprintf("%+v", r)
	if len(r.List) != 1 || strings.Contains(text, "herring") || strings.Contains(text, "mackerel") ||
		!strings.Contains(strings.Join(r.List[0].Lines, "\n"),
			"-requirepass (hidden 1)\n+port 6380\n+requirepass (hidden 2)") {
		t.Errorf("found %s", text)
	}
}

func FuzzStructured(f *testing.F) {
	for _, name := range []string{"a.json", "a.yaml", "a.toml", "a.ini", ".env"} {
		f.Add(name, []byte("a: 1\n[b]\nc = 2\n"))
		f.Add(name, []byte(`{"a":[1,{"b":null}]}`))
	}
	f.Fuzz(func(t *testing.T, name string, data []byte) {
		if len(data) > 10_000 {
			return
		}
		if keys, ok := structured(name, data); ok && keys == nil {
			t.Fatal("a form without keys")
		}
	})
}
