package source

import (
	"crypto/tls"
	"encoding/json"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/world/secret"
	"vaiven/lab/monitortest"
	"vaiven/lab/stacktest"
	"vaiven/lab/testkit"
)

var sides = []Subject{{Side: split.Green, Version: "4.3.0", Instances: []string{"10.1.0.5:80"}},
	{Side: split.Blue, Version: "4.2.0", Instances: []string{"10.1.0.4:80", "10.1.0.6:80"}, Control: true}}

func rule(w plan.Watch, q plan.Query) plan.Guard {
	return plan.Guard{Name: "asked", Watch: w, Figure: plan.Figure{Name: "asked", From: plan.FromPrometheus, Query: q}}
}

func sourcesOf(t *testing.T, s plan.Sources, secrets map[string]string) *Sources {
	t.Helper()
	named := map[string]plan.Secret{}
	for name, value := range secrets {
		file := filepath.Join(t.TempDir(), name)
		if err := os.WriteFile(file, []byte(value), 0o600); err != nil {
			t.Fatal(err)
		}
		named[name] = plan.Secret{File: file}
	}
	values, err := secret.Read(named)
	if err != nil {
		t.Fatal(err)
	}
	for _, server := range []*plan.Server{&s.Prometheus, &s.Alertmanager, &s.SQL, &s.Command} {
		server.Within = 5 * time.Second
		server.Fresh = max(server.Fresh, 10*time.Second)
	}
	return New(&plan.Plan{Service: "sailings", Sources: s}, values)
}

// of is what was told of a side.
func of(r reading.Figures, side split.Side) (told []reading.Told) {
	for _, t := range r.Of {
		if t.Side == side {
			told = append(told, t)
		}
	}
	return told
}

// A real Prometheus tells both sides as of one moment, each series for itself, with the age of its samples; of what has
// none, is old, or is no number it says so.
func TestPrometheus(t *testing.T) {
	blue, green := monitortest.NewPage(t), monitortest.NewPage(t)
	for n, p := range []*monitortest.Page{blue, green} {
		p.Set("bookings_total", float64(100*(n+1)))
		p.Set(`refused_total{why="full"}`, float64(n+1))
		p.Set(`refused_total{why="closed"}`, 5)
	}
	green.Set("odd", 1)
	server := monitortest.Prometheus(t, []string{blue.Address + " side=blue", green.Address + " side=green"}, "")
	s := sourcesOf(t, plan.Sources{Prometheus: plan.Server{URL: server.URL}}, nil)
	count := rule(plan.Fewer, plan.Query{Text: `bookings_total{side="{side}"}`})
	var r reading.Figures
	testkit.Eventually(t, "both sides are scraped", func() bool {
		r = s.Read(t.Context(), count, sides)
		return len(r.Of) == 2 && r.Of[0].Said == "" && r.Of[1].Said == ""
	})
	if age := time.Since(r.At); r.Guard != "asked" || age < 0 || age > 5*time.Second ||
		of(r, split.Blue)[0].Values["asked"] != 100 || of(r, split.Green)[0].Values["asked"] != 200 ||
		r.Oldest().After(r.At) {
		t.Errorf("it tells %+v, %v old", r, time.Since(r.At))
	}
	r = s.Read(t.Context(), rule(plan.Rate, plan.Query{Bad: `refused_total{side="{side}"}`,
		Of: `bookings_total{side="{side}"}`}), sides)
	bad, all := 0.0, 0.0
	for _, told := range of(r, split.Green) {
		bad, all = bad+told.Values["asked"], all+told.Of["asked"]
	}
	if len(of(r, split.Green)) != 3 || bad != 7 || all != 200 {
		t.Errorf("of a rate it tells %+v", r.Of)
	}
	for query, said := range map[string]string{
		`odd{side="{side}"}`:                                "no sample",
		`bookings_total{side="{side}"} / 0`:                 "+Inf is no figure",
		`0 * (bookings_total{side="{side}"} / 0)`:           "NaN is no figure",
		`bookings_total{side="{side}"} offset 1h`:           "no sample",
		`bookings_total{side="{side}"} + on(nothing) foo()`: "no PromQL",
	} {
		r := s.Read(t.Context(), rule(plan.Higher, plan.Query{Text: query}), sides)
		if got := of(r, split.Blue); len(got) != 1 || !strings.Contains(got[0].Said, said) || len(got[0].Values) > 0 {
			t.Errorf("%s: %+v", query, got)
		}
	}
	filled := rule(plan.Higher, plan.Query{Text: `sum(bookings_total{side="{side}"}) + 0 * count(up{instance!~` +
		`"{instances}",side!="{version}{control}{service}"})`})
	if got := of(s.Read(t.Context(), filled, sides), split.Blue); len(got) != 1 || got[0].Values["asked"] != 100 {
		t.Errorf("with all placeholders: %+v", got)
	}
	s.plan.Prometheus.Fresh = time.Nanosecond
	if got := of(s.Read(t.Context(), count, sides), split.Blue); !strings.Contains(got[0].Said, "newest sample is") {
		t.Errorf("what is too old is told: %+v", got)
	}
	s.plan.Prometheus.Fresh, s.plan.Prometheus.Within = time.Minute, 300*time.Millisecond
	server.Stop()
	if r := s.Read(t.Context(), count, sides); !strings.Contains(r.Failed, "refused") || len(r.Of) > 0 {
		t.Errorf("one that is away tells %+v", r)
	}
}

