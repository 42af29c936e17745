package docs

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"vaiven/lab/linktest"
	"vaiven/lab/testkit"
)

// asPeople is what the test binary follows when it is started with that section.
const asPeople = "people"

// docs/people.md is followed word by word, and docs/pipeline.md's push after it, as the users that they name, on a machine
// of its own with users on the service all the while. Then the jobs in examples are run, and everything is undone.
func TestPeople(t *testing.T) {
	onAMachine(t, "TestPeopleInside", asPeople)
}

// onAMachine runs a test in namespaces of its own that look like a Debian machine.
func onAMachine(t *testing.T, test, section string) {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("only root can make namespaces that look like a machine")
	}
	vaiven := testkit.Program(t, "vaiven/cmd/vaiven")
	t.Parallel()
	follow(t, test, section, vaiven)
}

// The hook in the repository is the one that is shown.
func TestTheHookIsShown(t *testing.T) {
	hook, err := os.ReadFile("../examples/git/post-receive")
	if err != nil {
		t.Fatal(err)
	}
	page, err := os.ReadFile("pipeline.md")
	if err != nil || !strings.Contains(string(page), string(hook)) {
		t.Errorf("docs/pipeline.md does not have it as it is: %v", err)
	}
}

// block is one of a page's blocks of commands: who runs it, and whether it is refused.
type block struct {
	text, as      string
	undo, refused bool
}

var blockForm = regexp.MustCompile("(?s)```sh([a-z ]*)\n(.*?)```")

// blocks are those of a page, from a heading on.
func blocks(t *testing.T, file, from string) (list []block) {
	t.Helper()
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	_, text, found := strings.Cut(string(data), from)
	if !found {
		t.Fatalf("%s has no %q", file, from)
	}
	for _, m := range blockForm.FindAllStringSubmatch(text, -1) {
		b := block{text: m[2]}
		for _, word := range strings.Fields(m[1]) {
			switch word {
			case "undo":
				b.undo = true
			case "refused":
				b.refused = true
			default:
				b.as = word
			}
		}
		list = append(list, b)
	}
	return list
}

// question is where a job names the one that waits.
var question = regexp.MustCompile(`yes --question ([0-9]+)`)

// units does what systemd does of a unit that vaiven has printed: it runs its command as its user.
const units = `#!/bin/sh
for unit; do :; done
file=/etc/systemd/system/$unit.service
begin() {
	user=$(sed -n 's/^User=//p' "$file")
	command=$(sed -n 's/^ExecStart=//p' "$file")
	setsid runuser -u "$user" -- sh -c "exec $command" > /run/$unit.log 2>&1 &
	echo $! > /run/$unit.pid
	for n in $(seq 100); do runuser -u jon -- vaiven where /etc/vaiven/sailings.yaml --for 0s 2>&1 |
		grep -q "keeper, process" && return; sleep 0.1; done
	cat /run/$unit.log; exit 1
}
end() { pkill -TERM -u vaiven-sailings -f "vaiven keep"; while pgrep -u vaiven-sailings -f "vaiven keep" > /run/null; do sleep 0.1; done; }
case "$1" in
enable|start) begin ;;
stop|disable) end ;;
restart) end; begin ;;
esac
`

