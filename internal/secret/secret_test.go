package secret

import (
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"vaiven/internal/plan"
)

func TestSecretsAreUsedAndNotShown(t *testing.T) {
	file := filepath.Join(t.TempDir(), "token")
	if err := os.WriteFile(file, []byte("sea salt/7\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("FARES_PASSWORD", "sea salt")
	v, err := Read(map[string]plan.Secret{"fares": {Env: "FARES_PASSWORD"}, "token": {File: file}})
	if err != nil {
		t.Fatal(err)
	}
	if got := v.Expand("postgres://u:{secret fares}@db?t={secret token}", url.PathEscape); got != "postgres://u:sea%20salt@db?t=sea%20salt%2F7" {
		t.Errorf("expanded: %s", got)
	}
	for _, text := range []string{"sea salt", "wrong password sea salt/7", "GET /?q=sea+salt", "u:sea%20salt%2F7@db"} {
		if hidden := v.Hide(text); strings.Contains(hidden, "salt") || strings.Contains(hidden, "7") {
			t.Errorf("%q is shown as %q", text, hidden)
		}
		if !v.In(text) {
			t.Errorf("%q is not seen to hold a secret", text)
		}
	}
	if text := "nothing of it"; v.Hide(text) != text || v.In(text) || (Values{}).Hide(text) != text {
		t.Error("an innocent text was changed")
	}
}

func TestMissingSecretsAreNamed(t *testing.T) {
	_, err := Read(map[string]plan.Secret{"a": {Env: "VAIVEN_NOT_SET"}, "b": {File: "/nowhere/b"}})
	if err == nil || !strings.Contains(err.Error(), "secret a") || !strings.Contains(err.Error(), "secret b") {
		t.Errorf("error %v", err)
	}
}