// One whose clock is an hour off tells the same, and one that is slow about one side or fails there says nothing of it,
// and all of the other.
func TestPrometheusIsOdd(t *testing.T) {
	blue, green := monitortest.NewPage(t), monitortest.NewPage(t)
	blue.Set("bookings_total", 100)
	green.Set("bookings_total", 200)
	server := monitortest.Prometheus(t, []string{blue.Address + " side=blue", green.Address + " side=green"}, "")
	to, err := url.Parse(server.URL)
	if err != nil {
		t.Fatal(err)
	}
	var wrong atomic.Value // what is
	wrong.Store("")
	over := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(to) },
		ModifyResponse: func(w *http.Response) error { w.Header.Del("Date"); return nil }}
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if user, password, _ := r.BasicAuth(); user != "vaiven" || password != "hunter2" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		_ = r.ParseForm()
		about, odd := strings.Contains(r.Form.Get("query"), "green"), wrong.Load()
		switch {
		case odd == "slow" && about:
			<-r.Context().Done()
			return
		case odd == "fails" && about:
			w.WriteHeader(http.StatusInternalServerError)
			_, _ = w.Write([]byte("out of memory, says hunter2"))
			return
		case odd == "elsewhere":
			http.Redirect(w, r, "http://127.0.0.1:1/", http.StatusFound)
			return
		}
		again := r.Clone(r.Context())
		body := r.Form.Encode()
		again.Body, again.ContentLength = http.NoBody, 0
		again.Method, again.URL.RawQuery = http.MethodGet, body
		over.ServeHTTP(w, again)
	}))
	t.Cleanup(proxy.Close)
	s := sourcesOf(t, plan.Sources{Prometheus: plan.Server{URL: proxy.URL, User: "vaiven", Password: "{secret it}"}},
		map[string]string{"it": "hunter2"})
	count := rule(plan.Fewer, plan.Query{Text: `bookings_total{side="{side}"}`})
	testkit.Eventually(t, "both sides are scraped", func() bool {
		r := s.Read(t.Context(), count, sides)
		return len(of(r, split.Blue)) == 1 && len(of(r, split.Green)) == 1 && of(r, split.Green)[0].Said == "" &&
			of(r, split.Blue)[0].Said == ""
	})
	s.plan.Prometheus.Within = time.Second
	for what, said := range map[string]string{"slow": "no answer in time", "fails": "status 500"} {
		wrong.Store(what)
		r := s.Read(t.Context(), count, sides)
		if b, g := of(r, split.Blue), of(r, split.Green); len(b) != 1 || b[0].Values["asked"] != 100 || len(g) != 1 ||
			!strings.Contains(g[0].Said, said) || strings.Contains(g[0].Said, "hunter2") {
			t.Errorf("%s: %+v", what, r)
		}
	}
	wrong.Store("elsewhere")
	if r := s.Read(t.Context(), count, sides); !strings.Contains(r.Failed, "sends us elsewhere") {
		t.Errorf("one that sends us elsewhere: %+v", r)
	}
	wrong.Store("")
	s.clients[prometheus].server.Password = "wrong"
	if r := s.Read(t.Context(), count, sides); !strings.Contains(r.Failed, "refuses us") {
		t.Errorf("with a wrong password: %+v", r)
	}
}

