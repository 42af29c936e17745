package all

import (
	"slices"

	"vaiven/internal/front"
	"vaiven/internal/front/embedded"
	"vaiven/internal/front/haproxy"
	"vaiven/internal/front/httpd"
	"vaiven/internal/front/nginx"
	"vaiven/internal/front/several"
	"vaiven/internal/place"
	"vaiven/internal/plan"
)

// Kinds are the kinds of fronts. The first is meant where a plan names none.
var Kinds = []front.Kind{embedded.Kind, haproxy.Kind, nginx.Kind, httpd.Kind}

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
func One(p *plan.Plan, f plan.Front) front.Driver { return Of(f).Open(place.Local{}, p, f) }
