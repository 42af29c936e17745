package include

import (
	"context"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"vaiven/internal/world/place"
)

// busy is a server whose reloads take their time.
type busy struct {
	fake
	takes   time.Duration
	reloads *atomic.Int32
	begun   *atomic.Int32 // how many have noted what there is before one
}

func (b *busy) Begin(context.Context) { b.begun.Add(1) }

func (b *busy) Reload(ctx context.Context) error {
	b.reloads.Add(1)
	select {
	case <-time.After(b.takes):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// behind are files of services that are behind one server, each as its own driver has it.
func behind(n int, takes time.Duration) (files []File, reloads, begun *atomic.Int32) {
	reloads, begun = new(atomic.Int32), new(atomic.Int32)
	for k := range n {
		files = append(files, File{On: place.Local{}, Path: "/etc/ferries/" + string(rune('a'+k)) + ".conf",
			Server: &busy{fake: fake{main: "/etc/ferries.conf"}, takes: takes, reloads: reloads, begun: begun}})
	}
	return files, reloads, begun
}

// Services behind one server that change together share a reload, which begins when all of them have changed.
func TestReloadsAreShared(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		files, reloads, begun := behind(20, 100*time.Millisecond)
		for range 3 {
			at := time.Now()
			var all sync.WaitGroup
			for _, f := range files {
				all.Go(func() {
					if err := f.reload(t.Context()); err != nil {
						t.Error(err)
					}
				})
			}
			all.Wait()
			if n, took := reloads.Swap(0), time.Since(at); n != 2 || took > 200*time.Millisecond {
				t.Errorf("%d reloads in %v", n, took)
			}
			if n := begun.Swap(0); n != 20 {
				t.Errorf("%d of 20 have noted what there was", n)
			}
		}
	})
}

// One that hangs holds up no other service for long, and a file's own is waited for by none.
func TestAReloadThatHangs(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		files, reloads, _ := behind(3, time.Hour)
		ctx, cancel := context.WithCancel(t.Context())
		var all sync.WaitGroup
		all.Go(func() { _ = files[0].reload(ctx) })
		synctest.Wait()
		all.Go(func() { _ = files[0].reload(ctx) })
		synctest.Wait()
		if n := reloads.Load(); n != 2 {
			t.Errorf("a going home waits for the reload before it: %d reloads", n)
		}
		all.Go(func() { _ = files[1].reload(ctx) })
		all.Go(func() { _ = files[2].reload(ctx) })
		time.Sleep(shareLimit)
		synctest.Wait()
		if n := reloads.Load(); n != 4 {
			t.Errorf("after %v there are %d reloads, and 4 are wanted", shareLimit, n)
		}
		cancel()
		all.Wait()
		time.Sleep(time.Minute) // the one that they would have shared
	})
}
