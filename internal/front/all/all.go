package all

import (
	"slices"

	"vaiven/internal/core/plan"
	"vaiven/internal/front"
	"vaiven/internal/front/cluster"
	"vaiven/internal/front/dns"
	"vaiven/internal/front/embedded"
	"vaiven/internal/front/haproxy"
	"vaiven/internal/front/httpd"
	"vaiven/internal/front/nginx"
	"vaiven/internal/front/overssh"
	"vaiven/internal/front/queue"
	"vaiven/internal/front/several"
	"vaiven/internal/front/tool"
	"vaiven/internal/world/link"
	"vaiven/internal/world/place"
	"vaiven/internal/world/place/distant"
)

// Kinds are the kinds of fronts. The first is meant where a plan names none.
var Kinds = []front.Kind{embedded.Kind, haproxy.Kind, nginx.Kind, httpd.Kind, dns.Kind, cluster.Kind, queue.Kind,
	tool.Kind}

// Of is the kind of a front of a plan.
func Of(f plan.Front) front.Kind {
	return Kinds[slices.IndexFunc(Kinds, func(k front.Kind) bool { return k.Name == f.Kind() })]
}

// Open makes the driver of a plan's front, or one of all its fronts.
func Open(p *plan.Plan) front.Driver {
	if len(p.Beside) == 0 {
		return One(p, p.Front)
	}
	var members []several.Member
	for _, f := range p.Fronts() {
		members = append(members, several.Member{Name: f.Name(), Driver: One(p, f)})
	}
	return several.New(members)
}

// One makes the driver of one front of a plan.
func One(p *plan.Plan, f plan.Front) front.Driver {
	open := func(on place.Machine) front.Driver { return Of(f).Open(on, p, f) }
	if f.At.Host == "" {
		return open(place.Local{})
	}
	return overssh.New(func() *distant.Machine { return Machine(f.At) }, open)
}

// On is the machine that a front stands on. It has to be let go in the end.
func On(at plan.Login) (on place.Machine, end func()) {
	if at.Host == "" {
		return place.Local{}, func() {}
	}
	m := Machine(at)
	return distant.Place{Machine: m}, m.End
}

// Machine is where a front stands that is not on this machine.
func Machine(at plan.Login) *distant.Machine {
	return distant.New(at.Host, func() (link.Login, error) {
		l, err := link.Find(at.Host, "")
		if at.Identity != "" {
			l.Identities = []string{at.Identity}
		}
		if at.KnownHosts != "" {
			l.KnownHosts = at.KnownHosts
		}
		return l, err
	})
}
