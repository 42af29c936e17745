package post

import (
	"encoding/json"
	"errors"
	"io"
	"mime/quotedprintable"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/notice"
	"vaiven/internal/core/plan"
	"vaiven/internal/world/secret"
	"vaiven/lab/monitortest"
	"vaiven/lab/testkit"
)

var message = notice.Message{ID: "sailings-7-mail-1", About: plan.AboutAsks, Service: "sailings", Crossing: 12,
	At: time.Date(2026, 11, 29, 14, 2, 10, 0, time.UTC), Host: "quay2", Plan: "/srv/sailings.yaml",
	Subject:  "sailings: 4.3.0 on green asks: go on to 25 % on green?",
	Happened: []string{"14:02:10 4.3.0 on green asks: go on to 25 % on green?"},
	Users:    "5 % of requests go to green (4.3.0), the others to blue (4.2.0).", Stands: "waits for a person",
	Do:       []string{"yes:  vaiven say /srv/sailings.yaml yes --question 7"},
	Question: 7, Token: "abc.def", Link: "https://vaiven.linea-vessa.example/abc.def",
	Events: []crossing.Event{{Seq: 7, What: crossing.Asked{}}}}

func known(t *testing.T) secret.Values {
	t.Helper()
	file := filepath.Join(t.TempDir(), "key")
	if err := os.WriteFile(file, []byte("sea salt"), 0o600); err != nil {
		t.Fatal(err)
	}
	v, err := secret.Read(map[string]plan.Secret{"key": {File: file}})
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// A real mail server takes notices, with and without encryption; what it refuses for good is told apart from what it
// cannot take now.
func TestMail(t *testing.T) {
	server := monitortest.Mail(t)
	secrets := known(t)
	plain := Post{Secrets: secrets, Mail: plan.MailServer{Server: server.Address, From: "vaiven@linea-vessa.example",
		TLS: plan.MailPlain}}
	_, port, _ := strings.Cut(server.Address, ":")
	safe := Post{Secrets: secrets, Mail: plan.MailServer{Server: "localhost:" + port, From: "vaiven@linea-vessa.example",
		TLS: plan.MailStartTLS, User: "vaiven", Password: "{secret key}", Trust: plan.Trust{CA: server.CA}}}
	marit := plan.Receiver{Way: plan.ByMail, Address: "marit@linea-vessa.example"}
	for name, by := range map[string]Post{"plain": plain, "with STARTTLS": safe} {
		if err := by.Send(t.Context(), marit, message); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	var letters []string
	testkit.Eventually(t, "both letters have come", func() bool {
		letters = server.Came()
		return len(letters) == 2
	})
	head, body, _ := strings.Cut(letters[0], "\n\n")
	text, err := io.ReadAll(quotedprintable.NewReader(strings.NewReader(body)))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"Subject: sailings: 4.3.0 on green asks: go on to 25 % on green?",
		"Message-ID: <sailings-7-mail-1@quay2>", "Auto-Submitted: auto-generated", "Envelope-to: marit@linea-vessa.example"} {
		if !strings.Contains(head, want) {
			t.Errorf("the letter's head has no %q:\n%s", want, head)
		}
	}
	for _, want := range []string{message.Happened[0], message.Users, "vaiven say /srv/sailings.yaml yes --question 7",
		message.Link, "do not pass it on"} {
		if !strings.Contains(string(text), want) {
			t.Errorf("the letter has no %q:\n%s", want, text)
		}
	}
	gone := plan.Receiver{Way: plan.ByMail, Address: "gone@linea-vessa.example"}
	if err := plain.Send(t.Context(), gone, message); !errors.Is(err, ErrRefused) {
		t.Errorf("an address that there is not: %v", err)
	}
	wrong := safe
	wrong.Mail.Password = "pepper"
	if err := wrong.Send(t.Context(), marit, message); err == nil {
		t.Error("a wrong password is taken")
	}
	wrong = safe
	wrong.Mail.Trust.CA = ""
	if err := wrong.Send(t.Context(), marit, message); err == nil || !strings.Contains(err.Error(), "certificate") {
		t.Errorf("a server that nobody trusts: %v", err)
	}
	server.Stop()
	if err := plain.Send(t.Context(), marit, message); err == nil || errors.Is(err, ErrRefused) {
		t.Errorf("a server that is away: %v", err)
	}
}

// A webhook gets a CloudEvents event whose signature is that of its time and body.
func TestWebhook(t *testing.T) {
	status, said := http.StatusOK, ""
	var got event
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		if err != nil || json.Unmarshal(body, &got) != nil {
			t.Errorf("what comes is no JSON: %v", err)
		}
		if r.Header.Get(SignatureHeader) != Sign("sea salt", r.Header.Get(TimeHeader), body) ||
			!strings.HasPrefix(r.Header.Get("Content-Type"), "application/cloudevents+json") {
			t.Errorf("it comes with %v", r.Header)
		}
		if !strings.HasSuffix(r.URL.Path, "/sea salt") {
			t.Errorf("at %s", r.URL.Path)
		}
		if status == http.StatusFound {
			w.Header().Set("Location", "http://127.0.0.1:1/")
		}
		w.WriteHeader(status)
		_, _ = io.WriteString(w, said)
	}))
	t.Cleanup(server.Close)
	p := Post{Secrets: known(t)}
	hook := plan.Receiver{Way: plan.ByWebhook, Address: server.URL + "/{secret key}", Key: "{secret key}"}
	if err := p.Send(t.Context(), hook, message); err != nil {
		t.Fatal(err)
	}
	if got.SpecVersion != "1.0" || got.ID != message.ID || got.Type != "vaiven.notice.asks" ||
		got.Source != "//quay2/sailings" || !got.Time.Equal(message.At) || got.Data.Subject != message.Subject ||
		len(got.Data.Events) != 1 {
		t.Errorf("the event is %+v", got)
	}
	for status, said = range map[int]string{http.StatusServiceUnavailable: "busy, says sea salt", http.StatusGone: "",
		http.StatusFound: ""} {
		err := p.Send(t.Context(), hook, message)
		if err == nil || errors.Is(err, ErrRefused) != (status == http.StatusGone) ||
			strings.Contains(err.Error(), "salt") {
			t.Errorf("status %d: %v", status, err)
		}
	}
	server.Close()
	if err := p.Send(t.Context(), hook, message); err == nil || strings.Contains(err.Error(), "salt") {
		t.Errorf("one that is away: %v", err)
	}
}

// A command gets the same event, and what it says of a failure is said.
func TestCommand(t *testing.T) {
	file := filepath.Join(t.TempDir(), "event")
	p := Post{Secrets: known(t)}
	run := func(script string) error {
		return p.Send(t.Context(), plan.Receiver{Way: plan.ByCommand, Words: []string{"sh", "-c", script}}, message)
	}
	if err := run("cat > " + file + "; test \"$VAIVEN_ABOUT\" = asks"); err != nil {
		t.Fatal(err)
	}
	var got event
	if text, err := os.ReadFile(file); err != nil || json.Unmarshal(text, &got) != nil || got.Data.Question != 7 {
		t.Errorf("it gets %s, %v", text, err)
	}
	if err := run("echo no room for sea salt; exit 3"); err == nil || !strings.Contains(err.Error(), "exit status 3: no room") ||
		strings.Contains(err.Error(), "salt") {
		t.Errorf("one that fails: %v", err)
	}
}
