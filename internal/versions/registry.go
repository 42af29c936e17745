package versions

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/remote/transport"

	"vaiven/internal/core/raise"
)

// registry has its versions in the tags of an image, by the OCI Distribution
// protocol. Credentials are those that the container tools have for it.
type registry struct {
	name name.Repository

	mu   sync.Mutex // protects made
	made map[string]time.Time
}

func newRegistry(where string) (*registry, error) {
	repository, err := name.NewRepository(where)
	if err != nil {
		return nil, fmt.Errorf("the registry %q: %w", where, err)
	}
	return &registry{name: repository, made: map[string]time.Time{}}, nil
}

// tagsAtOnce is how many tags are resolved at the same time.
const tagsAtOnce = 8

func (r *registry) List(ctx context.Context) ([]raise.Version, error) {
	ctx, cancel := context.WithTimeout(ctx, listLimit)
	defer cancel()
	options := []remote.Option{remote.WithContext(ctx), remote.WithAuthFromKeychain(authn.DefaultKeychain)}
	tags, err := remote.List(r.name, options...)
	if err != nil {
		return nil, fmt.Errorf("list versions of %v: %w", r.name, plainly(err))
	}
	list := make([]raise.Version, len(tags))
	failed := make([]error, len(tags))
	room := make(chan struct{}, tagsAtOnce)
	var wait sync.WaitGroup
	for n, tag := range tags {
		wait.Go(func() {
			room <- struct{}{}
			defer func() { <-room }()
			v, err := r.resolve(r.name.Tag(tag), options)
			if list[n] = v; err != nil {
				failed[n] = fmt.Errorf("version %s: %w", tag, plainly(err))
			}
		})
	}
	wait.Wait()
	return sorted(list), errors.Join(failed...)
}

// resolve is the digest behind a tag, and when the image was made.
func (r *registry) resolve(tag name.Tag, options []remote.Option) (raise.Version, error) {
	head, err := remote.Head(tag, options...)
	if err != nil {
		return raise.Version{}, err
	}
	v := raise.Version{Name: tag.TagStr(), ID: head.Digest.String()}
	r.mu.Lock()
	made, known := r.made[v.ID]
	r.mu.Unlock()
	if !known {
		image, err := remote.Image(tag, options...)
		if err != nil {
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
	}
	return err
}
