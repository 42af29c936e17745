package docs

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"vaiven/lab/linktest"
	"vaiven/lab/testkit"
)

// What the test binary is when it is started by itself.
const (
	asInside = "VAIVEN_TEST_BEGIN" // the section of docs/begin.md that is followed, in a machine of its own
	asServer = "VAIVEN_TEST_SERVE" // an instance: the address that it listens at
)

func TestMain(m *testing.M) {
	if address := os.Getenv(asServer); address != "" {
		serve(address, os.Getenv("VERSION"))
		return
	}
	os.Exit(m.Run())
}

// serve is an instance of a version.
func serve(address, version string) {
	var asked, booked atomic.Int64
	every := int64(2)
	if version == "4.4.0" { // as well in every answer, and half as many book
		every = 4
	}
	err := http.ListenAndServe(address, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/metrics" {
			fmt.Fprintf(w, "bookings_total %d\n", booked.Load())
			return
		}
		if r.URL.Path == "/" && asked.Add(1)%every == 0 {
			booked.Add(1)
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(map[string]string{"version": version, "company": "Linea Vessa", "host": r.Host})
	}))
	fmt.Fprintln(os.Stderr, err)
	os.Exit(1)
}

// docs/begin.md is followed word by word, each section in namespaces of its own that look like a Debian machine, with
// users on the proxy all the while. None of their requests is lost: not by the steps, not by a crossing, not by a
// rollback, and not by undoing everything.
func TestBegin(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can make namespaces that look like a machine")
	}
	vaiven := testkit.Program(t, "vaiven/cmd/vaiven")
	for _, section := range []string{"HAProxy", "nginx", "nginx" + overSSH, "Apache httpd"} {
		t.Run(section, func(t *testing.T) {
			t.Parallel()
			follow(t, "TestInside", section, vaiven)
		})
	}
}

// follow follows a section in namespaces of its own, by a test of that name.
func follow(t *testing.T, test, section, vaiven string) {
	t.Helper()
	cmd := exec.Command("unshare", "--mount", "--net", "--pid", "--fork", "--mount-proc", "--kill-child",
		os.Args[0], "-test.run=^"+test+"$", "-test.v", "-test.timeout=8m")
	cmd.Env = append(os.Environ(), asInside+"="+section, "VAIVEN_PROGRAM="+vaiven)
	out, err := cmd.CombinedOutput()
	if err != nil || !strings.Contains(string(out), "--- PASS: "+test) {
		t.Fatalf("%v\n%s", err, out)
	}
}

// overSSH follows a section from another machine, by way of a connection that is cut in the middle of the rollback.
const overSSH = " over SSH"

// document is what a section of begin.md has to run.
type document struct {
	config string   // of the proxy, as it is before
	do     []string // blocks of commands, in their order
	undo   []string
}

func read(t *testing.T, section string) document {
	t.Helper()
	data, err := os.ReadFile("begin.md")
	if err != nil {
		t.Fatal(err)
	}
	_, text, found := strings.Cut(string(data), "\n## "+section+"\n")
	if !found {
		t.Fatalf("begin.md has no section %q", section)
	}
	text, _, _ = strings.Cut(text, "\n## ")
	var d document
	for _, m := range regexp.MustCompile("(?s)```([a-z ]*)\n(.*?)```").FindAllStringSubmatch(text, -1) {
		switch m[1] {
		case "":
			d.config = m[2]
		case "sh":
			d.do = append(d.do, m[2])
		case "sh undo":
			d.undo = append(d.undo, m[2])
		default:
			t.Fatalf("a block of %q", m[1])
		}
	}
	if d.config == "" || len(d.do) < 3 || len(d.undo) < 2 {
		t.Fatalf("section %s has %d steps, and %d to undo them", section, len(d.do), len(d.undo))
	}
	return d
}

// machine is the machine that a section is followed on.
type machine struct {
	t       *testing.T
	folder  string         // that the next block is run in
	program string         // vaiven's
	bin     string         // folder with it
	home    string         // of whoever runs it
	wire    *linktest.Wire // to the proxy's machine; nil if it is this one
}

// run runs a block of commands as a shell would, and returns what it says.
func (m *machine) run(block string) string {
	m.t.Helper()
	out, err := m.try(block)
	if err != nil {
		m.t.Fatalf("%v\n%s\n%s", err, block, out)
	}
	return out
}

