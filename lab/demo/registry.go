package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/registry"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/static"
	"github.com/google/go-containerregistry/pkg/v1/types"
)

// imageName is what the images with the berths are called.
const imageName = "vessa/berths"

// Registry is an image registry in memory, with an image of the berths for each build
// in a folder. Builds with the same content are one image with two tags.
func Registry(ctx context.Context, address, folder string) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return err
	}
	srv := &http.Server{Handler: registry.New(registry.Logger(log.New(io.Discard, "", 0))),
		ReadHeaderTimeout: 5 * time.Second}
	defer context.AfterFunc(ctx, func() { _ = srv.Close() })()
	served := make(chan error, 1)
	go func() { served <- srv.Serve(l) }()
	if err := push(ctx, address, folder); err != nil {
		return errors.Join(err, srv.Close())
	}
	if err := <-served; !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// push makes an image of each build.
func push(ctx context.Context, address, folder string) error {
	builds, err := os.ReadDir(folder)
	if err != nil {
		return err
	}
	made := map[string]v1.Image{} // by content
	for _, b := range builds {
		file := filepath.Join(folder, b.Name(), "berths")
		content, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		info, err := os.Stat(file)
		if err != nil {
			return err
		}
		image := made[string(content)]
		if image == nil {
			if image, err = imageOf(content, info.ModTime()); err != nil {
				return err
			}
			made[string(content)] = image
		}
		tag, err := name.NewTag(fmt.Sprintf("%s/%s:%s", address, imageName, b.Name()))
		if err != nil {
			return err
		}
		if err := remote.Write(tag, image, remote.WithContext(ctx)); err != nil {
			return fmt.Errorf("push %v: %w", tag, err)
		}
	}
	return nil
}

func imageOf(content []byte, at time.Time) (v1.Image, error) {
	image, err := mutate.AppendLayers(empty.Image, static.NewLayer(content, types.OCIUncompressedLayer))
	if err != nil {
		return nil, err
	}
	return mutate.CreatedAt(image, v1.Time{Time: at})
}

// awaitRegistry waits until the registry has all images.
func awaitRegistry(ctx context.Context, where string, n int) error {
	repository, err := name.NewRepository(where)
	if err != nil {
		return err
	}
	for {
		tags, err := remote.List(repository, remote.WithContext(ctx))
		if err == nil && len(tags) == n {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the demo's registry did not get ready (%s): %w", strings.Join(tags, ", "),
				errors.Join(err, ctx.Err()))
		case <-time.After(50 * time.Millisecond):
		}
	}
}
