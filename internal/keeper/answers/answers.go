package answers

import (
	"context"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/notice"
	"vaiven/internal/core/plan"
	"vaiven/internal/keeper"
	"vaiven/internal/words"
	"vaiven/internal/world/page"
)

// Asked is what the page needs of a keeper.
type Asked interface {
	TokenOf(token string) (notice.Token, crossing.Question, error)
	// Now is the newest snapshot.
	Now() keeper.Snapshot
	Do(context.Context, keeper.Command) (uint64, error)
}

// The limits of the page. What comes is a few lines, and answers are given by people.
const (
	bodyMost = 4 << 10
	atOnce   = 32
)

// Serve serves the page at the plan's address until the context ends.
func Serve(ctx context.Context, p *plan.Plan, k Asked) {
	a := p.Notices.Answers
	page.Serve(ctx, page.Place{Address: a.Listen, Certificate: a.Certificate, Key: a.Key}, "answers to notices",
		Handler(p.Service, k))
}

// shown is what stands on the page.
type shown struct {
	Service, Title, Text, As string
	Users                    string // who gets requests now
	Until                    time.Time
	Open                     bool // it can be answered
	Back                     bool // a no rolls back
}

// Handler is the page: GET shows the question, POST answers it with "do" yes or no.
func Handler(service string, k Asked) http.Handler {
	room := make(chan struct{}, atOnce)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Cache-Control", "no-store")
		h.Set("Referrer-Policy", "no-referrer") // its address is the token
		h.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; "+
			"frame-ancestors 'none'; base-uri 'none'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("X-Robots-Tag", "noindex")
		select {
		case room <- struct{}{}:
			defer func() { <-room }()
		default:
			http.Error(w, "too many at once", http.StatusServiceUnavailable)
			return
		}
		token := strings.Trim(r.URL.Path, "/")
		if n := strings.LastIndexByte(token, '/'); n >= 0 { // behind a proxy that leaves its own path in front
			token = token[n+1:]
		}
		switch r.Method {
		case http.MethodGet, http.MethodHead:
			show(w, http.StatusOK, asked(service, k, token))
		case http.MethodPost:
			r.Body = http.MaxBytesReader(w, r.Body, bodyMost)
			answer(w, r, service, k, token)
		default:
			h.Set("Allow", "GET, POST")
			http.Error(w, "GET shows the question, POST answers it", http.StatusMethodNotAllowed)
		}
	})
}

// asked is the question of a token as it stands.
func asked(service string, k Asked, token string) shown {
	s := shown{Service: service}
	t, q, err := k.TokenOf(token)
	switch {
	case errors.Is(err, notice.ErrExpired):
		s.Title, s.Text = "This link has expired", "Answer on the keeper's machine: vaiven say PLAN yes"
	case err != nil:
		s.Title, s.Text = "This is no link of a notice", "Open it as it stands there, whole."
	case q.ID == 0:
		s.Title, s.Text = "The question is not open any more", "Somebody has answered it, or the crossing went another way: "+
			words.State(k.Now().Crossing)
	default:
		now := k.Now()
		c := now.Crossing
		s.Service += fmt.Sprintf(", crossing %d: %s to %v", c.Number, c.Version, c.Target)
		s.Users = words.Users(now.View)
		s.Title, s.Text, s.As, s.Until = words.Question(q, c), words.Behind(q), t.As, t.Until
		s.Open, s.Back = true, c.Part() > 0
		if s.As == "" {
			s.As = t.To
		}
	}
	return s
}

// answer answers the question of a token.
func answer(w http.ResponseWriter, r *http.Request, service string, k Asked, token string) {
	s := asked(service, k, token)
	if !s.Open {
		show(w, http.StatusConflict, s)
		return
	}
	var act crossing.Act
	switch r.PostFormValue("do") {
	case "yes":
		act = crossing.Yes{}
	case "no":
		act = crossing.No{}
	default:
		http.Error(w, "do is yes or no", http.StatusBadRequest)
		return
	}
	_, err := k.Do(r.Context(), keeper.Command{Act: act, Token: token})
	if err != nil {
		show(w, http.StatusConflict, shown{Service: service, Title: "It was not taken", Text: err.Error()})
		return
	}
	show(w, http.StatusOK, shown{Service: service, Title: "Taken: " + act.About().Name,
		Text: words.State(k.Now().Crossing)})
}

func show(w http.ResponseWriter, status int, s shown) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_ = shownAs.Execute(w, s)
}

var shownAs = template.Must(template.New("answers").Parse(`<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width">
<title>{{.Service}}: {{.Title}}</title>
<style>
body { font: 18px/1.5 sans-serif; max-width: 36em; margin: 3em auto; padding: 0 1em; color: #111; background: #fff }
p.of { color: #555; margin: 0 }
h1 { font-size: 1.4em; margin: .2em 0 .8em }
button { font: inherit; padding: .6em 1.2em; margin: 0 1em .6em 0; border: 2px solid #111; background: #fff; color: #111 }
button.yes { background: #111; color: #fff }
p.by { color: #555; font-size: .85em }
</style>
<p class="of">{{.Service}}</p>
<h1>{{.Title}}</h1>
{{with .Text}}<p>{{.}}</p>
{{end}}{{with .Users}}<p>{{.}}</p>
{{end}}{{if .Open}}<form method="post">
<button class="yes" name="do" value="yes">Yes</button>
<button name="do" value="no">{{if .Back}}No: roll back{{else}}No: call it off{{end}}</button>
</form>
<p class="by">Your answer goes into the logbook as {{.As}}'s. The link is good until {{.Until.Local.Format "15:04 MST"}}, for this question alone.</p>
{{end}}</html>
`))
