package cluster

import (
	"context"
	"slices"
	"sync"
	"time"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/watch"
)

// The pauses before a watch that could not begin is tried again.
const (
	firstPause = 100 * time.Millisecond
	mostPause  = 2 * time.Second
)

// Watched are objects that are followed.
type Watched struct {
	Of     schema.GroupVersionResource
	Labels string // "" for all
}

// follow tells of every change of what is watched, and whether the watch stands, until the context ends. One that
// breaks goes on where it was; where the server has forgotten that, it begins anew. As something may have been missed
// then, that it stands again is told like a change.
func (c *Client) follow(ctx context.Context, w Watched, tell func(stands bool)) {
	from, pause := "", firstPause
	for ctx.Err() == nil {
		changes, err := c.api.Resource(w.Of).Namespace(c.Namespace).Watch(ctx,
			metav1.ListOptions{LabelSelector: w.Labels, ResourceVersion: from, AllowWatchBookmarks: true})
		if err != nil {
			from = ""
			select {
			case <-time.After(pause):
			case <-ctx.Done():
			}
			pause = min(2*pause, mostPause)
			continue
		}
		tell(true)
		for e := range changes.ResultChan() {
			if e.Type == watch.Error {
				from = ""
				break
			}
			if o, ok := e.Object.(*unstructured.Unstructured); ok {
				from, pause = o.GetResourceVersion(), firstPause
			}
			if e.Type != watch.Bookmark {
				tell(true)
			}
		}
		changes.Stop()
		tell(false)
		select { // one that breaks at once is not begun over and over
		case <-time.After(firstPause):
		case <-ctx.Done():
		}
	}
}

// again is how long between two looks, where no watch tells of a change.
const again = time.Second

// Until looks whether something is so, whenever what is watched has changed, until it is, or looking fails for good.
// At the end of the context its error is the context's cause.
func (c *Client) Until(ctx context.Context, so func() (bool, error), watched ...Watched) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	changed := make(chan struct{}, 1)
	for _, w := range watched {
		go c.follow(ctx, w, func(bool) {
			select {
			case changed <- struct{}{}:
			default:
			}
		})
	}
	for {
		if done, err := so(); done || err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-changed:
		case <-time.After(again):
		}
	}
}

// What is kept is read anew after a while in any case, as a watch can be silent without being whole, and is watched
// for as long as somebody asks for it.
const (
	keptFor = 10 * time.Second
	idle    = 10 * time.Second
)

// Kept is what was read of objects, for as long as watches tell of no change of them. The zero value has read
// nothing. It is safe for concurrent use.
type Kept[T any] struct {
	mu       sync.Mutex // protects what follows
	value    T
	until    time.Time // when it is read anew; zero if there is nothing
	turn     uint64    // one more whenever something has changed, or may have: what is being read meanwhile is not kept
	watching *watching // nil if nobody is
}

// watching is what is watched at a time.
type watching struct {
	by     *Client
	cancel context.CancelFunc
	stands []bool // each of the watches
	end    *time.Timer
}

// Get is what was read, if watches stand and have told of no change since, and else what read returns. The watches
// are always the same ones.
func (k *Kept[T]) Get(c *Client, read func() (T, error), watched ...Watched) (T, error) {
	k.mu.Lock()
	if !slices.Contains(k.watch(c, watched), false) && time.Now().Before(k.until) {
		defer k.mu.Unlock()
		return k.value, nil
	}
	turn := k.turn
	k.mu.Unlock()
	value, err := read()
	k.mu.Lock()
	defer k.mu.Unlock()
	if err == nil && turn == k.turn {
		k.value, k.until = value, time.Now().Add(keptFor)
	}
	return value, err
}

// Forget has the next Get read, and what is being read now not be kept: whoever changes something himself does not
// wait for a watch to tell of it.
func (k *Kept[T]) Forget() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.changed()
}

// changed takes in that something may have changed. The caller holds the lock.
func (k *Kept[T]) changed() { k.turn, k.until = k.turn+1, time.Time{} }

// watch sees to it that somebody watches for a while, and returns which watches stand. The caller holds the lock.
func (k *Kept[T]) watch(c *Client, watched []Watched) []bool {
	if w := k.watching; w != nil && w.end.Stop() {
		if w.by == c {
			w.end.Reset(idle)
			return w.stands
		}
		w.cancel()
	}
	ctx, cancel := context.WithCancel(context.Background())
	w := &watching{by: c, cancel: cancel, stands: make([]bool, len(watched))}
	w.end = time.AfterFunc(idle, func() {
		cancel()
		k.mu.Lock()
		defer k.mu.Unlock()
		if k.watching == w {
			k.watching = nil
			k.changed()
		}
	})
	k.watching = w
	k.changed()
	for n, one := range watched {
		go c.follow(ctx, one, func(stands bool) {
			k.mu.Lock()
			defer k.mu.Unlock()
			w.stands[n] = stands
			k.changed()
		})
	}
	return w.stands
}
