package front

import (
	"context"
	"errors"
	"sync"
	"time"
)

// QuietLimit is how long going home waits, once everything is home, for what was sent off
// before it: for changes of its own process, and for the lock of others.
const QuietLimit = 200 * time.Millisecond

// Gate lets the changes of a front that one process makes through one at a time, and going
// home past all of them. The zero value is ready. It is safe for concurrent use.
type Gate struct {
	turn  sync.Once
	token chan struct{} // held by the change that is under way

	mu   sync.Mutex // protects next and ends
	next int
	ends map[int]context.CancelCauseFunc // of the changes that are under way or wait
}

// Change waits for its turn. The context that it returns ends with the given one, and when
// somebody goes home; its cause is then [ErrNewer]. through has to be called when the change
// is.
func (g *Gate) Change(ctx context.Context) (changing context.Context, through func(), err error) {
	g.turn.Do(func() { g.token = make(chan struct{}, 1) })
	changing, end := context.WithCancelCause(ctx)
	g.mu.Lock()
	g.next++
	id := g.next
	if g.ends == nil {
		g.ends = map[int]context.CancelCauseFunc{}
	}
	g.ends[id] = end
	g.mu.Unlock()
	leave := func() {
		g.mu.Lock()
		delete(g.ends, id)
		g.mu.Unlock()
		end(nil)
	}
	select {
	case g.token <- struct{}{}:
	case <-changing.Done():
		leave()
		return nil, nil, context.Cause(changing)
	}
	return changing, func() {
		<-g.token
		leave()
	}, nil
}

// Home ends all changes that are under way or wait. It waits for none of them.
func (g *Gate) Home() {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, end := range g.ends {
		end(ErrNewer)
	}
}

// Quiet waits until no change is under way, and reports whether that is so before the
// context ends. Whoever goes home acts first, and asks this after: what a change had sent
// off already has arrived by then.
func (g *Gate) Quiet(ctx context.Context) bool {
	g.turn.Do(func() { g.token = make(chan struct{}, 1) })
	select {
	case g.token <- struct{}{}:
		<-g.token
		return true
	case <-ctx.Done():
		return false
	}
}

// Because is why a change ended with an error: that somebody went home, if it was. The
// context is that of [Gate.Change].
func Because(changing context.Context, err error) error {
	if cause := context.Cause(changing); err != nil && errors.Is(cause, ErrNewer) {
		return cause
	}
	return err
}
