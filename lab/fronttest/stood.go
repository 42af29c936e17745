package fronttest

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"testing"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/lab/testkit"
)

// Echo starts an instance that answers with its name, the path that it was asked for, and more of the request,
// until the test ends.
func Echo(t *testing.T, who string, more func(*http.Request) []string) (address string) {
	t.Helper()
	i := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_ = json.NewEncoder(w).Encode(append([]string{who, r.RequestURI}, more(r)...))
	}))
	t.Cleanup(i.Close)
	return i.Listener.Addr().String()
}

// Asked is what a proxy answers to some paths, one after the other.
func Asked(t *testing.T, listen string, paths ...string) string {
	t.Helper()
	var b strings.Builder
	for _, path := range paths {
		r, err := http.Get("http://" + listen + path)
		if err != nil {
			t.Fatal(err)
		}
		text, _ := io.ReadAll(r.Body)
		_ = r.Body.Close()
		fmt.Fprint(&b, path, r.StatusCode, string(text))
	}
	return b.String()
}

// Counted waits until a front has counted as many requests of blue as were asked, by a log whose lines name the
// servers, and holds it to that log: each of the paths stands in it once, and what was counted is what the log has.
// Clients of other tests, which ask for / at a port that was theirs, are no fault of either.
func Counted(t *testing.T, d front.Driver, log string, asked int, paths []string) {
	t.Helper()
	var text string
	sum, lines := int64(0), 0
	testkit.Until(t, "that all is counted", func() error {
		data, err := os.ReadFile(log)
		if err != nil {
			return err
		}
		text = string(data)
		r, err := d.Read(t.Context())
		if err != nil {
			return err
		}
		sum, lines = 0, 0
		var servers []string
		for _, i := range r.Sides[split.Blue].Instances {
			sum, servers = sum+i.Requests, append(servers, i.Address+`"`)
		}
		for line := range strings.Lines(text) {
			if slices.ContainsFunc(servers, func(s string) bool { return strings.Contains(line, s) }) {
				lines++
			}
		}
		if sum != int64(lines) || lines < asked {
			return fmt.Errorf("%d requests are counted, of %d in the log and %d that were asked: %s", sum, lines, asked,
				r.Notice)
		}
		return nil
	})
	for _, path := range paths {
		if n := strings.Count(text, `"path":"`+path+`"`); path != "/" && n > 1 {
			t.Errorf("%s stands %d times in the log:\n%s", path, n, text)
		}
	}
}
