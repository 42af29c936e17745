package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A plan's forecast says what guards make of clients that stay on their sides, and what is missing.
func TestWhatAPlanSaysOfClients(t *testing.T) {
	dir := t.TempDir()
	const rest = "service: sailings\nstack:\n  command: ./builds/{version}/run {address}\n  ports: 18100-18109\nsmoke:\n  " +
		"- request: /\nroute:\n  - 5 % for 2m\n  - 100 %\n"
	for front, want := range map[string]string{
		"{key: random}":           "",
		"{key: cookie passenger}": "guards count how many turn bad; about 90 different ones on",
		"{key: cookie passenger, embedded: {shuffle: no}}":    "see a fault of some; the same clients go first in every",
		"{key: random, sticky: yes}":                          "does not count them; guards that compare freeze in place",
		"{key: cookie p, nginx: {include: /i.conf}}":          "does not count them; guards that compare freeze in place",
		"{key: cookie p, nginx: {include: /i.conf, log: /l}}": "the log has to have the field cookie_p; the same clients",
		"{key: header X-Who, haproxy: {socket: /s, backends: {blue: b, green: g}, map: /m split}}": "With log they are " +
			"counted",
	} {
		file := filepath.Join(dir, "plan.yaml")
		if err := os.WriteFile(file, []byte("front: "+front+"\n"+rest), 0o644); err != nil {
			t.Fatal(err)
		}
		stdout, stderr, status := vaiven(t, "plan", file)
		if status != 0 || !strings.Contains(stdout, want) || want == "" && strings.Contains(stdout, "clients:") {
			t.Errorf("of %s it says (status %d)\n%s%s\nwant %q", front, status, stdout, stderr, want)
		}
	}
}
