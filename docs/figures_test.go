package docs

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"vaiven/internal/world/post"
	"vaiven/lab/monitortest"
	"vaiven/lab/testkit"
)

// asFigures is what the test binary follows when it is started with that section.
const asFigures = "figures"

// docs/figures.md is followed word by word, and docs/notices.md after it, on a machine of its own with Debian's
// Prometheus, Alertmanager and mail server, and users on the service all the while.
func TestFigures(t *testing.T) {
	onAMachine(t, "TestFiguresInside", asFigures)
}

// services does what systemd does of the services that the page names.
const services = `#!/bin/sh
start() {
	case "$1" in
	prometheus) set -- prometheus --config.file=/etc/prometheus/prometheus.yml --storage.tsdb.path=/srv/tsdb \
		--web.listen-address=127.0.0.1:9090 --log.level=warn ;;
	prometheus-alertmanager) set -- prometheus-alertmanager --config.file=/srv/alertmanager.yml \
		--storage.path=/srv/alerts --web.listen-address=127.0.0.1:9093 --cluster.listen-address= --log.level=warn ;;
	esac
	setsid "$@" > /run/"$1".log 2>&1 &
	echo $! > /run/"$1".pid
}
wanted=$1; shift
for name; do
	case "$wanted" in
	restart) start "$name" ;;
	stop) kill "$(cat /run/"$name".pid)" ;;
	esac
done
for port in 9090 9093; do
	for n in $(seq 200); do curl -sf http://127.0.0.1:$port/-/ready > /run/null && break; sleep 0.1; done
done
`

// board is a webhook that keeps what comes, and says when.
type board struct {
	mu   sync.Mutex
	came []struct {
		Type string
		Data struct {
			Subject, Users, Link string
			At                   time.Time
		}
	}
	at []time.Time
}

func (b *board) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(r.Body)
	if err != nil || r.Header.Get(post.SignatureHeader) != post.Sign("sea salt", r.Header.Get(post.TimeHeader), body) {
		http.Error(w, "not signed", http.StatusForbidden)
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.at = append(b.at, time.Now())
	b.came = append(b.came, struct {
		Type string
		Data struct {
			Subject, Users, Link string
			At                   time.Time
		}
	}{})
	_ = json.Unmarshal(body, &b.came[len(b.came)-1])
}

// of is when something was told of first, and what was said; false if it was not.
func (b *board) of(kind string) (at time.Time, subject string, happened time.Time, ok bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for n, e := range b.came {
		if e.Type == "vaiven.notice."+kind {
			return b.at[n], e.Data.Subject, e.Data.At, true
		}
	}
	return at, "", happened, false
}

var answerLink = regexp.MustCompile(`http://127\.0\.0\.1:8490/[\w.=-]+`)

