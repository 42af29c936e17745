package split

import "testing"

func TestClientsOfANetworkGoTogether(t *testing.T) {
	for _, c := range []struct {
		a, b string
		bits int
		same bool
	}{
		{"10.1.2.3", "10.1.2.99", 24, true}, {"10.1.2.3", "10.1.3.3", 24, false}, {"10.1.2.3", "10.1.2.4", 0, false},
		{"fd00:1:2:3::1", "fd00:1:2:9::1", 24, true}, {"fd00:1:2:3::1", "fd00:1:3:3::1", 24, false},
		{"::ffff:10.1.2.3", "10.1.2.9", 24, true}, {"fe80::1%eth0", "fe80::1%eth1", 32, true},
		{"nobody", "nobody", 24, true},
	} {
		if got := Network(c.a, c.bits) == Network(c.b, c.bits); got != c.same {
			t.Errorf("%s and %s by /%d: %q and %q", c.a, c.b, c.bits, Network(c.a, c.bits), Network(c.b, c.bits))
		}
	}
}
