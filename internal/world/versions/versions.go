package versions

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/difference"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/world/secret"
)

// Source is where versions come from. It is safe for concurrent use. A version that cannot
// be raised says why, and hides none of the others.
type Source interface {
	// List is every version, the newest first.
	List(context.Context) ([]raise.Version, error)
	// Find is the version of a name, or the one whose identity begins with it, with its
	// identity as it is now. Others are looked at only if they have to be. The error wraps
	// [ErrNone] if there is no such version.
	Find(ctx context.Context, name string) (raise.Version, error)
}

// ErrNone is wrapped when there is no version of a name.
var ErrNone = errors.New("no such version")

// Open makes the source that a plan names. The cache is a folder for what has to be
// kept between two lists; it is made when it is needed. What was delivered of builds is noted in the state folder,
// as far as there is one.
func Open(v plan.Versions, cache, state string) (Source, error) {
	switch v.Kind {
	case plan.VersionFolder:
		return bounded{&folder{path: v.Where, state: state}}, nil
	case plan.VersionTags, plan.VersionBranch:
		return bounded{&repository{where: v.Where, ref: v.Ref, branch: v.Kind == plan.VersionBranch, cache: cache}}, nil
	case plan.VersionRegistry:
		r, err := newRegistry(v.Where)
		return bounded{r}, err
	}
	return nil, fmt.Errorf("there is no source of versions called %q", v.Kind)
}

// listLimit bounds how long a source is waited for.
const listLimit = 30 * time.Second

// bounded is a source that is not waited for too long, and whose errors show no credentials
// of its address.
type bounded struct{ Source }

func (b bounded) List(ctx context.Context) ([]raise.Version, error) {
	ctx, cancel := context.WithTimeout(ctx, listLimit)
	defer cancel()
	list, err := b.Source.List(ctx)
	return list, masked(err)
}

func (b bounded) Find(ctx context.Context, name string) (raise.Version, error) {
	ctx, cancel := context.WithTimeout(ctx, listLimit)
	defer cancel()
	v, err := b.Source.Find(ctx, name)
	return v, masked(err)
}

func masked(err error) error { return secret.Reworded(err, new(difference.Mask).URLs) }

// pick is a version among those of a list.
func pick(list []raise.Version, name string) (raise.Version, error) {
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
		return cmp.Or(b.At.Compare(a.At), compareNames(b.Name, a.Name))
	})
	return list
}

// compareNames orders names as people order versions: 4.9.0 before 4.10.0.
func compareNames(a, b string) int {
	for a != "" && b != "" {
		if na, nb := number(a), number(b); na > 0 && nb > 0 {
			x, y := strings.TrimLeft(a[:na], "0"), strings.TrimLeft(b[:nb], "0")
			if c := cmp.Or(cmp.Compare(len(x), len(y)), strings.Compare(x, y)); c != 0 {
				return c
			}
			a, b = a[na:], b[nb:]
			continue
		}
		if a[0] != b[0] {
			return cmp.Compare(a[0], b[0])
		}
		a, b = a[1:], b[1:]
	}
	return cmp.Compare(len(a), len(b))
}

// number is how many digits a text begins with.
func number(text string) int {
	n := 0
	for n < len(text) && text[n] >= '0' && text[n] <= '9' {
		n++
	}
	return n
}
