package linktest

import (
	"crypto/ed25519"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"vaiven/lab/testkit"
)

// Program is OpenSSH's server, as Debian has it.
const Program = "/usr/sbin/sshd"

// Server is a server that runs.
type Server struct {
	Address    string // host:port
	Identity   string // file with the key that it lets in
	KnownHosts string // file with its own
}

// Start starts a server with its files in a folder; it ends with the test. extra are lines of its
// configuration.
func Start(t *testing.T, dir string, extra ...string) Server {
	t.Helper()
	return StartAt(t, dir, testkit.Address(t), exec.Command, extra...)
}

// StartAt starts one at an address, by a command as who runs it makes it.
func StartAt(t *testing.T, dir, address string, command func(name string, args ...string) *exec.Cmd,
	extra ...string) Server {
	t.Helper()
	if _, err := os.Stat(Program); err != nil {
		t.Fatal("there is no sshd: scripts/need test installs it")
	}
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
		t.Fatal(err)
	}
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		t.Fatal(err)
	}
	s := Server{Address: address, Identity: filepath.Join(dir, "key"),
		KnownHosts: filepath.Join(dir, "known_hosts")}
	authorized := Key(t, s.Identity)
	public := Key(t, filepath.Join(dir, "hostkey"))
	// A shell of level 2 does not do what stands in the ~/.bashrc of whoever runs the tests. Of several
	// such lines sshd takes the first.
	lines, environment := []string{}, "SetEnv SHLVL=2"
	for _, line := range extra {
		if more, ok := strings.CutPrefix(line, "SetEnv "); ok {
			environment += " " + more
		} else {
			lines = append(lines, line)
		}
	}
	conf := fmt.Sprintf("Port %s\nListenAddress %s\nHostKey %s/hostkey\nPidFile none\nAuthorizedKeysFile "+
		"%[3]s/authorized\nPasswordAuthentication no\nUsePAM no\nStrictModes no\n%s\n",
		port, host, dir, strings.Join(append(lines, environment), "\n"))
	for name, text := range map[string]string{"authorized": authorized + "\n",
		"known_hosts": fmt.Sprintf("[%s]:%s %s\n", host, port, public), "conf": conf} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	cmd := command(Program, "-D", "-e", "-f", filepath.Join(dir, "conf"))
	log, err := os.Create(filepath.Join(dir, "log"))
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	cmd.Stderr = log
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cmd.Process.Kill()
		cmd.Wait()
	})
	testkit.Eventually(t, "sshd listens", func() bool {
		said, err := os.ReadFile(log.Name())
		return err == nil && strings.Contains(string(said), "Server listening on "+host)
	})
	return s
}

// KnownAs is a file with the server's key as that of another address, which leads to it.
func (s Server) KnownAs(t *testing.T, address string) string {
	t.Helper()
	data, err := os.ReadFile(s.KnownHosts)
	if err != nil {
		t.Fatal(err)
	}
	port := func(address string) string { _, port, _ := net.SplitHostPort(address); return "]:" + port + " " }
	file := filepath.Join(t.TempDir(), "known_hosts")
	if err := os.WriteFile(file, []byte(strings.Replace(string(data), port(s.Address), port(address), 1)),
		0o600); err != nil {
		t.Fatal(err)
	}
	return file
}

// Key writes a new key into a file, and returns its public half.
func Key(t *testing.T, file string) string {
	t.Helper()
	public, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
		t.Fatal(err)
	}
	key, err := ssh.NewPublicKey(public)
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
}
