package split

import "net/netip"

// Network is the part of an address that counts for the key: so many bits of IPv4,
// twice as many of IPv6.
func Network(host string, bits int) string {
	if bits == 0 {
		return host
	}
	address, err := netip.ParseAddr(host)
	if err != nil {
		return host
	}
	if address = address.Unmap().WithZone(""); address.Is6() {
		bits *= 2
	}
	prefix, err := address.Prefix(bits)
	if err != nil {
		return host
	}
	return prefix.String()
}