// A server whose clock is wrong has samples as old as they are by that clock.
func TestPrometheusWithAnotherClock(t *testing.T) {
	var ahead atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_ = r.ParseForm()
		now := float64(time.Now().Add(time.Duration(ahead.Load())).UnixMilli()) / 1000
		text := func(v float64) any {
			s, _ := json.Marshal(v)
			return []any{now, string(s)}
		}
		result := map[string]any{"resultType": "vector", "result": []any{map[string]any{"metric": map[string]string{},
			"value": text(7)}}}
		switch q := r.Form.Get("query"); {
		case q == "time()":
			result = map[string]any{"resultType": "scalar", "result": text(now)}
		case strings.Contains(q, "timestamp"):
			result["result"] = []any{map[string]any{"metric": map[string]string{}, "value": text(now - 3)}}
		}
		_ = json.NewEncoder(w).Encode(map[string]any{"status": "success", "data": result})
	}))
	t.Cleanup(server.Close)
	s := sourcesOf(t, plan.Sources{Prometheus: plan.Server{URL: server.URL}}, nil)
	for _, by := range []time.Duration{10 * time.Hour, -10 * time.Hour} {
		ahead.Store(int64(by))
		r := s.Read(t.Context(), rule(plan.Higher, plan.Query{Text: `backlog{side="{side}"}`}), sides)
		if age := time.Since(r.At); age < 2*time.Second || age > 8*time.Second || r.Of[0].Values["asked"] != 7 {
			t.Errorf("with a clock %v ahead: %+v, %v old", by, r, age)
		}
	}
}

// A real Alertmanager tells what fires and matches, with an identity of each firing.
func TestAlertmanager(t *testing.T) {
	server := monitortest.Alertmanager(t)
	s := sourcesOf(t, plan.Sources{Alertmanager: plan.Server{URL: server.URL}}, nil)
	g := plan.Guard{Name: "pages", Watch: plan.Alert, Alerts: []plan.Matcher{`severity="page"`, `side=~"{side}|"`}}
	began := time.Now().Add(-time.Minute)
	server.Fire("Slow", began, began.Add(time.Hour), "severity=page")
	server.Fire("Full", began, began.Add(time.Hour), "severity=page", "side=green")
	server.Fire("Elsewhere", began, began.Add(time.Hour), "severity=page", "side=blue")
	server.Fire("Small", began, began.Add(time.Hour), "severity=note")
	var r reading.Figures
	testkit.Eventually(t, "two alerts fire", func() bool {
		r = s.Read(t.Context(), g, sides[:1])
		return len(r.Alerts) == 2
	})
	first := map[string]string{}
	for _, a := range r.Alerts {
		if first[a.Name] = a.ID; a.Summary != a.Name+" is up" || a.Since.Sub(began).Abs() > 5*time.Second {
			t.Errorf("it tells of %+v", a)
		}
	}
	server.Fire("Slow", began, time.Now().Add(-time.Second), "severity=page")
	testkit.Eventually(t, "one has ended", func() bool { return len(s.Read(t.Context(), g, sides[:1]).Alerts) == 1 })
	server.Fire("Slow", time.Now(), time.Now().Add(time.Hour), "severity=page")
	testkit.Eventually(t, "it fires again", func() bool {
		r = s.Read(t.Context(), g, sides[:1])
		return len(r.Alerts) == 2
	})
	for _, a := range r.Alerts {
		if (a.ID == first[a.Name]) != (a.Name == "Full") {
			t.Errorf("%s is %s, and was %s", a.Name, a.ID, first[a.Name])
		}
	}
	g.Alerts = []plan.Matcher{`no matcher`}
	if r := s.Read(t.Context(), g, sides[:1]); r.Failed != "status 400" {
		t.Errorf("what it does not understand: %+v", r)
	}
}

// A command's numbers are its first line; what it says of a failure is said.
func TestACommand(t *testing.T) {
	s := sourcesOf(t, plan.Sources{}, nil)
	for script, want := range map[string]string{
		"echo 12; echo 13":           "12",
		"echo 1 2":                   "2 numbers in place of one",
		"echo many":                  `"many" is no figure`,
		"echo NaN":                   `"NaN" is no figure`,
		"true":                       "it printed nothing",
		"echo why >&2; exit 3":       "exit status 3: why",
		"sleep 30":                   "it did not end in time",
		"echo $VAIVEN_CONTROL$0 >&2": "it printed nothing",
	} {
		s.plan.Command.Within = 5 * time.Second
		if strings.HasPrefix(script, "sleep") {
			s.plan.Command.Within = 200 * time.Millisecond
		}
		g := rule(plan.Higher, plan.Query{Words: []string{"sh", "-c", script, "{side}"}})
		g.Figure.From = plan.FromCommand
		got := of(s.Read(t.Context(), g, sides), split.Blue)[0]
		if told, _ := json.Marshal(got.Values["asked"]); got.Said != want && string(told) != want {
			t.Errorf("%s: %+v, not %q", script, got, want)
		}
	}
}