// people makes a machine with accounts, which is reached over SSH as quay2, and a work tree of deploy's.
func people(t *testing.T) *machine {
	t.Helper()
	m := newMachine(t)
	m.run("chmod 755 $(dirname " + m.bin + ") " + m.bin)
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	m.run("cp " + self + " /srv/serve; cp " + m.program + " " + m.bin + "/vaiven; chmod 755 /srv/serve " + m.bin +
		"/vaiven; chmod 755 /srv /srv/sailings /srv/sailings/builds")
	m.write(filepath.Join(m.bin, "systemctl"), units, 0o755)
	for _, name := range []string{"marit", "jon", "deploy"} {
		m.run("mkdir -p /srv/home; useradd --create-home --password '*' --home-dir /srv/home/" + name +
			" --shell /bin/bash " + name)
	}
	run := func(version string) string {
		return fmt.Sprintf("#!/bin/sh\n%s=$1 VERSION=%s exec /srv/serve\n", asServer, version)
	}
	for _, version := range []string{"4.2.0", "4.3.0"} {
		m.write("/srv/sailings/builds/"+version+"/run", run(version), 0o755)
	}
	m.run("touch --date '2 days ago' /srv/sailings/builds/*/run")
	m.write("/srv/home/deploy/sailings/run", run("4.4.0"), 0o755)
	m.run("cd /srv/home/deploy/sailings; git init --quiet .; git add run; git -c user.name=deploy -c " +
		"user.email=deploy@lineavessa.example commit --quiet -m 'A later timetable'; chown -R deploy /srv/home/deploy")
	dir := t.TempDir()
	s := linktest.Start(t, dir, "SetEnv PATH="+m.bin+":/usr/sbin:/usr/bin:/sbin:/bin")
	m.run("chmod 755 " + filepath.Dir(dir) + " " + dir + "; chmod 644 " + dir + "/authorized")
	_, port, _ := net.SplitHostPort(s.Address)
	m.write("/srv/home/marit/.ssh/config", fmt.Sprintf("Host quay2\n\tHostName 127.0.0.1\n\tPort %s\n\tIdentityFile "+
		"/srv/home/marit/.ssh/key\n\tUserKnownHostsFile /srv/home/marit/.ssh/known_hosts\n", port), 0o600)
	m.run("cp " + s.Identity + " /srv/home/marit/.ssh/key; cp " + s.KnownHosts +
		" /srv/home/marit/.ssh/known_hosts; chmod 600 /srv/home/marit/.ssh/*; chown -R marit /srv/home/marit/.ssh")
	return m
}

