package include

import (
	"context"
	"fmt"
	"sync"
	"time"
)

// reloads are those that this process has servers do, by server: services behind the same one that change together
// share a reload, as where a side is evacuated. Each reload of a proxy keeps its workers until their last connection
// has ended.
var reloads = struct {
	sync.Mutex
	by map[string]*reload // the one that goes on
}{by: map[string]*reload{}}

// reload is one that goes on, and the one after it.
type reload struct {
	files map[string]File // for which, by path
	done  chan struct{}   // closed when it has ended
	err   error           // then
	next  *reload         // nil if nobody waits for another
}

// shareLimit is how long the reload that goes on is waited for: one that hangs holds up nobody.
const shareLimit = 250 * time.Millisecond

// reload has the server do a reload that begins after this call, alone or with other services' files. A file's own
// reload is waited for by none: a going home overtakes the change before it.
func (f File) reload(ctx context.Context) error {
	main, _ := f.Server.Main()
	key := fmt.Sprintf("%v %T %s", f.On, f.Server, main)
	reloads.Lock()
	now, goes := reloads.by[key]
	switch {
	case !goes:
		r := newReload(f)
		reloads.by[key] = r
		reloads.Unlock()
		r.run(ctx, key, f)
		return r.err
	case main == "", now.has(f):
		reloads.Unlock()
		return f.alone(ctx)
	case now.next == nil:
		now.next = newReload(f)
		go now.next.after(context.WithoutCancel(ctx), now, key, f)
	default:
		now.next.files[f.Path] = f
	}
	r := now.next
	reloads.Unlock()
	hangs := time.NewTimer(shareLimit)
	defer hangs.Stop()
	select {
	case <-now.done:
	case <-hangs.C:
		return f.alone(ctx)
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	select {
	case <-r.done:
		return r.err
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// alone has the server do a reload that is shared with nobody.
func (f File) alone(ctx context.Context) error {
	f.Server.Begin(ctx)
	return f.Server.Reload(ctx)
}

func newReload(f File) *reload {
	return &reload{files: map[string]File{f.Path: f}, done: make(chan struct{})}
}

func (r *reload) has(f File) bool {
	_, ok := r.files[f.Path]
	return ok
}

// after runs it when the one before has ended.
func (r *reload) after(ctx context.Context, before *reload, key string, f File) {
	<-before.done
	ctx, cancel := context.WithTimeout(ctx, confirmLimit)
	defer cancel()
	r.run(ctx, key, f)
}

// run does it, by the server of one of the files, and lets the next one begin.
func (r *reload) run(ctx context.Context, key string, f File) {
	reloads.Lock()
	var begins sync.WaitGroup
	for _, one := range r.files {
		begins.Go(func() { one.Server.Begin(ctx) })
	}
	reloads.Unlock()
	begins.Wait()
	r.err = f.Server.Reload(ctx)
	reloads.Lock()
	defer reloads.Unlock()
	if r.next == nil {
		delete(reloads.by, key)
	} else {
		reloads.by[key] = r.next
	}
	close(r.done)
}
