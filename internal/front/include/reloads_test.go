package include

import (
	"context"
	"maps"
	"strconv"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"vaiven/internal/world/place"
)

// parent is the process that servers' drivers tell to reload. It reads the files when it begins, and a while later
// other workers serve by them; what it is told meanwhile it does once after that.
type parent struct {
	mu      sync.Mutex
	takes   time.Duration
	put     map[string]int // the versions in place, by file
	inForce map[string]int
	going   bool
	again   bool // it was told while it was at it
	refuses bool // what is in place
	loads   int
	told    int
	begun   int // how many have noted what there is before one
}

// tell is a signal.
func (p *parent) tell() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.told++; p.going {
		p.again = true
		return
	}
	p.start()
}

func (p *parent) start() {
	p.going, p.again = true, false
	read, taken := maps.Clone(p.put), !p.refuses
	time.AfterFunc(p.takes, func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.going = false; taken {
			p.loads, p.inForce = p.loads+1, read
		}
		if p.again {
			p.start()
		}
	})
}

// change puts a file in place and has it loaded.
func (p *parent) change(ctx context.Context, f File) error {
	p.mu.Lock()
	p.put[f.Path]++
	wants := p.put[f.Path]
	p.mu.Unlock()
	err := f.reload(ctx)
	p.mu.Lock()
	defer p.mu.Unlock()
	if err == nil && p.inForce[f.Path] < wants {
		return errFake
	}
	return err
}

// service is a driver of its own for one of the files.
type service struct {
	fake
	parent *parent
}

func (s *service) Begin(context.Context) {
	s.parent.mu.Lock()
	defer s.parent.mu.Unlock()
	s.parent.begun++
}

func (s *service) Reload(context.Context) error {
	s.parent.tell()
	return nil
}

func (s *service) Running(context.Context) (Running, error) {
	s.parent.mu.Lock()
	defer s.parent.mu.Unlock()
	return Running{Workers: []place.Process{{PID: strconv.Itoa(s.parent.loads)}}, Idle: !s.parent.going}, nil
}

// behind are files of services that are behind one parent. Those of different processes share nothing.
func behind(n int, takes time.Duration, processes ...string) (*parent, []File) {
	p := &parent{takes: takes, put: map[string]int{}}
	var files []File
	for k := range n {
		main := "/etc/ferries.conf"
		if len(processes) > 0 {
			main = processes[k%len(processes)]
		}
		files = append(files, File{On: place.Local{}, Path: "/etc/ferries/" + strconv.Itoa(k),
			Server: &service{fake: fake{main: main}, parent: p}})
	}
	return p, files
}

// Services behind one server that change together share a reload, which begins when all of them have changed.
func TestReloadsAreShared(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p, files := behind(20, 100*time.Millisecond)
		for range 3 {
			at := time.Now()
			p.told, p.begun = 0, 0
			var all sync.WaitGroup
			for _, f := range files {
				all.Go(func() {
					if err := p.change(t.Context(), f); err != nil {
						t.Error(err)
					}
				})
			}
			all.Wait()
			if took := time.Since(at); p.told != 2 || took > 220*time.Millisecond {
				t.Errorf("%d reloads in %v", p.told, took)
			}
			if p.begun != 20 {
				t.Errorf("%d of 20 have noted what there was", p.begun)
			}
		}
	})
}

// What another process has had reloaded a moment before is not taken for what was told, whether the own reload comes
// to something or not.
func TestAReloadOfSomebodyElse(t *testing.T) {
	for late := range 12 {
		synctest.Test(t, func(t *testing.T) {
			p, files := behind(8, 50*time.Millisecond, "/etc/one.conf", "/etc/another.conf", "/etc/a/third.conf")
			p.tell()
			time.Sleep(time.Duration(late) * 5 * time.Millisecond)
			var all sync.WaitGroup
			for n, f := range files {
				all.Go(func() {
					time.Sleep(time.Duration(n) * 7 * time.Millisecond)
					if err := p.change(t.Context(), f); err != nil {
						t.Errorf("%s, %d: %v", f.Path, late, err)
					}
				})
			}
			all.Wait()
			p.tell()
			p.mu.Lock()
			p.refuses = true
			p.mu.Unlock()
			ctx, cancel := context.WithTimeout(t.Context(), time.Second)
			defer cancel()
			if err := p.change(ctx, files[0]); err == nil {
				t.Error("a reload that came to nothing is in force")
			}
		})
	}
}

// Many processes that change at once do not make a reload each, one after the other.
func TestReloadsOfManyProcesses(t *testing.T) {
	for late := range 12 {
		synctest.Test(t, func(t *testing.T) {
			var processes []string
			for n := range 20 {
				processes = append(processes, "/etc/"+strconv.Itoa(n)+".conf")
			}
			p, files := behind(20, 50*time.Millisecond, processes...)
			var all sync.WaitGroup
			for n, f := range files {
				all.Go(func() {
					time.Sleep(time.Duration(n*late) * time.Millisecond / 3)
					if err := p.change(t.Context(), f); err != nil {
						t.Errorf("%s, %d: %v", f.Path, late, err)
					}
				})
			}
			all.Wait()
			if p.loads > 6 {
				t.Errorf("%d reloads, a third of %d ms apart", p.loads, late)
			}
		})
	}
}

// One that hangs holds up no other service for long, and a file's own is waited for by none.
func TestAReloadThatHangs(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p, files := behind(3, time.Hour)
		ctx, cancel := context.WithCancel(t.Context())
		var all sync.WaitGroup
		told := func(want int, what string) {
			t.Helper()
			synctest.Wait()
			p.mu.Lock()
			defer p.mu.Unlock()
			if p.told != want {
				t.Errorf("%s it is told %d times, and %d are wanted", what, p.told, want)
			}
		}
		all.Go(func() { _ = p.change(ctx, files[0]) })
		synctest.Wait()
		all.Go(func() { _ = p.change(ctx, files[0]) })
		told(2, "by a going home that does not wait")
		all.Go(func() { _ = p.change(ctx, files[1]) })
		all.Go(func() { _ = p.change(ctx, files[2]) })
		time.Sleep(shareLimit)
		told(3, "by two together")
		cancel()
		all.Wait()
		time.Sleep(2 * time.Hour) // the one that they share, and the parent
	})
}
