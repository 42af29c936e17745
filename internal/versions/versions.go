package versions

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/raise"
	"vaiven/internal/plan"
)

// Source is where versions come from. It is safe for concurrent use.
type Source interface {
	// List is every version, the newest first.
	List(context.Context) ([]raise.Version, error)
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
func Find(ctx context.Context, s Source, name string) (raise.Version, error) {
	list, err := s.List(ctx)
	if err != nil {
		return raise.Version{}, err
	}
	v, ok := raise.Pick(list, name)
	if !ok {
		return v, fmt.Errorf("%w: %s", ErrNone, name)
	}
	return v, nil
}

// sorted puts the newest first, and what has no date behind, by name from the
// last.
func sorted(list []raise.Version) []raise.Version {
	slices.SortFunc(list, func(a, b raise.Version) int {
		return cmp.Or(b.At.Compare(a.At), strings.Compare(b.Name, a.Name))
	})
	return list
}
