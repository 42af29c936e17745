package all

import (
	"errors"
	"fmt"
	"io"
	"path/filepath"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/stack"
	"vaiven/internal/stack/cluster"
	"vaiven/internal/stack/container"
	"vaiven/internal/stack/host"
	"vaiven/internal/stack/process"
	"vaiven/internal/stack/stand"
	"vaiven/internal/stack/tool"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/versions"
)

// Set is the drivers of a plan.
type Set struct {
	*stack.Set
	closing []io.Closer
}

// Open makes the drivers. The relay is the program through which containers are asked, and listed
// what the front lists for a side, which may be nil where nothing stands there.
func Open(p *plan.Plan, secrets secret.Values, relay string, listed stand.Listed) (*Set, error) {
	s := &Set{}
	pairs := make([][2]stack.Driver, len(p.Parts))
	for n := range p.Parts {
		made := map[plan.Kind]stack.Driver{}
		for _, side := range split.Sides {
			kind := p.Parts[n].Stacks[side].Kind()
			if made[kind] == nil {
				d, err := open(kind, p, n, secrets, relay, listed)
				if err != nil {
					return nil, errors.Join(err, s.Close())
				}
				made[kind] = d
				if c, ok := d.(io.Closer); ok {
					s.closing = append(s.closing, c)
				}
			}
			pairs[n][side] = made[kind]
		}
	}
	s.Set = stack.NewSet(p, secrets, pairs)
	return s, nil
}

func open(kind plan.Kind, p *plan.Plan, part int, secrets secret.Values, relay string,
	listed stand.Listed) (stack.Driver, error) {
	switch kind {
	case plan.Processes:
		return process.New(p, part, secrets), nil
	case plan.Hosts:
		return host.New(p, part, secrets), nil
	case plan.Containers:
		return container.New(p, part, secrets, relay)
	case plan.Clustered:
		return cluster.New(p, part, secrets), nil
	case plan.Tool:
		return tool.New(p, part, secrets), nil
	case plan.Standing:
		return stand.New(p, part, secrets, relay, listed)
	}
	return nil, fmt.Errorf("there is no driver for %s", kind)
}

// Close ends what the drivers hold open. Instances go on.
func (s *Set) Close() error {
	var failed []error
	for _, c := range s.closing {
		failed = append(failed, c.Close())
	}
	return errors.Join(failed...)
}

// Sources are the sources of versions by part; a part without one of its own has
// none.
func Sources(p *plan.Plan) (map[string]versions.Source, error) {
	m := map[string]versions.Source{}
	for _, part := range p.Parts {
		if part.Versions.Kind == "" {
			continue
		}
		source, err := versions.Open(part.Versions, filepath.Join(p.State, "versions-"+part.Name+".git"), p.State)
		if err != nil {
			return nil, fmt.Errorf("part %s: %w", part.Name, err)
		}
		m[part.Name] = source
	}
	return m, nil
}
