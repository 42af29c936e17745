package nettest

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"testing"
	"time"
)

// Net is machines that reach each other at their addresses, and nobody else.
type Net struct {
	t     *testing.T
	id    string // that the names of its namespaces begin with
	names []string
}

// New makes machines, which are gone with the test. It skips the test where that is not permitted.
func New(t *testing.T, names ...string) *Net {
	t.Helper()
	n := &Net{t: t, id: fmt.Sprintf("v%x", time.Now().UnixNano()%0xffffff), names: names}
	if err := n.try("netns", "add", n.space("hub")); err != nil {
		t.Skipf("no network namespace can be made: %v", err)
	}
	t.Cleanup(func() {
		for _, name := range append(names, "hub") {
			_ = n.try("netns", "del", n.space(name))
		}
	})
	n.hub("link", "add", "hub", "type", "bridge")
	n.hub("link", "set", "hub", "up")
	for _, name := range names {
		n.ip("netns", "add", n.space(name))
		n.hub("link", "add", n.port(name), "type", "veth", "peer", "name", "net", "netns", n.space(name))
		n.hub("link", "set", n.port(name), "master", "hub", "up")
		n.ip("-n", n.space(name), "addr", "add", n.Address(name)+"/24", "dev", "net")
		n.ip("-n", n.space(name), "link", "set", "net", "up")
		n.ip("-n", n.space(name), "link", "set", "lo", "up")
	}
	return n
}

// Address is a machine's.
func (n *Net) Address(name string) string {
	return fmt.Sprintf("10.77.0.%d", 1+slices.Index(n.names, name))
}

// Command is a command that is to run on a machine. Its process is that of the command itself.
func (n *Net) Command(name, program string, args ...string) *exec.Cmd {
	args = append([]string{"netns", "exec", n.space(name), program}, args...)
	return exec.CommandContext(n.t.Context(), "ip", args...)
}

// Cut takes a machine off the network.
func (n *Net) Cut(name string) { n.hub("link", "set", n.port(name), "down") }

// Mend puts it back.
func (n *Net) Mend(name string) { n.hub("link", "set", n.port(name), "up") }

// Apart has some machines not reach each other any more, but all others; or reach each other again.
func (n *Net) Apart(apart bool, names ...string) {
	state := map[bool]string{true: "on", false: "off"}[apart]
	for _, name := range names {
		n.hub("link", "set", n.port(name), "type", "bridge_slave", "isolated", state)
	}
}

func (n *Net) space(name string) string { return n.id + "-" + name }
func (n *Net) port(name string) string  { return fmt.Sprintf("p%d", slices.Index(n.names, name)) }

// hub runs ip(8) where the bridge is.
func (n *Net) hub(args ...string) {
	n.t.Helper()
	n.ip(append([]string{"-n", n.space("hub")}, args...)...)
}

func (n *Net) ip(args ...string) {
	n.t.Helper()
	if err := n.try(args...); err != nil {
		n.t.Fatal(err)
	}
}

func (n *Net) try(args ...string) error {
	if os.Geteuid() != 0 {
		return os.ErrPermission
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second) // a test's own has ended when it cleans up
	defer cancel()
	if out, err := exec.CommandContext(ctx, "ip", args...).CombinedOutput(); err != nil {
		return fmt.Errorf("ip %v: %w: %s", args, err, out)
	}
	return nil
}