func (m *machine) try(block string) (string, error) {
	pwd := filepath.Join(m.bin, "pwd")
	cmd := exec.Command("bash", "-e", "-c", "cd "+m.folder+"\n"+block+"\npwd > "+pwd)
	cmd.Env = append(os.Environ(), "PATH="+m.bin+":/usr/sbin:/usr/bin:/sbin:/bin", "HOME="+m.home, asInside+"=")
	out, err := cmd.CombinedOutput()
	if data, errRead := os.ReadFile(pwd); errRead == nil {
		m.folder = strings.TrimSpace(string(data))
	}
	return string(out), err
}

func (m *machine) write(file, text string, mode os.FileMode) {
	m.t.Helper()
	if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, []byte(text), mode)); err != nil {
		m.t.Fatal(err)
	}
}

// systemctl does what a unit's reload does on Debian.
const systemctl = `#!/bin/sh
case "$*" in
"reload haproxy") haproxy -c -q -f /etc/haproxy/haproxy.cfg && kill -USR2 "$(cat /run/haproxy.pid)" ;;
"reload nginx") nginx -s reload ;;
"reload apache2") apachectl graceful ;;
*) echo "systemctl $*: this machine has no systemd" >&2; exit 1 ;;
esac
`

// newMachine makes what the namespaces are in look like a Debian machine: its /etc is a copy, and what else is
// written to is empty.
func newMachine(t *testing.T) *machine {
	t.Helper()
	dir, err := os.MkdirTemp("", "begin")
	if err != nil {
		t.Fatal(err)
	}
	m := &machine{t: t, folder: "/", program: os.Getenv("VAIVEN_PROGRAM"), bin: filepath.Join(dir, "bin"),
		home: filepath.Join(dir, "home")}
	m.write(filepath.Join(m.home, ".profile"), "", 0o600)
	m.write(filepath.Join(m.bin, "systemctl"), systemctl, 0o755)
	m.write(filepath.Join(m.bin, "vaiven"), "#!/bin/sh\nexec "+m.program+" \"$@\"\n", 0o755)
	m.run("mount --make-rprivate /; mkdir " + dir + "/etc; cp -a /etc/. " + dir + "/etc; mount --bind " + dir +
		"/etc /etc\n" +
		"mount -t tmpfs run /run; mount -t tmpfs log /var/log; mount -t tmpfs srv /srv\n" +
		"mkdir -p /run/haproxy /run/apache2 /run/lock /var/log/nginx /var/log/apache2 /var/lib/nginx; ip link set lo " +
		"up")
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	for _, version := range []string{"4.2.0", "4.3.0"} {
		m.write("/srv/sailings/builds/"+version+"/run",
			fmt.Sprintf("#!/bin/sh\n%s=$1 VERSION=%s exec %s\n", asServer, version, self), 0o755)
	}
	for _, port := range []string{"8081", "8082"} { // somebody's script
		cmd := exec.Command("/srv/sailings/builds/4.2.0/run", "127.0.0.1:"+port)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		go cmd.Wait()
		reaches(t, "127.0.0.1:"+port)
	}
	return m
}

func reaches(t *testing.T, address string) {
	t.Helper()
	testkit.Eventually(t, address+" answers", func() bool {
		c, err := net.DialTimeout("tcp", address, time.Second)
		if err == nil {
			c.Close()
		}
		return err == nil
	})
}

// elsewhere makes the machine one that is reached over SSH alone, by a wire that can be cut: a survey is told so, and
// what it writes goes on from there.
func (m *machine) elsewhere() {
	m.t.Helper()
	s := linktest.Start(m.t, m.t.TempDir())
	m.wire = linktest.Through(m.t, s.Address)
	_, port, _ := net.SplitHostPort(m.wire.Address)
	config := fmt.Sprintf("Host gate1\n\tHostName 127.0.0.1\n\tPort %s\n\tUser root\n\tIdentityFile "+
		"%s\n\tUserKnownHostsFile %s\n", port, s.Identity, s.KnownAs(m.t, m.wire.Address))
	m.write(filepath.Join(m.home, ".ssh", "config"), config, 0o600)
	m.write(filepath.Join(m.bin, "vaiven"), "#!/bin/sh\nif [ \"$1\" = survey ]; then shift; set -- survey --at "+
		"root@gate1 \"$@\"; fi\nexec "+m.program+" \"$@\"\n", 0o755)
}

