package embedded

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"net/http"
	"net/netip"
	"slices"
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
}

// originOf finds out where a request comes from. What proxies say is read from the end, as
// far as those who said it are trusted.
func originOf(r *http.Request, trusted []netip.Prefix) origin {
	o := origin{proto: "http", host: r.Host}
	if r.TLS != nil {
		o.proto = "https"
	}
	if c := callerFrom(r.Context()); c != nil {
		o.peer = c.peer
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

// tell writes into a request on its way to an instance where it comes from. What an
// untrusted client said of that is gone.
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
	out["X-Forwarded-For"] = []string{by}
	out["X-Forwarded-Proto"] = []string{o.proto}
	out["X-Forwarded-Host"] = []string{o.host}
}

// ownPrefix is what the names of fields between Vaiven's parts begin with.
const ownPrefix = "Vaiven-"

// clean takes away what a client must not say: fields of Vaiven's own, and names with an
// underscore, which some instances read as if it were a hyphen.
func clean(h http.Header) {
	for name := range h {
		if strings.HasPrefix(name, ownPrefix) || strings.IndexByte(name, '_') >= 0 {
			delete(h, name)
		}
	}
}

// seal is the side that a session is on, as its cookie says it: signed, so that nobody can
// choose a side.
func (p *proxy) seal(side split.Side) string {
	mac := hmac.New(sha256.New, p.secret)
	mac.Write([]byte(p.cookie + "=" + side.String()))
	return side.String() + "." + base64.RawURLEncoding.EncodeToString(mac.Sum(nil)[:16])
}

// unseal is the side that a cookie says, and false if it is not ours.
func (p *proxy) unseal(value string) (split.Side, bool) {
	name, _, _ := strings.Cut(value, ".")
	side, err := split.ParseSide(name)
	if err != nil || len(p.secret) == 0 || subtle.ConstantTimeCompare([]byte(value), []byte(p.seal(side))) != 1 {
		return 0, false
	}
	return side, true
}

// isProbe reports whether a request is the prober's, by its secret.
func (p *proxy) isProbe(r *http.Request) bool {
	marker := r.Header.Get(front.ProbeHeader)
	return marker != "" && len(p.secret) > 0 && subtle.ConstantTimeCompare([]byte(marker), p.secret) == 1
}
