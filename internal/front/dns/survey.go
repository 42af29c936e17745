package dns

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"

	"github.com/miekg/dns"

	"vaiven/internal/front"
	"vaiven/internal/world/place"
)

// survey reads what a name points to, of the server that has its zone: dns://SERVER/NAME (RFC 4501), or
// dns://SERVER:PORT/NAME:PORT where users go by another port than 80.
func survey(ctx context.Context, on place.Machine, of front.Target) ([]front.Surveyed, error) {
	target := of.Name
	u, err := url.Parse(target)
	if err != nil || u.Scheme != "dns" {
		return nil, front.ErrNotOurs
	}
	if of.Sticky {
		return nil, fmt.Errorf("%s: a DNS name keeps nobody on a side", target)
	}
	server := u.Host
	if u.Port() == "" {
		server = net.JoinHostPort(u.Hostname(), "53")
	}
	name, port, named := strings.Cut(strings.TrimPrefix(u.Path, "/"), ":")
	if !named {
		port = "80"
	}
	if u.Hostname() == "" || name == "" {
		return nil, fmt.Errorf("%q names no server, or no name: dns://10.1.0.9/sailings.lineavessa.example:8080", target)
	}
	l, err := dial(ctx, on, server, key{})
	if err != nil {
		return nil, err
	}
	defer l.let()
	name = dns.CanonicalName(name)
	zone, err := l.zone(name)
	if err != nil {
		return nil, err
	}
	up := front.Surveyed{Whole: true, Name: strings.Split(name, ".")[0], Listen: net.JoinHostPort(said(name), port)}
	kind, ttl := A, uint32(0)
	for _, of := range []Type{Alias, A, AAAA} {
		set, err := l.set(name, dns.StringToType[string(of)], false)
		if err != nil {
			return nil, err
		}
		set = slices.DeleteFunc(set, func(rr dns.RR) bool {
			return rr.Header().Rrtype != dns.StringToType[string(of)] || !strings.EqualFold(rr.Header().Name, name)
		})
		if len(set) == 0 {
			continue
		}
		if len(up.Servers) > 0 {
			up.Notes = append(up.Notes, fmt.Sprintf("%s has %s records as well, which stay as they are: who goes by them "+
				"is not led over", said(name), of))
			continue
		}
		kind, ttl = of, set[0].Header().Ttl
		addresses := values(set)
		if of == Alias {
			up.Notes = append(up.Notes, fmt.Sprintf("%s is an alias of %s: name one target of each side", said(name),
				said(addresses[0])))
			if addresses, err = l.addresses(addresses[0]); err != nil {
				return nil, err
			}
		}
		for _, a := range addresses {
			up.Servers = append(up.Servers, front.SurveyedServer{Name: a, Address: net.JoinHostPort(a, port), In: true})
		}
	}
	if len(up.Servers) == 0 {
		return nil, fmt.Errorf("%s points nowhere, by what %s says", said(name), server)
	}
	up.Section = sectionOf(server, zone, name, kind, ttl)
	up.Needs = []string{fmt.Sprintf("the server takes updates of %s by a key: tsig-keygen vaiven, and update-policy { grant vaiven "+
		"zonesub ANY; }; in the zone", said(zone))}
	up.Notes = append(up.Notes, fmt.Sprintf("a name carries no port: both sides' instances listen at %s", port))
	return []front.Surveyed{up}, nil
}

// sectionOf is the plan's section of a name.
func sectionOf(server, zone, name string, kind Type, ttl uint32) string {
	own := strings.TrimSuffix(strings.TrimSuffix(name, zone), ".")
	if own == "" {
		own = "\"@\""
	}
	text := fmt.Sprintf("  dns:\n    server: %s\n    zone: %s\n    name: %s\n    key: keys/vaiven.key # as tsig-keygen writes it\n",
		server, said(zone), own)
	if kind != A {
		text += fmt.Sprintf("    type: %s\n", kind)
	}
	if kind == Alias {
		text += fmt.Sprintf("    targets: {blue: %s-blue, green: %[1]s-green}\n", own)
	}
	return text + fmt.Sprintf("    ttl: %ds\n", max(ttl, 1))
}

// zone is that of a name, at a server that has it.
func (l *line) zone(name string) (string, error) {
	a, err := l.ask(new(dns.Msg).SetQuestion(name, dns.TypeSOA))
	if err != nil {
		return "", err
	}
	for _, rr := range slices.Concat(a.Answer, a.Ns) {
		if soa, ok := rr.(*dns.SOA); ok && a.Authoritative {
			return dns.CanonicalName(soa.Hdr.Name), nil
		}
	}
	return "", fmt.Errorf("%w: %s does not have the zone of %s", front.ErrUnreachable, l.server, said(name))
}

// addresses are those of a name, of both kinds.
func (l *line) addresses(name string) (list []string, err error) {
	for _, of := range []uint16{dns.TypeA, dns.TypeAAAA} {
		set, err := l.set(name, of, false)
		if err != nil {
			return nil, err
		}
		list = append(list, values(set)...)
	}
	return list, nil
}