// as runs a block as a user of the machine.
func (m *machine) as(user, text string) (string, error) {
	m.t.Helper()
	words := []string{"bash", "-e", "-c", text}
	home := m.home
	if user != "" {
		words = append([]string{"runuser", "-u", user, "--"}, words...)
		home = "/srv/home/" + user
	}
	cmd := exec.Command(words[0], words[1:]...)
	cmd.Dir = "/"
	cmd.Env = []string{"PATH=" + m.bin + ":/usr/sbin:/usr/bin:/sbin:/bin", "HOME=" + home, "LANG=C.UTF-8", "TMPDIR=/tmp"}
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// TestPeopleInside follows both pages, in the namespaces that TestPeople has made.
func TestPeopleInside(t *testing.T) {
	if os.Getenv(asInside) != asPeople {
		t.Skip("it is run by TestPeople")
	}
	m := people(t)
	said := ""
	var undo []block
	var u *users
	do := func(b block) {
		t.Helper()
		if asked := question.FindAllStringSubmatch(said, -1); len(asked) > 0 {
			b.text = strings.ReplaceAll(b.text, "--question N", "--question "+asked[len(asked)-1][1])
		}
		out, err := m.as(b.as, b.text)
		t.Logf("%s as %q:\n%s\n%s", time.Now().Format("15:04:05"), b.as, b.text, out)
		said += out
		if (err != nil) != b.refused {
			log, _ := os.ReadFile("/run/vaiven-sailings.log")
			t.Fatalf("it ended with %v, refused is to be %v\nits keeper's log:\n%s", err, b.refused, log)
		}
	}
	walk := func(list []block) {
		t.Helper()
		for _, b := range list {
			if b.undo {
				undo = append(undo, b)
				continue
			}
			do(b)
			if u == nil && strings.Contains(b.text, "--version 4.2.0") {
				u = come("http://sailings.example:8080/", nil)
				testkit.Eventually(t, "users are answered", func() bool { return u.by("4.2.0") > 50 })
			}
			if u != nil {
				u.well(t, b.text)
			}
		}
	}
	walk(blocks(t, "people.md", "## 1."))
	testkit.Eventually(t, "all are home", func() bool {
		out, _ := m.as("jon", "vaiven where /etc/vaiven/sailings.yaml --for 0s")
		return strings.Contains(out, "rolled back") && strings.Contains(out, "0 % of the requests go to green")
	})
	for _, want := range []string{"the plan lets only crew, deploy begin (people, may, begin)", "(root)", "(jon)",
		"deploy began this crossing: somebody else has to say yes", "all requests go to green"} {
		if !strings.Contains(said, want) {
			t.Errorf("nothing says %q", want)
		}
	}
	said = ""
	walk(blocks(t, "pipeline.md", "## A push begins it"))
	for _, want := range []string{"built", "4.4.0: ended with status 10", "somebody else has to say yes"} {
		if !strings.Contains(said, want) {
			t.Errorf("nothing says %q of the push", want)
		}
	}
	testkit.Eventually(t, "users are answered by what was pushed", func() bool { return u.by("4.4.0") > 200 })
	log, err := m.as("jon", "vaiven log /etc/vaiven/sailings.yaml 3")
	if err != nil || !strings.Contains(log, "deploy       begun") || !strings.Contains(log, "marit        answered") {
		t.Errorf("the logbook says %v\n%s", err, log)
	}
	jobs(t, m)
	u.stop()
	u.well(t, "everything")
	for n := range undo {
		if b := undo[len(undo)-1-n]; !strings.HasPrefix(b.text, "rm -rf /srv/sailings/repo.git") {
			_, _ = m.as(b.as, b.text) // what is undone twice is gone already
		}
	}
	if out, err := m.as("", "! getent group sailings; test ! -e /etc/vaiven/sailings.yaml"); err != nil {
		t.Errorf("undone, %v: %s", err, out)
	}
	t.Logf("answered: %v", u.answers)
}

// jobs runs those of examples: make's sees the way back, and one in a root of its own takes it.
func jobs(t *testing.T, m *machine) {
	t.Helper()
	examples, err := filepath.Abs("../examples")
	if err != nil {
		t.Fatal(err)
	}
	m.run("cp -r " + examples + " /srv/examples")
	if out, err := m.as("jon", "make --no-print-directory -s -f /srv/examples/make/Makefile where"); err != nil ||
		!strings.Contains(out, "4.4.0") {
		t.Errorf("make where: %v\n%s", err, out)
	}
	out, err := m.as("deploy", "make --no-print-directory -s -f /srv/examples/make/Makefile release VERSION=4.3.0")
	if err == nil || !strings.Contains(out, "release: 4.3.0 ended with status 4") ||
		!strings.Contains(out, "crossing 3 to 4.4.0") {
		t.Errorf("make release beside a crossing: %v\n%s", err, out)
	}
	out, err = m.as("", "/srv/examples/container/job.sh deploy:sailings /etc/vaiven/sailings.yaml /srv/sailings/kept say "+
		"/etc/vaiven/sailings.yaml freeze")
	if err == nil || !strings.Contains(out, "the plan lets only crew steer") {
		t.Errorf("a job in a root of its own: %v\n%s", err, out)
	}
	out, err = m.as("", "/srv/examples/container/job.sh deploy:sailings /etc/vaiven/sailings.yaml /srv/sailings/kept back "+
		"/etc/vaiven/sailings.yaml")
	if err != nil || !strings.Contains(out, "all requests go to green") {
		t.Errorf("going home in a root of its own: %v\n%s", err, out)
	}
	if out, err := m.as("deploy", "make --no-print-directory -s -f /srv/examples/make/Makefile back"); err != nil &&
		!strings.Contains(out, "green") {
		t.Errorf("make back: %v\n%s", err, out)
	}
}
