package front

import "testing"

func TestWithPort(t *testing.T) {
	for given, want := range map[string]string{"ship1": "ship1:80", "10.1.0.1": "10.1.0.1:80",
		"10.1.0.1:8080": "10.1.0.1:8080", "[::1]": "[::1]:80", "[::1]:9": "[::1]:9"} {
		if got := WithPort(given); got != want {
			t.Errorf("%s is %s, not %s", given, got, want)
		}
	}
}
