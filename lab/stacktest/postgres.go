package stacktest

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"vaiven/lab/testkit"
)

// Postgres starts a real PostgreSQL that asks for passwords: that of the user fares is "sea salt".
func Postgres(t *testing.T) (address string) {
	t.Helper()
	bin, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(bin) == 0 {
		t.Fatal("there is no PostgreSQL: scripts/need test installs it")
	}
	dir, err := os.MkdirTemp("", "vaiven-pg-") // short: its socket's path is limited
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	asUser := func(words ...string) *exec.Cmd {
		if os.Getuid() == 0 { // it refuses to run as root
			words = append([]string{"setpriv", "--reuid", "postgres", "--regid", "postgres", "--init-groups"}, words...)
		}
		cmd := exec.Command(words[0], words[1:]...)
		cmd.Dir = dir
		return cmd
	}
	if os.Getuid() == 0 {
		if out, err := exec.Command("chown", "postgres", dir).CombinedOutput(); err != nil {
			t.Fatalf("chown: %v %s", err, out)
		}
	}
	password := filepath.Join(dir, "password")
	if err := os.WriteFile(password, []byte("sea salt\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	data := filepath.Join(dir, "data")
	if out, err := asUser(filepath.Join(filepath.Dir(bin[0]), "initdb"), "-D", data, "-U", "fares", "-A",
		"scram-sha-256", "--pwfile", password,
		"--no-sync", "--no-locale", "-E", "UTF8").CombinedOutput(); err != nil {
		t.Fatalf("initdb: %v\n%s", err, out)
	}
	port, _ := testkit.Ports(t, 1)
	srv := asUser(bin[0], "-D", data, "-c", "listen_addresses=127.0.0.1", "-c", fmt.Sprintf("port=%d", port), "-c",
		"unix_socket_directories="+dir, "-c", "fsync=off")
	var log bytes.Buffer
	srv.Stderr = &log
	if err := srv.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		srv.Process.Signal(syscall.SIGINT) // a fast shutdown
		srv.Wait()
		if t.Failed() {
			t.Logf("PostgreSQL said:\n%s", log.String())
		}
	})
	return fmt.Sprintf("127.0.0.1:%d", port)
}
