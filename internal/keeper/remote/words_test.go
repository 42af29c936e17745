package remote

import (
	"slices"
	"testing"
)

// What is told to a shell there is read as it was meant, and nothing that a shell would do more with.
func TestWords(t *testing.T) {
	for _, args := range [][]string{{}, {"reach", "--json", "--", "/srv/sailings.yaml"}, {"back", "--why=it's late; rm -rf /"},
		{"say", "", "a b", "'", "''x''"}, {"$(id)", "`id`", "a\nb"}} {
		got, err := Words(line(args))
		if err != nil || len(got) == 0 || got[0] != "vaiven" || !slices.Equal(got[1:], args) {
			t.Errorf("%q is read as %q, %v", line(args), got, err)
		}
	}
	for _, text := range []string{"vaiven 'back", "vaiven back; id", "vaiven $(id)", "vaiven 'a'b", "bash -c 'id' & id", "'vaiven'x",
		`vaiven "back"`, "vaiven  back"} {
		if got, err := Words(text); err == nil {
			t.Errorf("%q is read as %q", text, got)
		}
	}
}
