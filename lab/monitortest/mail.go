package monitortest

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"vaiven/lab/testkit"
)

// MailServer is Exim, as Debian has it, which takes mail for linea-vessa.example and keeps it. It refuses
// gone@linea-vessa.example for good.
type MailServer struct {
	Address string // host:port, with STARTTLS for who wants it; the user vaiven logs in there with "sea salt"
	CA      string // file with who has signed its certificate, for localhost
	t       *testing.T
	dir     string
	cmd     *exec.Cmd
}

// Mail starts one. It needs root.
func Mail(t *testing.T) *MailServer {
	t.Helper()
	return MailAt(t, testkit.Address(t))
}

// MailAt starts one at an address of loopback.
func MailAt(t *testing.T, address string) *MailServer {
	t.Helper()
	if _, err := os.Stat(exim); err != nil {
		t.Fatal("there is no exim4: scripts/need test installs it")
	}
	if os.Getuid() != 0 {
		t.Skip("a mail server is started by root")
	}
	dir, err := os.MkdirTemp("", "vaiven-mail-") // its user has to come there
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	m := &MailServer{Address: address, t: t, dir: dir}
	signed := testkit.Certify(t, dir, "localhost", 1, nil)
	m.CA = signed.File
	_, port, _ := net.SplitHostPort(m.Address)
	write(t, dir, "exim.conf", fmt.Sprintf(eximConf, dir, port))
	for _, words := range [][]string{{"mkdir", dir + "/spool", dir + "/in"}, {"chmod", "755", dir},
		{"chmod", "644", dir + "/exim.conf"},
		{"chown", "Debian-exim", dir + "/spool", dir + "/in", signed.Key, signed.File}} {
		if out, err := exec.Command(words[0], words[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %v %s", words, err, out)
		}
	}
	m.Start()
	t.Cleanup(func() {
		m.Stop()
		if log, _ := os.ReadFile(filepath.Join(dir, "spool", "mainlog")); t.Failed() {
			t.Logf("exim said:\n%s", log)
		}
	})
	return m
}

const exim = "/usr/sbin/exim4"

const eximConf = `spool_directory = %[1]s/spool
log_file_path = %[1]s/spool/%%slog
daemon_smtp_ports = %[2]s
local_interfaces = 127.0.0.1
never_users =
tls_advertise_hosts = *
tls_certificate = %[1]s/localhost.pem
tls_privatekey = %[1]s/localhost.key
auth_advertise_hosts = ${if eq{$tls_in_cipher}{}{}{*}}
acl_smtp_rcpt = receivers
begin acl
receivers:
  deny local_parts = gone
       message = no such mailbox
  accept domains = linea-vessa.example
  deny
begin routers
all:
  driver = accept
  transport = keep
begin transports
keep:
  driver = appendfile
  directory = %[1]s/in
  envelope_to_add
  user = Debian-exim
begin authenticators
plain:
  driver = plaintext
  public_name = PLAIN
  server_prompts = :
  server_condition = ${if and{{eq{$auth2}{vaiven}}{eq{$auth3}{sea salt}}}}
  server_set_id = $auth2
`

// Start starts it.
func (m *MailServer) Start() {
	m.t.Helper()
	m.cmd = exec.Command(exim, "-bdf", "-C", filepath.Join(m.dir, "exim.conf"))
	m.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := m.cmd.Start(); err != nil {
		m.t.Fatal(err)
	}
	testkit.Eventually(m.t, "the mail server listens", func() bool {
		c, err := net.Dial("tcp", m.Address)
		if err != nil {
			return false
		}
		return c.Close() == nil
	})
}

// Stop ends it with all that it has started.
func (m *MailServer) Stop() {
	_ = syscall.Kill(-m.cmd.Process.Pid, syscall.SIGKILL)
	_ = m.cmd.Wait()
}

// Came are the letters that have come, whole.
func (m *MailServer) Came() (letters []string) {
	m.t.Helper()
	files, err := filepath.Glob(filepath.Join(m.dir, "in", "q*"))
	if err != nil {
		m.t.Fatal(err)
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			m.t.Fatal(err)
		}
		letters = append(letters, strings.ReplaceAll(string(text), "\r\n", "\n"))
	}
	return letters
}
