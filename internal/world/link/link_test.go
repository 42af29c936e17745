package link_test

import (
	"net"
	"os"
	"os/user"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"vaiven/internal/world/link"
	"vaiven/lab/linktest"
)

// What people have for ssh is followed: names, ports, users, keys, and the hosts on the way.
func TestFind(t *testing.T) {
	dir := t.TempDir()
	config := filepath.Join(dir, "config")
	text := `
Host quay2
	HostName 10.1.0.7
	Port 2222
	User deploy
	IdentityFile /keys/quay
	UserKnownHostsFile /keys/known /keys/more
Host inner
	HostName inner.vessa.example
	ProxyJump quay2,per@gate:2200
	IdentityFile ~/inner
Host command
	ProxyCommand nc %h %p
Host loop
	ProxyJump loop
`
	if err := os.WriteFile(config, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	home, _ := os.UserHomeDir()
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	t.Setenv("SSH_AUTH_SOCK", "/run/agent")
	quay := link.Login{User: "deploy", Address: "10.1.0.7:2222", Identities: []string{"/keys/quay"},
		KnownHosts: "/keys/known"}
	gate := link.Login{User: "per", Address: "gate:2200"}
	for at, want := range map[string]link.Login{
		"quay2": quay,
		"marit@quay2": {User: "marit", Address: "10.1.0.7:2222", Identities: quay.Identities,
			KnownHosts: quay.KnownHosts},
		"marit@10.9.9.9:2022":  {User: "marit", Address: "10.9.9.9:2022"},
		"marit@[fd00::7]:2022": {User: "marit", Address: "[fd00::7]:2022"},
		"inner": {User: me.Username, Address: "inner.vessa.example:22",
			Identities: []string{filepath.Join(home, "inner")}, Past: []link.Login{quay, gate}},
	} {
		got, err := link.Find(at, config)
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s: %+v, %v, want %+v", at, got, err, want)
		}
	}
	for at, says := range map[string]string{"command": "say ProxyJump", "loop": "more than 8 hosts",
		"marit@": "names no host"} {
		if _, err := link.Find(at, config); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", at, err)
		}
	}
	if l, err := link.Find("quay3", filepath.Join(dir, "none")); err != nil || l.Address != "quay3:22" {
		t.Errorf("without a configuration: %+v, %v", l, err)
	}
}

// A connection goes past another host, and ends with it.
func TestPastAnotherHost(t *testing.T) {
	first, second := linktest.Start(t, t.TempDir()), linktest.Start(t, t.TempDir())
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	login := func(s linktest.Server) link.Login {
		return link.Login{User: me.Username, Address: s.Address, Identities: []string{s.Identity},
			KnownHosts: s.KnownHosts}
	}
	l := login(second)
	l.Past = []link.Login{login(first)}
	client, err := link.Dial(t.Context(), l)
	if err != nil {
		t.Fatal(err)
	}
	defer client.Close()
	s, err := client.NewSession()
	if err != nil {
		t.Fatal(err)
	}
	out, err := s.Output("echo $SSH_CONNECTION")
	_, port, _ := net.SplitHostPort(second.Address)
	if err != nil || !strings.HasSuffix(strings.TrimSpace(string(out)), " "+port) {
		t.Errorf("it came to %q, %v", out, err)
	}
	// A host whose key is another one is not talked to.
	stranger := login(second)
	stranger.KnownHosts = first.KnownHosts
	if _, err := link.Dial(t.Context(), stranger); err == nil ||
		!strings.Contains(err.Error(), "not among the known hosts") {
		t.Errorf("a strange key: %v", err)
	}
	l.Past[0].Identities = []string{second.Identity}
	if _, err := link.Dial(t.Context(), l); err == nil || !strings.Contains(err.Error(), "past "+first.Address) {
		t.Errorf("a host on the way that does not let us in: %v", err)
	}
}
