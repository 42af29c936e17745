package container

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"sync"

	"github.com/containerd/errdefs"
	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/tarball"
	"github.com/moby/moby/api/pkg/stdcopy"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"

	"vaiven/internal/core/reading"
	"vaiven/internal/stack"
	"vaiven/internal/world/place"
)

// site is an instance's container as a place. Connections go out by way of a relay
// that is put beside it when the first is made.
type site struct {
	driver *Driver
	i      reading.Instance

	mu    sync.Mutex // protects relay
	relay string     // its container's id, "" for none yet
}

// Place is the instance's container.
func (d *Driver) Place(ctx context.Context, i reading.Instance) (place.Place, error) {
	if _, err := d.find(ctx, i); err != nil {
		return nil, err
	}
	return &site{driver: d, i: i}, nil
}

func (s *site) engine() *client.Client { return s.driver.engines[s.i.Side] }

// Prepare puts the relay beside the container. That takes longer than what is asked by way
// of it, and is no part of it.
func (s *site) Prepare(ctx context.Context) error {
	_, err := s.beside(ctx)
	return err
}

// Dial connects from inside the container's network.
func (s *site) Dial(ctx context.Context, _, address string) (net.Conn, error) {
	beside, err := s.beside(ctx)
	if err != nil {
		return nil, err
	}
	stream, err := s.exec(ctx, beside, place.Command{Words: []string{"/relay"}})
	if err != nil {
		return nil, err
	}
	return place.Relay(ctx, stream, s.i.Name, address)
}

// beside is the container with the relay, which is started first if there is none.
func (s *site) beside(ctx context.Context) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.relay != "" {
		return s.relay, nil
	}
	image, err := s.relayImage(ctx)
	if err != nil {
		return "", fmt.Errorf("put a relay beside %s: %w", s.i.Name, told(err))
	}
	target, err := s.driver.find(ctx, s.i)
	if err != nil {
		return "", err
	}
	d := s.driver
	created, err := s.engine().ContainerCreate(ctx, client.ContainerCreateOptions{
		Config: &container.Config{
			Image: image, Entrypoint: []string{"/relay"}, Cmd: []string{"--wait"},
			Labels: map[string]string{labelOwner: d.owner, labelPart: d.part.Name, labelSide: s.i.Side.String(),
				labelRelay: s.i.Name},
		},
		HostConfig: &container.HostConfig{NetworkMode: container.NetworkMode("container:" + target.ID),
			AutoRemove: true},
	})
	if err == nil {
		s.relay = created.ID
		_, err = s.engine().ContainerStart(ctx, created.ID, client.ContainerStartOptions{})
	}
	if err != nil {
		return "", errors.Join(fmt.Errorf("put a relay beside %s: %w", s.i.Name, told(err)), s.removeRelay(ctx))
	}
	return s.relay, nil
}

// relayImage makes sure that the engine has an image with the relay in it, and
// nothing else.
func (s *site) relayImage(ctx context.Context) (string, error) {
	program := s.driver.relay
	data, err := os.ReadFile(program)
	if err != nil {
		return "", fmt.Errorf("the program that asks from inside a container is missing; it belongs beside vaiven: %w",
			err)
	}
	sum := sha256.Sum256(data)
	tag, err := name.NewTag(relayName+":"+hex.EncodeToString(sum[:6]), name.WithDefaultRegistry(""))
	if err != nil {
		return "", err
	}
	if _, err := s.engine().ImageInspect(ctx, tag.String()); err == nil || !errdefs.IsNotFound(err) {
		return tag.String(), err
	}
	s.removeOldRelays(ctx)
	return tag.String(), Load(ctx, s.engine(), tag, program, "relay")
}

// relayName is what images with a relay are called; their tags say of which program.
const relayName = "vaiven-relay"

// removeOldRelays removes images with relays of other programs, but for those in use.
func (s *site) removeOldRelays(ctx context.Context) {
	list, err := s.engine().ImageList(ctx,
		client.ImageListOptions{Filters: make(client.Filters).Add("reference", relayName)})
	if err != nil {
		return // making ours will say what is wrong
	}
	for _, image := range list.Items {
		_, _ = s.engine().ImageRemove(ctx, image.ID, client.ImageRemoveOptions{}) // refused if it is in use
	}
}

