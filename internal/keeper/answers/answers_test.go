package answers

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/notice"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
)

// waits is a keeper that waits for an answer.
type waits struct {
	question crossing.Question
	came     []keeper.Command
	err      error
}

func (k *waits) TokenOf(token string) (notice.Token, crossing.Question, error) {
	switch token {
	case "good":
		return notice.Token{Question: 7, To: "marit@linea-vessa.example", As: "marit", Until: time.Now()}, k.question, nil
	case "old":
		return notice.Token{}, crossing.Question{}, notice.ErrExpired
	}
	return notice.Token{}, crossing.Question{}, notice.ErrNoToken
}

func (k *waits) Now() keeper.Snapshot {
	return keeper.Snapshot{View: engine.View{Crossing: crossing.State{Number: 12, Target: split.Green, Version: "4.3.0",
		Question: k.question}}}
}

func (k *waits) Do(_ context.Context, c keeper.Command) (uint64, error) {
	if k.came = append(k.came, c); k.err == nil {
		k.question = crossing.Question{}
	}
	return 8, k.err
}

// The page shows the question as often as anybody opens it, and only its button answers it, once.
func TestThePage(t *testing.T) {
	k := &waits{question: crossing.Question{ID: 7, Side: split.Green, Is: crossing.AskLeg{Step: crossing.Step{Leg: 1,
		Part: 2500}}}}
	server := httptest.NewServer(Handler("sailings <b>", k))
	t.Cleanup(server.Close)
	ask := func(method, path, do string) (int, string) {
		t.Helper()
		r, err := http.NewRequest(method, server.URL+path, strings.NewReader(url.Values{"do": {do}}.Encode()))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		w, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer w.Body.Close()
		text, err := io.ReadAll(w.Body)
		if err != nil {
			t.Fatal(err)
		}
		if policy := w.Header.Get("Content-Security-Policy"); w.Header.Get("Referrer-Policy") != "no-referrer" ||
			!strings.Contains(policy, "frame-ancestors 'none'") || w.Header.Get("Cache-Control") != "no-store" {
			t.Errorf("%s %s: headers %v", method, path, w.Header)
		}
		return w.StatusCode, string(text)
	}
	for _, method := range []string{http.MethodGet, http.MethodHead, http.MethodGet} { // as those do who look at mail
		status, text := ask(method, "/below/good", "yes")
		if status != http.StatusOK || method == http.MethodGet && (!strings.Contains(text, "go on to 25 % on green?") ||
			!strings.Contains(text, "<button") || !strings.Contains(text, "crossing 12: 4.3.0 to green") || !strings.Contains(text, "marit") || strings.Contains(text, "<b>")) {
			t.Errorf("%s: %d %s", method, status, text)
		}
	}
	for path, says := range map[string]string{"/old": "has expired", "/": "no link of a notice", "/other": "no link"} {
		for _, method := range []string{http.MethodGet, http.MethodPost} {
			if _, text := ask(method, path, "yes"); !strings.Contains(text, says) || strings.Contains(text, "<button") {
				t.Errorf("%s %s: %s", method, path, text)
			}
		}
	}
	for method, status := range map[string]int{http.MethodPut: http.StatusMethodNotAllowed,
		http.MethodDelete: http.StatusMethodNotAllowed} {
		if got, _ := ask(method, "/good", "yes"); got != status {
			t.Errorf("%s: %d", method, got)
		}
	}
	if status, _ := ask(http.MethodPost, "/good", "perhaps"); status != http.StatusBadRequest || len(k.came) > 0 {
		t.Errorf("perhaps: %d, %+v", status, k.came)
	}
	k.err = errors.New("not now: the plan lets only ines say yes")
	if status, text := ask(http.MethodPost, "/good", "yes"); status != http.StatusConflict ||
		!strings.Contains(text, "lets only ines") {
		t.Errorf("one that is refused: %d %s", status, text)
	}
	k.err = nil
	if status, text := ask(http.MethodPost, "/good", "yes"); status != http.StatusOK ||
		!strings.Contains(text, "Taken: yes") {
		t.Errorf("yes: %d %s", status, text)
	}
	if status, text := ask(http.MethodPost, "/good", "yes"); status != http.StatusConflict ||
		!strings.Contains(text, "not open any more") {
		t.Errorf("yes once more: %d %s", status, text)
	}
	if len(k.came) != 2 || k.came[1].Token != "good" || k.came[1].By != "" {
		t.Errorf("the keeper is told %+v", k.came)
	}
}