// certify writes a certificate for the service's name, and who signed it.
func (m *machine) certify() *x509.CertPool {
	m.t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		m.t.Fatal(err)
	}
	template := x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "sailings.example"},
		DNSNames: []string{"sailings.example"}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(time.Hour),
		IsCA:     true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature,
	}
	der, err := x509.CreateCertificate(rand.Reader, &template, &template, &key.PublicKey, key)
	if err != nil {
		m.t.Fatal(err)
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		m.t.Fatal(err)
	}
	certificate := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	m.write("/etc/haproxy/ca.pem", certificate, 0o644)
	m.write("/etc/haproxy/site.pem",
		certificate+string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})), 0o600)
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(certificate))
	return pool
}

// install starts the proxy with Debian's configuration and that of the document.
func (m *machine) install(section, config string) (url string, trust *x509.CertPool) {
	m.t.Helper()
	switch section {
	case "HAProxy":
		trust = m.certify()
		data, err := os.ReadFile("/etc/haproxy/haproxy.cfg")
		if err != nil {
			m.t.Fatal(err)
		}
		m.write("/etc/haproxy/haproxy.cfg", string(data)+"\n"+config, 0o644)
		m.run("haproxy -W -D -p /run/haproxy.pid -f /etc/haproxy/haproxy.cfg")
		reaches(m.t, "127.0.0.1:443")
		return "https://sailings.example/", trust
	case "nginx":
		m.run("rm -f /etc/nginx/sites-enabled/*")
		m.write("/etc/nginx/sites-enabled/sailings", config, 0o644)
		m.run("nginx")
	default:
		m.run("a2enmod -q proxy proxy_http proxy_balancer lbmethod_byrequests; rm -f /etc/apache2/sites-enabled/*")
		m.write("/etc/apache2/sites-enabled/sailings.conf", config, 0o644)
		m.run("apachectl start")
	}
	reaches(m.t, "127.0.0.1:80")
	return "http://sailings.example/", nil
}

// users ask all the while, on connections that they keep and on new ones.
type users struct {
	mu       sync.Mutex // protects what follows
	answers  map[string]int
	repeated int
	lost     []string
	stop     func()
}

// come has users come to a URL, whose host is this machine.
func come(url string, trust *x509.CertPool) *users {
	u := &users{answers: map[string]int{}}
	ctx, cancel := context.WithCancel(context.Background())
	var wait sync.WaitGroup
	for n := range 8 {
		fresh := n%4 == 0
		port := map[bool]string{true: "443", false: "80"}[trust != nil]
		if _, own, ok := strings.Cut(strings.TrimPrefix(url, "http://"), ":"); ok && trust == nil {
			port = strings.TrimSuffix(own, "/")
		}
		c := &http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{
			DisableKeepAlives: fresh, TLSClientConfig: &tls.Config{RootCAs: trust},
			DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
				return (&net.Dialer{}).DialContext(ctx, "tcp", "127.0.0.1:"+port)
			},
		}}
		wait.Go(func() {
			for ctx.Err() == nil {
				u.ask(c, url)
				time.Sleep(50 * time.Millisecond) // users think
			}
		})
	}
	u.stop = sync.OnceFunc(func() {
		cancel()
		wait.Wait()
	})
	return u
}