// Load gives an engine an image that consists of one program.
func Load(ctx context.Context, engine *client.Client, tag name.Tag, program, as string) error {
	layer, err := tarball.LayerFromOpener(func() (io.ReadCloser, error) { return packed(program, as) })
	if err != nil {
		return err
	}
	image, err := mutate.AppendLayers(empty.Image, layer)
	if err != nil {
		return err
	}
	r, w := io.Pipe()
	go func() { w.CloseWithError(tarball.Write(tag, image, w)) }()
	answer, err := engine.ImageLoad(ctx, r)
	if err != nil {
		return errors.Join(err, r.Close())
	}
	_, err = io.Copy(io.Discard, answer)
	return errors.Join(err, answer.Close(), r.Close())
}

// packed is a layer with one program at its root.
func packed(program, as string) (io.ReadCloser, error) {
	f, err := os.Open(program)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	r, w := io.Pipe()
	go func() {
		defer f.Close()
		t := tar.NewWriter(w)
		err := t.WriteHeader(&tar.Header{Name: as, Mode: 0o755, Size: info.Size(), Typeflag: tar.TypeReg})
		if err == nil {
			_, err = io.Copy(t, f)
		}
		w.CloseWithError(errors.Join(err, t.Close()))
	}()
	return r, nil
}

// stream is what a command in a container says and is told.
type stream struct {
	io.Reader
	hijacked client.HijackedResponse
	id       string // of the execution
}

func (s *stream) Write(p []byte) (int, error) { return s.hijacked.Conn.Write(p) }

func (s *stream) Close() error {
	s.hijacked.Close()
	return nil
}

// exec starts a command in a container.
func (s *site) exec(ctx context.Context, id string, command place.Command) (*stream, error) {
	var environment []string
	for name, value := range command.Environment {
		environment = append(environment, name+"="+value)
	}
	made, err := s.engine().ExecCreate(ctx, id,
		client.ExecCreateOptions{Cmd: command.Words, Env: environment, AttachStdin: true, AttachStdout: true,
			AttachStderr: true})
	if err != nil {
		return nil, told(err)
	}
	attached, err := s.engine().ExecAttach(ctx, made.ID, client.ExecAttachOptions{})
	if err != nil {
		return nil, told(err)
	}
	r, w := io.Pipe()
	go func() { // until the command or the connection ends
		_, err := stdcopy.StdCopy(w, w, attached.Reader)
		w.CloseWithError(err)
	}()
	return &stream{Reader: r, hijacked: attached.HijackedResponse, id: made.ID}, nil
}

// Run runs a command in the instance's own container, which has to have it.
func (s *site) Run(ctx context.Context, c place.Command) (place.Outcome, error) {
	t, err := s.exec(ctx, s.i.Place, c)
	if err != nil {
		return place.Outcome{}, err
	}
	defer t.Close()
	stop := context.AfterFunc(ctx, func() { _ = t.Close() })
	defer stop()
	_ = t.hijacked.CloseWrite() // nothing is said to it
	var out place.Output
	_, err = io.Copy(&out, t)
	if ctx.Err() != nil {
		return place.Outcome{}, ctx.Err()
	}
	ended, errInspect := s.engine().ExecInspect(ctx, t.id, client.ExecInspectOptions{})
	if errInspect != nil {
		return place.Outcome{}, told(errInspect)
	}
	const notFound, notRunnable = 127, 126
	if code := ended.ExitCode; (code == notFound || code == notRunnable) &&
		strings.Contains(string(out.Bytes()), "exec") {
		return place.Outcome{}, fmt.Errorf("%w: the container has no %s", place.ErrCannot, c.Words[0])
	}
	return place.Outcome{Status: ended.ExitCode, Output: out.Bytes()}, err
}

// ReadFile reads a file of the container.
func (s *site) ReadFile(ctx context.Context, path string) ([]byte, error) {
	found, err := s.engine().CopyFromContainer(ctx, s.i.Place, client.CopyFromContainerOptions{SourcePath: path})
	if err != nil {
		return nil, told(err)
	}
	defer found.Content.Close()
	t := tar.NewReader(found.Content)
	header, err := t.Next()
	if err != nil {
		return nil, err
	}
	if header.Typeflag != tar.TypeReg {
		return nil, fmt.Errorf("%s is no file", path)
	}
	return place.Limited(t, path)
}

// Close takes the relay away. An engine that hangs is not waited for: the relay ends by
// itself, and goes with its side.
func (s *site) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.removeRelay(context.Background())
}

func (s *site) removeRelay(ctx context.Context) error {
	if s.relay == "" {
		return nil
	}
	id := s.relay
	s.relay = ""
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), stack.ReadLimit)
	defer cancel()
	_, err := s.engine().ContainerRemove(ctx, id, client.ContainerRemoveOptions{Force: true})
	if errdefs.IsNotFound(err) || err != nil && strings.Contains(err.Error(), "already in progress") {
		return nil
	}
	return told(err)
}
