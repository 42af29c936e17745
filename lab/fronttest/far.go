package fronttest

import (
	"os/user"
	"testing"

	"vaiven/internal/front"
	"vaiven/internal/front/overssh"
	"vaiven/internal/world/place"
	"vaiven/internal/world/place/distant"
	"vaiven/lab/linktest"
)

// Reach makes a front's driver out of one for a machine: that of this machine, or of another one.
type Reach func(t *testing.T, open func(on place.Machine) front.Driver) front.Driver

// Here reaches fronts on this machine.
func Here(_ *testing.T, open func(on place.Machine) front.Driver) front.Driver {
	return open(place.Local{})
}

// OverSSH reaches fronts by way of an SSH server, each driver over connections of its own.
func OverSSH(t *testing.T) Reach {
	t.Helper()
	s := linktest.Start(t, t.TempDir(), "MaxStartups 100", "MaxSessions 50")
	return Through(t, s, s.Address)
}

// Through reaches them by way of a server at an address that leads to it.
func Through(t *testing.T, s linktest.Server, address string) Reach {
	t.Helper()
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	known := s.KnownHosts
	if address != s.Address {
		known = s.KnownAs(t, address)
	}
	return func(t *testing.T, open func(on place.Machine) front.Driver) front.Driver {
		return overssh.New(func() *distant.Machine {
			m := distant.At(me.Username, address, s.Identity, known)
			t.Cleanup(m.End)
			return m
		}, open)
	}
}