// ask makes one request. One that was sent on a connection that was just being closed is sent once more, as net/http
// does by itself for those of which no byte was answered (RFC 9110, section 9.2.2).
func (u *users) ask(c *http.Client, url string) {
	w, err := c.Get(url)
	var body struct{ Version, Host string }
	if err == nil {
		data, errRead := io.ReadAll(w.Body)
		w.Body.Close()
		switch {
		case errRead != nil:
			err = errRead
		case w.StatusCode != http.StatusOK:
			err = errors.New(w.Status)
		default:
			err = json.Unmarshal(data, &body)
		}
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	if err == nil && !strings.HasPrefix(body.Host, "sailings.example") {
		err = fmt.Errorf("the instance was asked for %q", body.Host)
	}
	if err != nil {
		u.lost = append(u.lost, time.Now().Format("15:04:05.000 ")+err.Error())
		return
	}
	u.answers[body.Version]++
}

// by is how many answers of a version there were.
func (u *users) by(version string) int {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.answers[version]
}

// well fails the test if a request was lost so far.
func (u *users) well(t *testing.T, after string) {
	t.Helper()
	u.mu.Lock()
	defer u.mu.Unlock()
	if len(u.lost) > 0 {
		t.Fatalf("after %s %d requests are lost, of %v: %s", after, len(u.lost), u.answers,
			strings.Join(u.lost[:min(5, len(u.lost))], "; "))
	}
}

// TestInside follows a section, in the namespaces that TestBegin has made.
func TestInside(t *testing.T) {
	section := os.Getenv(asInside)
	if section == "" || section == asPeople {
		t.Skip("it is run by TestBegin")
	}
	section, far := strings.CutSuffix(section, overSSH)
	d := read(t, section)
	m := newMachine(t)
	if far {
		m.elsewhere()
	}
	u := come(m.install(section, d.config))
	testkit.Eventually(t, "users are answered", func() bool { return u.by("4.2.0") > 50 })
	said := ""
	for n, block := range d.do {
		t.Logf("%s", block)
		out := m.run(block)
		t.Logf("%s", out)
		said += out
		u.well(t, fmt.Sprintf("step %d", n+1))
		reaches(t, "127.0.0.1:8081") // never stopped
	}
	wanted := []string{"0 % of the requests go to green", "2 instances", "settled",
		"out of rotation, its 2 instances go on running"}
	if section == "nginx" { // which is right before it is steered
		wanted = append(wanted, "not Vaiven's to steer yet: all requests go to 127.0.0.1:8081, 127.0.0.1:8082;")
	}
	for _, want := range wanted {
		if !strings.Contains(said, want) {
			t.Errorf("nothing says %q", want)
		}
	}
	if u.by("4.3.0") < 100 {
		t.Errorf("users were answered by %v", u.answers)
	}
	m.rollsBack(u)
	m.folder = "/" // the folder of the plan goes too
	for n := range d.undo {
		m.run(d.undo[len(d.undo)-1-n])
		u.well(t, "undoing")
	}
	before := u.by("4.2.0")
	testkit.Eventually(t, "users are answered as before", func() bool { return u.by("4.2.0") > before+100 })
	u.stop()
	u.well(t, "everything")
	t.Logf("answered: %v", u.answers)
}

// rollsBack begins a crossing, and takes everything back in the middle of it.
func (m *machine) rollsBack(u *users) {
	t := m.t
	t.Helper()
	before := u.by("4.3.0")
	cmd := exec.Command(m.program, "cross", "/etc/vaiven/sailings.yaml", "--version", "4.3.0", "--yes", "--accept")
	cmd.Env = append(os.Environ(), "PATH="+m.bin+":/usr/sbin:/usr/bin:/sbin:/bin", "HOME="+m.home, asInside+"=")
	out, err := os.Create(filepath.Join(t.TempDir(), "out"))
	if err != nil {
		t.Fatal(err)
	}
	defer out.Close()
	said := func() string {
		data, _ := os.ReadFile(out.Name())
		return string(data)
	}
	cmd.Stdout, cmd.Stderr = out, out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "green answers users, and it is known",
		func() bool { return u.by("4.3.0") > before+20 && strings.Contains(said(), "took effect") })
	if m.wire != nil {
		m.wire.Silence()
		time.AfterFunc(10*time.Second, m.wire.Mend) // the time is the test's input
	}
	t.Logf("%s", m.run("vaiven back /etc/vaiven/sailings.yaml --why 'it looks wrong'"))
	err = cmd.Wait()
	const rolledBack = 3
	var exit *exec.ExitError
	if !errors.As(err, &exit) || exit.ExitCode() != rolledBack {
		log, _ := os.ReadFile("/etc/vaiven/sailings.vaiven/keeper.log")
		t.Fatalf("the crossing ended with %v\n%s\nits keeper's log:\n%s", err, said(), log)
	}
	u.well(t, "a rollback")
	if where := m.run("vaiven where /etc/vaiven/sailings.yaml --for 1s"); !strings.Contains(where,
		"0 % of the requests go to green") {
		t.Errorf("after it\n%s", where)
	}
}