// A database's first row is what it tells, as of one moment for both sides; a statement that writes is refused.
func TestSQL(t *testing.T) {
	address := stacktest.Postgres(t)
	s := sourcesOf(t, plan.Sources{SQL: plan.Server{
		URL: "postgres://fares:{secret fares}@" + address + "/postgres?sslmode=disable"}},
		map[string]string{"fares": "sea salt"})
	ask := func(w plan.Watch, statement string) reading.Told {
		g := rule(w, plan.Query{Text: statement})
		g.Figure.From = plan.FromSQL
		return of(s.Read(t.Context(), g, sides), split.Blue)[0]
	}
	testkit.Eventually(t, "the database answers", func() bool { return ask(plan.Higher, "select 1").Said == "" })
	if got := ask(plan.Higher, "select 7 where '{side}' = 'blue'"); got.Values["asked"] != 7 {
		t.Errorf("a number: %+v", got)
	}
	if got := ask(plan.Rate, "select 3, 40.5"); got.Values["asked"] != 3 || got.Of["asked"] != 40.5 {
		t.Errorf("a rate: %+v", got)
	}
	for statement, said := range map[string]string{
		"select 1 where false":        "no row",
		"values (1), (2)":             "more than one row",
		"select 'many'":               `"many" is no figure`,
		"create table berths (n int)": "read-only transaction",
		"select n from berths":        `relation "berths" does not exist`,
		"select pg_sleep(30)::text":   "no answer in time",
	} {
		s.plan.SQL.Within = 5 * time.Second
		if strings.Contains(statement, "sleep") {
			s.plan.SQL.Within = 300 * time.Millisecond
		}
		if got := ask(plan.Higher, statement); !strings.Contains(got.Said, said) || len(got.Values) > 0 {
			t.Errorf("%s: %+v", statement, got)
		}
	}
}

// What a name holds is that name in a query, and nothing else.
func TestWhatStandsInAQuery(t *testing.T) {
	text := "a\"b'c\\d\ne"
	q, err := ParseQuestion(`up{version="`+inPromQL(text)+`"}`, true)
	if err != nil || len(q.Selectors) != 1 {
		t.Fatalf("%+v, %v", q, err)
	}
	if _, err := ParseQuestion(q.Selectors[0], true); err != nil {
		t.Errorf("its series cannot be asked for: %v", err)
	}
	if got := inSQL("it's"); got != "it''s" {
		t.Errorf("in SQL it is %s", got)
	}
}

// Over TLS a server has to be one that the plan trusts, by its name; a token goes to it alone.
func TestOverTLS(t *testing.T) {
	var asked atomic.Value
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Store(r.Header.Get("Authorization"))
		_, _ = w.Write([]byte("[]"))
	}))
	dir := t.TempDir()
	c := testkit.Certify(t, dir, "alerts.internal", 1, nil)
	pair, err := tls.LoadX509KeyPair(c.File, c.Key)
	if err != nil {
		t.Fatal(err)
	}
	server.TLS = &tls.Config{Certificates: []tls.Certificate{pair}}
	server.Config.ErrorLog = log.New(io.Discard, "", 0)
	server.StartTLS()
	t.Cleanup(server.Close)
	g := plan.Guard{Name: "pages", Watch: plan.Alert}
	for what, c := range map[string]struct {
		trust plan.Trust
		said  string
	}{"trusted": {plan.Trust{CA: c.File, Name: "alerts.internal"}, ""}, "by another name": {plan.Trust{CA: c.File}, "127.0.0.1"},
		"not trusted":  {plan.Trust{Name: "alerts.internal"}, "unknown authority"},
		"no such file": {plan.Trust{CA: dir + "/none.pem"}, "none.pem"}} {
		asked.Store("")
		s := sourcesOf(t, plan.Sources{Alertmanager: plan.Server{URL: server.URL, Trust: c.trust,
			Token: "{secret it}"}}, map[string]string{"it": "sea salt"})
		r := s.Read(t.Context(), g, sides[:1])
		if !strings.Contains(r.Failed, c.said) || (r.Failed == "") != (c.said == "") ||
			(asked.Load() == "Bearer sea salt") != (c.said == "") {
			t.Errorf("%s: %q, asked with %q", what, r.Failed, asked.Load())
		}
	}
}
