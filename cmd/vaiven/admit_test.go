package main

import (
	"fmt"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"testing"

	"vaiven/internal/core/crossing"
	"vaiven/internal/keeper"
	"vaiven/lab/linktest"
)

// Several people come by keys of one account, each with a forced command: who they are is what that says, and nothing
// else runs there.
func TestKeysOfOneAccount(t *testing.T) {
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	s := scenario(t)
	text, err := os.ReadFile(s.File)
	if err == nil {
		err = os.WriteFile(s.File, append(text, fmt.Sprintf(`
people:
  gate: %s
  may: {begin: [deploy], steer: [marit], approve: [deploy, marit], accept: [marit]}
  four-eyes: yes
`, me.Username)...), 0o600)
	}
	home := t.TempDir()
	if err == nil {
		err = os.MkdirAll(filepath.Join(home, ".ssh"), 0o700)
	}
	if err != nil {
		t.Fatal(err)
	}
	config := ""
	for _, name := range []string{"deploy", "marit", "jon"} { // a server each stands for a line of authorized_keys each
		dir := filepath.Join(home, name)
		if err := os.Mkdir(dir, 0o700); err != nil {
			t.Fatal(err)
		}
		server := linktest.Start(t, dir, "ForceCommand "+program+" admit "+name+" "+s.File, "DisableForwarding yes")
		_, port, _ := net.SplitHostPort(server.Address)
		config += fmt.Sprintf("Host %s\n\tHostName 127.0.0.1\n\tPort %s\n\tIdentityFile %s\n\tUserKnownHostsFile %s\n",
			name, port, server.Identity, server.KnownHosts)
	}
	if err := os.WriteFile(filepath.Join(home, ".ssh", "config"), []byte(config), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("HOME", home)
	at := func(name string) string { return me.Username + "@" + name + ":" + s.File }
	keptBy(t, s)
	step := steps(t)
	step(4, []string{"the plan lets only deploy begin", "jon by a key of " + me.Username}, "cross", at("jon"), "--version",
		"4.3.0")
	step(10, nil, "cross", at("deploy"), "--version", "4.3.0") // the proof has found something
	v := until(t, s, "it waits", func(v keeper.Snapshot) bool { return v.Crossing.Question.ID > 0 })
	if p := v.Crossing.BegunPeer; p.Name != "deploy" || p.Gate != me.Username {
		t.Errorf("it was begun by %+v", p)
	}
	question := jsonNumber(v.Crossing.Question.ID)
	step(4, []string{"the plan lets only marit accept"}, "say", at("deploy"), "yes", "--question", question)
	step(0, nil, "say", at("marit"), "yes", "--question", question)
	step(0, []string{"crossing 1"}, "where", at("jon"), "--for=0s")
	step(4, []string{"versions is not for who comes by a key"}, "versions", at("jon"))
	step(0, []string{"all requests go to blue"}, "back", at("jon"), "--to=blue")
	until(t, s, "it has rolled back", func(v keeper.Snapshot) bool {
		return v.Crossing.Stage == crossing.RolledBack || v.Crossing.Stage == crossing.CalledOff
	})
}
