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
	done  chan struct{}   // closed when it is in force, or has failed
	err   error           // then
	next  *reload         // nil if nobody waits for another
}

// shareLimit is how long the reload that goes on is waited for: one that hangs holds up nobody.
const shareLimit = 250 * time.Millisecond

// reload has the server do a reload that begins after this call, alone or with other services' files, and waits until
// it is in force. A file's own reload is waited for by none: a going home overtakes the change before it.
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
		f.Server.Begin(ctx)
		return f.inForce(ctx)
	case now.next == nil:
		now.next = newReload(f)
		go now.next.after(context.WithoutCancel(ctx), now, key, f)
	default:
		now.next.files[f.Path] = f
	}
	r := now.next
	reloads.Unlock()
	select {
	case <-r.done:
		return r.err
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

func newReload(f File) *reload {
	return &reload{files: map[string]File{f.Path: f}, done: make(chan struct{})}
}

func (r *reload) has(f File) bool {
	_, ok := r.files[f.Path]
	return ok
}

// after runs it when the one before has ended, or hangs.
func (r *reload) after(ctx context.Context, before *reload, key string, f File) {
	select {
	case <-before.done:
	case <-time.After(shareLimit):
	}
	ctx, cancel := context.WithTimeout(ctx, confirmLimit)
	defer cancel()
	r.run(ctx, key, f)
}

// run does it, by the server of one of the files. Who comes from now on waits for the next one.
func (r *reload) run(ctx context.Context, key string, f File) {
	reloads.Lock()
	reloads.by[key] = r
	var begins sync.WaitGroup
	for _, one := range r.files {
		begins.Go(func() { one.Server.Begin(ctx) })
	}
	reloads.Unlock()
	begins.Wait()
	r.err = f.inForce(ctx)
	reloads.Lock()
	defer reloads.Unlock()
	if reloads.by[key] == r && r.next == nil {
		delete(reloads.by, key)
	}
	close(r.done)
}

// inForce has the server load what is in place, and waits until it serves by that. Workers that have come since are
// not enough where another reload went on when this one was told, by whomever: they may be of that, which has read
// what was in place before. Those that come after them are, whoever told the server, and if none do it is told once
// more.
func (f File) inForce(ctx context.Context) error {
	before, err := f.Server.Running(ctx)
	if err == nil {
		err = f.Server.Reload(ctx)
	}
	if err != nil {
		return err
	}
	// sure is that a reload which shows after before has read what is in place, and told that one was told since.
	for sure, told := before.Idle, true; ; {
		now, err := f.Server.Running(ctx)
		switch fresh := err == nil && f.Server.Fresh(before, now); {
		case err != nil:
			return err
		case sure && fresh:
			return nil
		case now.Idle && !(sure && told):
			before, sure, told = now, true, true
			f.Server.Begin(ctx)
			if err := f.Server.Reload(ctx); err != nil {
				return err
			}
		case !sure && fresh:
			before, sure, told = now, true, false
			f.Server.Begin(ctx)
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the workers from before the reload still serve: %w", context.Cause(ctx))
		case <-time.After(5 * time.Millisecond):
		}
	}
}
