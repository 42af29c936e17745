package reading_test

import (
	"testing"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
)

func TestEachPlaceholderHasAValue(t *testing.T) {
	i := reading.Instance{Address: "10.1.0.5:8080", Name: "green-1", Part: "web", Version: "4.3.0", Build: "b92f"}
	values := i.Values("sailings")
	for _, name := range plan.Placeholders {
		if _, ok := values[name]; !ok {
			t.Errorf("no value for {%s}", name)
		}
	}
	for address, want := range map[string][2]string{
		"10.1.0.5:8080": {"10.1.0.5", "8080"}, "[fd00::5]:8080": {"fd00::5", "8080"}, "fd00::5": {"fd00::5", ""},
		"sailings.internal": {"sailings.internal", ""}, "": {},
	} {
		i.Address = address
		if got := i.Values("sailings"); got["host"] != want[0] || got["port"] != want[1] || got["address"] != address {
			t.Errorf("%q is host %q, port %q", address, got["host"], got["port"])
		}
	}
}
