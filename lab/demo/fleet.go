package demo

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"

	"vaiven/internal/core/plan"
	"vaiven/internal/front/embedded"
	"vaiven/internal/front/haproxy"
	"vaiven/internal/front/httpd"
	"vaiven/internal/front/nginx"
	"vaiven/internal/world/durable"
)

// Fleet is the company's six services, each a demo of its own, and the file that says what depends on what.
type Fleet struct {
	File    string
	Members []*Scenario
}

// members are the services with what they need, the front that each has where its program is there, and how the new
// version of one is bad.
var members = []struct {
	name, program string
	front         plan.FrontKind
	needs         []string
	fault         Fault
}{
	{name: "fares", front: embedded.Kind.Name, fault: Errors},
	{name: "sailings", program: "haproxy", front: haproxy.Kind.Name, needs: []string{"fares"}},
	{name: "bookings", front: embedded.Kind.Name, needs: []string{"fares"}},
	{name: "berths", program: "nginx", front: nginx.Kind.Name},
	{name: "board", program: "apache2", front: httpd.Kind.Name, needs: []string{"sailings", "berths"}},
	{name: "manifests", front: embedded.Kind.Name},
}

// fleetRate is how many requests a second each service gets.
const fleetRate = 30

// BuildFleet builds up all six, each with a keeper that runs. Program is that of [Options].
func BuildFleet(ctx context.Context, program string) (built *Fleet, err error) {
	f := &Fleet{}
	defer func() {
		if err != nil {
			err = errors.Join(err, f.Remove(context.WithoutCancel(ctx)))
		}
	}()
	text := "fleet: ferries\nservices:\n"
	for _, m := range members {
		o := Options{Program: program, Service: m.name, Front: m.front, Fault: m.fault, Rate: fleetRate, Patient: true}
		if _, err := exec.LookPath(m.program); m.program != "" && err != nil {
			o.Front = embedded.Kind.Name
		}
		s, err := Build(ctx, o)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", m.name, err)
		}
		f.Members = append(f.Members, s)
		if err := s.start("keeper-out.log", s.options.Program, "keep", s.File); err != nil {
			return nil, err
		}
		text += fmt.Sprintf("  %s: {plan: %q", m.name, s.File)
		if len(m.needs) > 0 {
			text += ", needs: [" + strings.Join(m.needs, ", ") + "]"
		}
		text += "}\n"
	}
	f.File = filepath.Join(f.Members[0].Folder, "ferries.yaml")
	return f, durable.WriteFile(f.File, []byte(text))
}

// Remove ends everything and removes it.
func (f *Fleet) Remove(ctx context.Context) error {
	var failed []error
	for _, s := range f.Members {
		failed = append(failed, s.Remove(ctx))
	}
	return errors.Join(failed...)
}