// TestFiguresInside follows both pages, in the namespaces that TestFigures has made.
func TestFiguresInside(t *testing.T) {
	if os.Getenv(asInside) != asFigures {
		t.Skip("it is run by TestFigures")
	}
	m := newMachine(t)
	m.write(m.bin+"/systemctl", services, 0o755)
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	for _, version := range []string{"4.2.0", "4.3.0", "4.4.0"} {
		m.write("/srv/builds/"+version+"/run", fmt.Sprintf("#!/bin/sh\n%s=$1 VERSION=%s exec %s\n", asServer, version, self),
			0o755)
	}
	m.write("/srv/alertmanager.yml", "route: {receiver: nobody}\nreceivers: [{name: nobody}]\n", 0o600)
	m.run("mkdir -p /etc/prometheus")
	mails := monitortest.MailAt(t, "127.0.0.1:25")
	var hook board
	server := &http.Server{Addr: "127.0.0.1:9000", Handler: &hook}
	go func() { _ = server.ListenAndServe() }()
	t.Cleanup(func() { _ = server.Close() })
	var u *users
	said := ""
	do := func(text string) {
		t.Helper()
		out, err := m.try(text)
		t.Logf("%s:\n%s\n%s", time.Now().Format("15:04:05"), text, out)
		if said += out; err != nil {
			t.Fatalf("it ended with %v", err)
		}
		if u == nil && strings.Contains(text, "--version 4.2.0") {
			u = come("http://sailings.example:8080/", nil)
			testkit.Eventually(t, "users are answered", func() bool { return u.by("4.2.0") > 50 })
		}
	}
	for _, b := range blocks(t, "figures.md", "## 1.") {
		do(b.text)
	}
	for _, want := range []string{"fewer bookings: fewer by", `vaiven_share_ratio{service="sailings",side="green"} 1`} {
		if !strings.Contains(said, want) {
			t.Errorf("nothing says %q", want)
		}
	}
	for _, b := range blocks(t, "notices.md", "## 1.") {
		do(b.text)
	}
	testkit.Eventually(t, "marit has the question", func() bool {
		return answerLink.MatchString(strings.Join(mails.Came(), "\n"))
	})
	letter := strings.ReplaceAll(strings.ReplaceAll(strings.Join(mails.Came(), "\n"), "=\n", ""), "=3D", "=")
	link := answerLink.FindString(letter)
	t.Logf("mail:\n%s", letter)
	if out := m.run("curl -sf " + link + "; curl -sfI " + link); !strings.Contains(out, "go on to 100 %") {
		t.Errorf("the page says %s", out)
	}
	asked := m.run("cd /srv; vaiven where sailings.yaml --for 0s")
	if !strings.Contains(asked, "go on to 100 %") {
		t.Errorf("who looked at the link has answered it: %s", asked)
	}
	first := m.run("curl -s -w '%{http_code}' -d do=yes " + link)
	second := m.run("curl -s -w '%{http_code}' -d do=yes " + link)
	if !strings.HasSuffix(first, "200") || !strings.HasSuffix(second, "409") {
		t.Errorf("the first use: %s\nthe second: %s", first, second)
	}
	testkit.Eventually(t, "it goes on", func() bool { return u.by("4.3.0") > 500 })
	if log := m.run("cd /srv; vaiven log sailings.yaml 3"); !strings.Contains(log, "by a notice to marit@linea-vessa.example") {
		t.Errorf("the logbook says %s", log)
	}
	alerts(t, m, &hook)
	u.stop()
	u.well(t, "everything")
}

// alerts has one fire that fired before, and one that fires anew: the second freezes, and going home is told within five
// seconds.
func alerts(t *testing.T, m *machine, hook *board) {
	t.Helper()
	fire := func(name string) {
		m.run(fmt.Sprintf("curl -sf -XPOST http://127.0.0.1:9093/api/v2/alerts -H 'Content-Type: application/json' -d "+
			`'[{"labels": {"alertname": %q, "severity": "page", "service": "sailings"}}]'`, name))
	}
	fire("Before")
	m.run("cd /srv; vaiven retire sailings.yaml --yes")
	m.run("cd /srv; vaiven cross sailings.yaml --version 4.2.0 --yes=start --accept --detach")
	frozen := func() string { return m.run("cd /srv; vaiven where sailings.yaml --for 0s") }
	testkit.Eventually(t, "requests go to the new side", func() bool {
		return strings.Contains(m.run("curl -sf http://127.0.0.1:9411/metrics"), `vaiven_share_ratio{service="sailings",`+
			`side="green"} 0.4`)
	})
	fire("Before")
	time.Sleep(5 * time.Second) // what does not come, does not come within this time
	if out := frozen(); strings.Contains(out, "frozen") {
		t.Fatalf("an alert from before freezes: %s", out)
	}
	fire("Anew")
	testkit.Eventually(t, "an alert that fires anew freezes", func() bool { return strings.Contains(frozen(), "Anew fires") })
	m.run("cd /srv; vaiven back sailings.yaml")
	testkit.Eventually(t, "the rollback is told", func() bool { _, _, _, ok := hook.of("rolled-back"); return ok })
	told, subject, happened, _ := hook.of("rolled-back")
	if late := told.Sub(happened); late > 5*time.Second {
		t.Errorf("the rollback is told after %v: %s", late, subject)
	}
}
