// Package linktest starts OpenSSH servers on loopback for tests: they let in one key, which is
// made for them.
//
//	s := linktest.Start(t, t.TempDir())
//	client, err := link.Dial(ctx, link.Login{User: "root", Address: s.Address,
//		Identities: []string{s.Identity}, KnownHosts: s.KnownHosts})
package linktest
