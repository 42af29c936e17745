package main

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
)

// vaiven notices lists whom a plan tells what, and --try reaches each of them once.
func TestNotices(t *testing.T) {
	var came atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if came.Add(1); r.URL.Path == "/dead" {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
	}))
	t.Cleanup(server.Close)
	dir := t.TempDir()
	text := `service: sailings
versions: folder builds
front: {listen: "127.0.0.1:18080"}
stack: {instances: 1, command: /bin/true, ports: 18100-18110}
smoke: [{request: /}]
route: [100 %]
notices:
  tell:
    - {webhook: "URL/board", about: [rolled back, asks], at-most: 1 in 5m}
    - {run: "/bin/cat", about: [ill]}
    - {webhook: "URL/board"}
`
	write := func(text string) string {
		file := filepath.Join(dir, "sailings.yaml")
		if err := os.WriteFile(file, []byte(strings.ReplaceAll(text, "URL", server.URL)), 0o600); err != nil {
			t.Fatal(err)
		}
		return file
	}
	file := write(text)
	out, _, status := vaiven(t, "notices", file)
	for _, want := range []string{"webhook  " + server.URL + "/board: rolled back, asks, at most 1 in 5m of one kind",
		"command  /bin/cat: ill", "/board: everything"} {
		if status != 0 || !strings.Contains(out, want) {
			t.Errorf("status %d, without %q:\n%s", status, want, out)
		}
	}
	if out, _, status = vaiven(t, "notices", file, "--try"); status != 0 || came.Load() != 1 ||
		strings.Count(out, "reached, in") != 3 {
		t.Errorf("status %d, %d came:\n%s", status, came.Load(), out)
	}
	file = write(strings.Replace(text, "/board", "/dead", 1))
	out, said, status := vaiven(t, "notices", file, "--try", "--json")
	var got noticesJSON
	err := json.Unmarshal([]byte(out), &got)
	if list := got.Receivers; status != 4 || err != nil || len(list) != 3 || list[0].Error == "" || list[2].Error != "" || !strings.Contains(said, "1 of 3 were not reached") {
		t.Errorf("status %d, %s\n%s", status, out, said)
	}
	before, _, _ := strings.Cut(text, "notices:")
	if _, said, status := vaiven(t, "notices", write(before)); status != 4 || !strings.Contains(said, "docs/notices.md") {
		t.Errorf("without notices: status %d, %s", status, said)
	}
}
