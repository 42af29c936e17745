package all

import (
	"vaiven/internal/front"
	"vaiven/internal/front/embedded"
	"vaiven/internal/front/haproxy"
	"vaiven/internal/front/httpd"
	"vaiven/internal/front/nginx"
	"vaiven/internal/front/several"
	"vaiven/internal/place"
	"vaiven/internal/plan"
)

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
	on := place.Local{}
	switch {
	case f.Kind() == plan.FrontHAProxy:
		return haproxy.New(on, f)
	case f.Kind() == plan.FrontNginx:
		return nginx.New(on, p.Service, f)
	case f.Kind() == plan.FrontHttpd && f.Httpd.Manager != "":
		return httpd.NewManager(on, f)
	case f.Kind() == plan.FrontHttpd:
		return httpd.NewIncluded(on, p.Service, f)
	}
	return embedded.Dial(p.Socket())
}
