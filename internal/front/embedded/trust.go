package embedded

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

// callerKey is where a request's context has its [caller].
type callerKey struct{}

func callerFrom(ctx context.Context) *caller {
	c, _ := ctx.Value(callerKey{}).(*caller)
	return c
}

// trusts reports whether an address is that of a proxy whose word on its clients is taken.
func trusts(trusted []netip.Prefix, a netip.Addr) bool {
	return slices.ContainsFunc(trusted, func(p netip.Prefix) bool { return p.Contains(a) })
}

// origin is where a request comes from, by what can be believed of it.
type origin struct {
	peer    netip.Addr // who made the connection
	client  string     // the first of those who passed it on that is not trusted, without a port
	trusted bool       // the peer is: what it says of the request goes on
	proto   string     // http or https, as the client spoke it
	host    string     // as the client asked for it
	port    string     // that the client connected to, where the client says one itself
}

// originOf finds out where a request comes from. What proxies say is read from the end, as
// far as those who said it are trusted.
func originOf(r *http.Request, c *caller, trusted []netip.Prefix) origin {
	o := origin{proto: "http", host: r.Host}
	if r.TLS != nil {
		o.proto = "https"
	}
	if c != nil {
		o.peer = c.peer
		if tcp, ok := c.LocalAddr().(*net.TCPAddr); ok && r.Header["X-Forwarded-Port"] != nil {
			o.port = strconv.Itoa(tcp.Port)
		}
		if c.safe {
			o.proto = "https"
		}
	} else if a, err := netip.ParseAddrPort(r.RemoteAddr); err == nil {
		o.peer = a.Addr().Unmap()
	}
	o.client = o.peer.String()
	if len(trusted) == 0 || !trusts(trusted, o.peer) {
		return o
	}
	o.trusted = true
	if said := r.Header.Get("X-Forwarded-Proto"); said == "http" || said == "https" {
		o.proto = said
	}
	if said := r.Header.Get("X-Forwarded-Host"); said != "" {
		o.host = said
	}
	list := strings.Split(strings.Join(r.Header["X-Forwarded-For"], ","), ",")
	for _, said := range slices.Backward(list) {
		said = strings.TrimSpace(said)
		a, ok := parseAddress(said)
		if !ok {
			break // what stands before it is nobody's word
		}
		if o.client = a.String(); !trusts(trusted, a) {
			break
		}
	}
	return o
}

// parseAddress reads an address as proxies write it: with or without a port.
func parseAddress(text string) (netip.Addr, bool) {
	if a, err := netip.ParseAddrPort(text); err == nil {
		return a.Addr().Unmap(), true
	}
	a, err := netip.ParseAddr(strings.Trim(text, "[]"))
	return a.Unmap(), err == nil
}

// tell writes into a request on its way to an instance where it comes from.
func (o origin) tell(out, in http.Header) {
	delete(out, "Forwarded")
	by := o.peer.String()
	if o.trusted {
		if before := in["Forwarded"]; len(before) > 0 {
			node := by
			if o.peer.Is6() {
				node = `"[` + by + `]"`
			}
			out["Forwarded"] = append(slices.Clone(before), "for="+node+";proto="+o.proto)
		}
		if before := in["X-Forwarded-For"]; len(before) > 0 {
			by = strings.Join(before, ", ") + ", " + by
		}
	}
	said := [3]string{by, o.proto, o.host}
	out["X-Forwarded-For"], out["X-Forwarded-Proto"], out["X-Forwarded-Host"] = said[0:1:1], said[1:2:2], said[2:3:3]
	if o.trusted {
		return
	}
	if in["X-Forwarded-Port"] != nil && o.port != "" {
		out["X-Forwarded-Port"] = []string{o.port}
	}
	if in["X-Real-Ip"] != nil {
		out["X-Real-Ip"] = []string{o.client}
	}
}

// ownPrefix is what the names of fields between Vaiven's parts begin with.
const ownPrefix = "Vaiven-"

// clean takes away what a client must not say: fields of Vaiven's own, names with an underscore, which
// some instances read as if it were a hyphen, and a certificate that only the front can vouch for
// (RFC 9440); and where a request comes from, if it is not a trusted proxy that says so.
func clean(h http.Header, trusted bool) {
	for name := range h {
		switch {
		case strings.HasPrefix(name, ownPrefix), strings.IndexByte(name, '_') >= 0, name == "Client-Cert",
			name == "Client-Cert-Chain":
		case trusted:
			continue
		case strings.HasPrefix(name, "X-Forwarded-"), name == "X-Real-Ip":
		default:
			continue
		}
		delete(h, name)
	}
}

// shownCertificate tells an instance which certificate the client has shown, as RFC 9440 has it.
func shownCertificate(h http.Header, r *http.Request, c *caller) {
	state := r.TLS
	if state == nil && c != nil && c.safe {
		if t, ok := c.Conn.(*tls.Conn); ok {
			of := t.ConnectionState()
			state = &of
		}
	}
	if state == nil || len(state.VerifiedChains) == 0 {
		return
	}
	h["Client-Cert"] = []string{":" + base64.StdEncoding.EncodeToString(state.PeerCertificates[0].Raw) + ":"}
}

// session keeps somebody on a side.
type session struct {
	side   split.Side
	epoch  uint64 // how often the side had been released when it began
	number uint64 // of its own, by which sessions are counted
}

// seal is a session as its cookie says it; signed, so that nobody can choose a side.
func (p *proxy) seal(s session) string {
	value := fmt.Sprintf("%v.%d.%x", s.side, s.epoch, s.number)
	mac := hmac.New(sha256.New, p.secret)
	mac.Write([]byte(p.cookie + "=" + value))
	return value + "." + base64.RawURLEncoding.EncodeToString(mac.Sum(nil)[:16])
}

// unseal is the session that a cookie says, and false if it is not ours.
func (p *proxy) unseal(value string) (s session, ok bool) {
	parts := strings.Split(value, ".")
	if len(parts) != 4 || len(p.secret) == 0 {
		return s, false
	}
	var errSide, errEpoch, errNumber error
	s.side, errSide = split.ParseSide(parts[0])
	s.epoch, errEpoch = strconv.ParseUint(parts[1], 10, 64)
	s.number, errNumber = strconv.ParseUint(parts[2], 16, 64)
	if errors.Join(errSide, errEpoch, errNumber) != nil {
		return s, false
	}
	return s, subtle.ConstantTimeCompare([]byte(value), []byte(p.seal(s))) == 1
}

// isProbe reports whether a request is the prober's, by its secret.
func (p *proxy) isProbe(r *http.Request) bool {
	marker := r.Header.Get(front.ProbeHeader)
	return marker != "" && len(p.secret) > 0 && subtle.ConstantTimeCompare([]byte(marker), p.secret) == 1
}
