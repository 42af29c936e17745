package versions

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/remote/transport"
	"golang.org/x/sync/errgroup"

	"vaiven/internal/core/raise"
)

// registry has its versions in the tags of an image, by the OCI Distribution
// protocol. Credentials are those that the container tools have for it.
type registry struct {
	name name.Repository

	mu   sync.Mutex // protects what follows
	made map[string]time.Time
	rest time.Time // until when it is left alone
}

func newRegistry(where string) (*registry, error) {
	repository, err := name.NewRepository(where)
	if err != nil {
		return nil, fmt.Errorf("the registry %q: %w", where, err)
	}
	return &registry{name: repository, made: map[string]time.Time{}}, nil
}

// A registry may have thousands of tags, each of which takes requests to look at. So many of
// the last by name are looked at for a list, and so many at the same time; the others when
// they are asked for by name.
const (
	tagsLookedAt = 40
	tagsAtOnce   = 4
)

func (r *registry) options(ctx context.Context) []remote.Option {
	return []remote.Option{
		remote.WithContext(ctx), remote.WithTransport(polite{r}), remote.WithAuthFromKeychain(authn.DefaultKeychain),
		remote.WithRetryStatusCodes(http.StatusRequestTimeout, http.StatusBadGateway, http.StatusServiceUnavailable,
			http.StatusGatewayTimeout),
	}
}

func (r *registry) List(ctx context.Context) ([]raise.Version, error) {
	if err := r.allowed(); err != nil {
		return nil, fmt.Errorf("list versions of %v: %w", r.name, err)
	}
	options := r.options(ctx)
	tags, err := remote.List(r.name, options...)
	if err != nil {
		return nil, fmt.Errorf("list versions of %v: %w", r.name, plainly(err))
	}
	slices.SortFunc(tags, func(a, b string) int { return compareNames(b, a) })
	list := make([]raise.Version, len(tags))
	var asked errgroup.Group
	asked.SetLimit(tagsAtOnce)
	for n, tag := range tags {
		list[n].Name = tag
		if n >= tagsLookedAt {
			continue
		}
		asked.Go(func() error {
			list[n] = r.version(r.name.Tag(tag), options)
			return nil
		})
	}
	_ = asked.Wait()
	return sorted(list), ctx.Err()
}

// Find asks for one tag alone, if it is one's name.
func (r *registry) Find(ctx context.Context, tag string) (raise.Version, error) {
	if err := r.allowed(); err != nil {
		return raise.Version{}, fmt.Errorf("look for version %s of %v: %w", tag, r.name, err)
	}
	options := r.options(ctx)
	if named, err := name.NewTag(r.name.String()+":"+tag, name.StrictValidation); err == nil && named.TagStr() == tag {
		v, err := r.resolve(named, options)
		switch {
		case err == nil:
			return v, nil
		case !missing(err) && !errors.Is(err, errNoImage):
			return v, fmt.Errorf("look for version %s of %v: %w", tag, r.name, plainly(err))
		case errors.Is(err, errNoImage):
			v.Wrong = err.Error()
			return v, nil
		}
	}
	list, err := r.List(ctx)
	if err != nil {
		return raise.Version{}, err
	}
	return pick(list, tag)
}

// missing reports whether a registry says that it does not know something.
func missing(err error) bool {
	var t *transport.Error
	return errors.As(err, &t) && t.StatusCode == http.StatusNotFound
}

// version is a tag with what is wrong with it.
func (r *registry) version(tag name.Tag, options []remote.Option) raise.Version {
	err := r.allowed()
	v := raise.Version{Name: tag.TagStr()}
	if err == nil {
		if v, err = r.resolve(tag, options); err != nil {
			err = plainly(err)
		}
	}
	if err != nil {
		v.Wrong = err.Error()
	}
	return v
}

// errNoImage is wrapped when a tag has no image for where it is to run.
var errNoImage = errors.New("there is no image for this platform behind it")

// resolve is the digest behind a tag, and when the image was made.
func (r *registry) resolve(tag name.Tag, options []remote.Option) (raise.Version, error) {
	v := raise.Version{Name: tag.TagStr()}
	head, err := remote.Head(tag, options...)
	if err != nil {
		return v, err
	}
	v.ID = head.Digest.String()
	r.mu.Lock()
	made, known := r.made[v.ID]
	r.mu.Unlock()
	if !known {
		// By its digest: the tag may be moved meanwhile.
		image, err := remote.Image(r.name.Digest(v.ID), options...)
		if err != nil {
			if head.MediaType.IsIndex() && !missing(err) && !limited(err) {
				err = fmt.Errorf("%w: %w", errNoImage, err)
			}
			return v, err
		}
		config, err := image.ConfigFile()
		if err != nil {
			return v, err
		}
		made = config.Created.Time
		r.mu.Lock()
		r.made[v.ID] = made
		r.mu.Unlock()
	}
	v.At = made
	return v, nil
}

func limited(err error) bool {
	var t *transport.Error
	return errors.As(err, &t) && t.StatusCode == http.StatusTooManyRequests
}

// How long a registry is left alone that says "too many requests": as long as it wants
// (RFC 9110, section 10.2.3), within reason.
const (
	restTime    = time.Minute // if it does not say
	longestRest = time.Hour
)

// polite notes when a registry wants to be left alone.
type polite struct{ r *registry }

func (p polite) RoundTrip(q *http.Request) (*http.Response, error) {
	a, err := remote.DefaultTransport.RoundTrip(q)
	if err == nil && a.StatusCode == http.StatusTooManyRequests {
		rest := restTime
		said := a.Header.Get("Retry-After")
		if seconds, err := strconv.Atoi(said); err == nil {
			rest = time.Duration(seconds) * time.Second
		} else if at, err := http.ParseTime(said); err == nil {
			rest = time.Until(at)
		}
		p.r.mu.Lock()
		p.r.rest = time.Now().Add(min(max(rest, time.Second), longestRest))
		p.r.mu.Unlock()
	}
	return a, err
}

// allowed is an error as long as the registry wants to be left alone.
func (r *registry) allowed() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if left := time.Until(r.rest); left > 0 {
		return fmt.Errorf("the registry has had too many requests, and is asked again in %v", left.Round(time.Second))
	}
	return nil
}

// plainly says what a registry means by its error.
func plainly(err error) error {
	var t *transport.Error
	if !errors.As(err, &t) {
		return err
	}
	switch t.StatusCode {
	case http.StatusNotFound:
		return fmt.Errorf("the registry does not know it: %w", err)
	case http.StatusUnauthorized, http.StatusForbidden:
		return fmt.Errorf("the registry does not let us read it: %w", err)
	case http.StatusTooManyRequests:
		return fmt.Errorf("the registry has had too many requests: %w", err)
	}
	return err
}
