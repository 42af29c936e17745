package dns

import (
	"errors"
	"strings"
	"testing"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/world/place"
	"vaiven/lab/fronttest"
)

// A name is read as it stands: zone, type, TTL and addresses, whatever the case in which it is asked for.
func TestSurvey(t *testing.T) {
	w := fronttest.NewWorld(t)
	z := start(t, w, nil)
	z.nsupdate(t, "update add sailings.lineavessa.example 300 A 10.1.0.5", "update add sailings.lineavessa.example 300 A 10.1.0.6")
	found, err := survey(t.Context(), place.Local{}, front.Target{Name: "dns://" + z.settings.Server +
		"/Sailings.LineaVessa.example:8080"})
	if err != nil || len(found) != 1 {
		t.Fatalf("found %+v, %v", found, err)
	}
	f := found[0]
	var at []string
	for _, s := range f.Servers {
		at = append(at, s.Address)
	}
	if f.Name != "sailings" || f.Listen != "sailings.lineavessa.example:8080" || strings.Join(at, " ") != "10.1.0.5:8080 10.1.0.6:8080" ||
		!strings.Contains(f.Section, "    zone: lineavessa.example\n    name: sailings\n") || !strings.Contains(f.Section, "ttl: 300s") {
		t.Errorf("found %+v", f)
	}
	for target, says := range map[string]string{
		"dns://" + z.settings.Server + "/nobody.lineavessa.example": "points nowhere",
		"dns://" + z.settings.Server + "/sailings.other.example":    "does not have the zone",
		"dns://" + z.settings.Server:                                "no name",
	} {
		if _, err := survey(t.Context(), place.Local{}, front.Target{Name: target}); err == nil ||
			!strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v; want %q", target, err, says)
		}
	}
	if _, err := survey(t.Context(), place.Local{}, front.Target{Name: "/etc/haproxy/haproxy.cfg"}); !errors.Is(err, front.ErrNotOurs) {
		t.Errorf("a file: %v", err)
	}
}

// In a view that is chosen by the key Vaiven reads what it writes: its questions are signed too. Users of another view
// get what stands there.
func TestAViewByKey(t *testing.T) {
	w := fronttest.System{Lacks: []fronttest.Ability{fronttest.Ports}}.World(t)
	z := startAs(t, w, nil, func(text string) string {
		before, zone, _ := strings.Cut(text, `zone "`)
		return before + "view inside {\n    match-clients { key vaiven; };\nzone \"" + zone + "};\n" +
			"view outside {\n    match-clients { any; };\n    zone \"other.example\" { type primary; file \"lineavessa.example.zone\"; };\n};\n"
	})
	d := z.driver()
	for _, side := range split.Sides {
		if err := d.SetInstances(t.Context(), side, w.Raise(side, 1, 2)); err != nil {
			t.Fatal(err)
		}
	}
	for _, share := range []split.Share{split.Whole, 0} {
		r, err := d.Read(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if done, err := d.Set(t.Context(), share, front.AsRead(r)); err != nil || done.Share != share {
			t.Errorf("%v to green: %+v, %v", share, done, err)
		}
	}
	if list, err := z.ask(t.Context(), z.settings.Server, z.settings.Name); err == nil {
		t.Errorf("without the key it is %v", list)
	}
}
