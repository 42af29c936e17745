package place

import (
	"net"
	"net/netip"
	"os"
	"strings"
)

// IsHere reports whether a host is this machine: by its name, or as one of its addresses. No name is asked for at a
// server.
func IsHere(host string) bool {
	if host == "" || host == "localhost" || strings.HasSuffix(host, ".localhost") {
		return true
	}
	if name, err := os.Hostname(); err == nil && strings.EqualFold(host, name) {
		return true
	}
	is, err := netip.ParseAddr(strings.Trim(host, "[]"))
	if err != nil {
		return false
	}
	if is.IsLoopback() || is.IsUnspecified() {
		return true
	}
	own, err := net.InterfaceAddrs()
	if err != nil {
		return false
	}
	for _, a := range own {
		if n, ok := a.(*net.IPNet); ok && n.IP.Equal(is.AsSlice()) {
			return true
		}
	}
	return false
}
