package survey

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"vaiven/internal/world/place"
)

// What users get otherwise after a change is told, and what differs by itself is not.
func TestSample(t *testing.T) {
	var changed atomic.Bool
	var asked atomic.Int64
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n := asked.Add(1)
		switch {
		case r.URL.Path == "/time":
			fmt.Fprint(w, n)
		case r.URL.Path == "/moved":
			to := "/a"
			if changed.Load() {
				to = "http://10.1.0.1:8080/a"
			}
			http.Redirect(w, r, to, http.StatusFound)
		case r.URL.Path == "/base" && changed.Load():
			http.NotFound(w, r)
		case r.URL.Path == "/text" && changed.Load():
			fmt.Fprint(w, "another")
		case r.Host != "sailings.example":
			w.WriteHeader(http.StatusTeapot)
		default:
			fmt.Fprint(w, "the same")
		}
	}))
	t.Cleanup(s.Close)
	f := Found{Question: Question{On: place.Local{}}, Checks: Checks{Smoke: "/", Health: "/"}}
	f.Listen, f.Host = s.Listener.Addr().String(), "sailings.example"
	was, err := f.Sample(t.Context(), []string{"/time", "/moved", "/base", "/text", "/"})
	if err != nil || len(was.Asked) != 5 || was.Asked[0].Twice[0].Status != 200 {
		t.Fatalf("%+v, %v", was, err)
	}
	if list, err := was.Differs(t.Context(), place.Local{}); err != nil || len(list) > 0 {
		t.Errorf("nothing has changed, and it says %q, %v", list, err)
	}
	changed.Store(true)
	list, err := was.Differs(t.Context(), place.Local{})
	want := "/moved: it led to /a, and leads to http://10.1.0.1:8080/a\n/base: it was status 200, and is status 404\n" +
		"/text: what it says is another text"
	if err != nil || strings.Join(list, "\n") != want {
		t.Errorf("it says\n%s\nwant\n%s\n%v", strings.Join(list, "\n"), want, err)
	}
	s.Close()
	if list, err := was.Differs(t.Context(), place.Local{}); err != nil || len(list) != 5 ||
		!strings.Contains(list[0], "is no answer") {
		t.Errorf("nobody answers, and it says %q, %v", list, err)
	}
}

// Of a log only what nobody minds being asked again is asked.
func TestLoggedPaths(t *testing.T) {
	file := filepath.Join(t.TempDir(), "access.log")
	line := func(request string, status int) string {
		return fmt.Sprintf("192.0.2.1 - - [23/Nov/2026:10:00:00 +0000] %q %d 12\n", request, status)
	}
	text := line("GET /a HTTP/1.1", 200) + line("GET /b HTTP/1.1", 200) + line("GET /b HTTP/1.1", 200) +
		line("POST /c HTTP/1.1", 200) + line("GET /d?x=1 HTTP/1.1", 200) + line("GET /e HTTP/1.1", 500) +
		line("HEAD /f HTTP/1.1", 304) + "nonsense\n"
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	if list, err := LoggedPaths(file); err != nil || fmt.Sprint(list) != "[/b /a /f]" {
		t.Errorf("it would ask for %v, %v", list, err)
	}
	if _, err := LoggedPaths(os.DevNull); err == nil {
		t.Error("of nothing it would ask nothing, and says nothing")
	}
}
