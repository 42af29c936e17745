package container

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/containerd/errdefs"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/stack"
)

// labelImageVersion is the label in which images say their version (OCI image specification).
const labelImageVersion = "org.opencontainers.image.version"

// Foreign are containers that somebody else started, as instances of a side: those with all of some labels,
// each NAME=VALUE, or the one with a name. They listen at the plan's port. One that is not there is one that
// does not run.
func (d *Driver) Foreign(ctx context.Context, side split.Side, name string, labels []string) ([]reading.Instance,
	error) {
	ctx, cancel := context.WithTimeout(ctx, stack.ReadLimit)
	defer cancel()
	ids := []string{name}
	if len(labels) > 0 {
		filters := make(client.Filters)
		for _, label := range labels {
			filters = filters.Add("label", label)
		}
		list, err := d.engines[side].ContainerList(ctx, client.ContainerListOptions{All: true, Filters: filters})
		if err != nil {
			return nil, fmt.Errorf("list containers: %w", told(err))
		}
		ids = nil
		for _, item := range list.Items {
			if item.Labels[labelRelay] == "" {
				ids = append(ids, item.ID)
			}
		}
	}
	var instances []reading.Instance
	var failed []error
	for _, id := range ids {
		found, err := d.engines[side].ContainerInspect(ctx, id, client.ContainerInspectOptions{})
		switch {
		case errdefs.IsNotFound(err) && len(labels) > 0:
			continue // gone meanwhile
		case errdefs.IsNotFound(err):
			instances = append(instances,
				reading.Instance{Name: id, Part: d.part.Name, Side: side, Place: id,
					Exit: "there is no such container"})
			continue
		case err != nil:
			failed = append(failed, fmt.Errorf("container %s: %w", id, told(err)))
			continue
		}
		instances = append(instances, d.foreign(ctx, side, found.Container))
	}
	slices.SortFunc(instances, stack.Compare)
	return instances, errors.Join(failed...)
}

// foreign is one of those.
func (d *Driver) foreign(ctx context.Context, side split.Side, c container.InspectResponse) reading.Instance {
	name := strings.TrimPrefix(c.Name, "/")
	i := reading.Instance{Name: name, Part: d.part.Name, Side: side, Place: name, Build: c.Image,
		Running: c.State.Running}
	i.Started, _ = time.Parse(time.RFC3339Nano, c.State.StartedAt) // zero if it never was
	host := "127.0.0.1"                                            // of one in the host's network
	for _, n := range c.NetworkSettings.Networks {
		if n.IPAddress.IsValid() {
			host = n.IPAddress.String()
		}
	}
	i.Address = net.JoinHostPort(host, strconv.Itoa(d.part.Stacks[side].Port))
	if i.Version = c.Config.Labels[labelImageVersion]; i.Version == "" {
		if at := strings.LastIndex(c.Config.Image, ":"); at > strings.LastIndex(c.Config.Image, "/") &&
			!strings.Contains(c.Config.Image, "@") && c.Config.Image[at+1:] != "latest" {
			i.Version = c.Config.Image[at+1:]
		}
	}
	if !i.Running {
		i.Exit = exitWords(c.State)
	}
	i.Output, _ = d.output(ctx, side, c.ID) // it is there all the same
	return i
}
