package versions

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"vaiven/internal/plan"
)

// Version is one version that exists.
type Version struct {
	Name string    `json:"version"`
	ID   string    `json:"build"`          // identity of its build
	At   time.Time `json:"at,omitzero"`    // when it was made, if that is known
	Note string    `json:"note,omitempty"` // what its maker says of it, on one line
}

// Short is an identity as people compare it: twelve digits.
func Short(id string) string {
	_, hex, ok := strings.Cut(id, ":") // sha256:...
	if !ok {
		hex = id
	}
	return hex[:min(len(hex), 12)]
}

// Source is where versions come from. It is safe for concurrent use.
type Source interface {
	// List is every version, the newest first.
	List(context.Context) ([]Version, error)
}

// ErrNone is wrapped when there is no version of a name.
var ErrNone = errors.New("no such version")

// Open makes the source that a plan names. The cache is a folder for what has to be
// kept between two lists; it is made when it is needed.
func Open(v plan.Versions, cache string) (Source, error) {
	switch v.Kind {
	case plan.VersionFolder:
		return &folder{path: v.Where}, nil
	case plan.VersionTags, plan.VersionBranch:
		return &repository{where: v.Where, ref: v.Ref, branch: v.Kind == plan.VersionBranch, cache: cache}, nil
	case plan.VersionRegistry:
		return newRegistry(v.Where)
	}
	return nil, fmt.Errorf("there is no source of versions called %q", v.Kind)
}

// listLimit bounds how long a source is waited for.
const listLimit = 30 * time.Second

// Find is the version of a name, or the one whose identity begins with it.
func Find(ctx context.Context, s Source, name string) (Version, error) {
	list, err := s.List(ctx)
	if err != nil {
		return Version{}, err
	}
	var names []string
	for _, v := range list {
		if v.Name == name {
			return v, nil
		}
		names = append(names, v.Name)
	}
	const certain = 7 // digits of an identity
	for _, v := range list {
		if len(name) >= certain && (strings.HasPrefix(v.ID, name) || strings.HasPrefix(Short(v.ID), name)) {
			return v, nil
		}
	}
	const most = 8
	if len(names) > most {
		names = append(names[:most], fmt.Sprintf("and %d older", len(list)-most))
	}
	if len(names) == 0 {
		return Version{}, fmt.Errorf("%w: %s; there are none at all", ErrNone, name)
	}
	return Version{}, fmt.Errorf("%w: %s; there are %s", ErrNone, name, strings.Join(names, ", "))
}

// sorted puts the newest first, and what has no date behind, by name from the
// last.
func sorted(list []Version) []Version {
	slices.SortFunc(list, func(a, b Version) int {
		return cmp.Or(b.At.Compare(a.At), strings.Compare(b.Name, a.Name))
	})
	return list
}
