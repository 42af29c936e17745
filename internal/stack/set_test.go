package stack

import (
	"context"
	"errors"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
)

// part is a driver in memory.
type part struct {
	name   string
	raised Build
	err    error
}

func (p *part) Raise(_ context.Context, _ split.Side, b Build) error {
	p.raised = b
	return p.err
}

func (p *part) List(context.Context, split.Side) ([]reading.Instance, error) {
	return []reading.Instance{{Name: "green-" + p.name, Part: p.name, Side: split.Green, Exit: "died of sea salt",
		Output: []string{"password is sea salt"}}}, p.err
}
func (p *part) Stop(context.Context, split.Side) error { return p.err }

func (p *part) Place(context.Context, reading.Instance) (place.Place, error) {
	return place.Local{Dir: p.name}, nil
}

func (p *part) Describe(context.Context, reading.Instance) (Description, error) {
	return Description{Command: []string{p.name}}, nil
}

func TestASetIsAllPartsAtOnce(t *testing.T) {
	t.Setenv("FARES_PASSWORD", "sea salt")
	secrets, err := secret.Read(map[string]plan.Secret{"fares": {Env: "FARES_PASSWORD"}})
	if err != nil {
		t.Fatal(err)
	}
	web, worker := &part{name: "web"}, &part{name: "worker"}
	s := NewSet(&plan.Plan{Parts: []plan.Part{{Name: "web"}, {Name: "worker"}}}, secrets,
		[][2]Driver{{web, web}, {worker, worker}})
	if err := s.Raise(t.Context(), split.Green, map[string]Build{"web": {Version: "1"}}); err == nil ||
		!strings.Contains(err.Error(), "worker: no version was chosen") {
		t.Errorf("a part without a build: %v", err)
	}
	if err := s.Raise(t.Context(), split.Green,
		map[string]Build{"web": {Version: "1"}, "worker": {Version: "2"}}); err != nil || worker.raised.Version != "2" {
		t.Errorf("worker is raised at %+v, %v", worker.raised, err)
	}
	worker.err = errors.New("no host")
	list, err := s.List(t.Context(), split.Green)
	if err == nil || !strings.Contains(err.Error(), "worker: no host") || len(list) != 2 {
		t.Errorf("what could be listed is there beside the error: %+v, %v", list, err)
	}
	for _, i := range list {
		if strings.Contains(i.Exit+i.Output[0], "salt") {
			t.Errorf("a secret is shown: %+v", i)
		}
	}
	if from, err := s.Place(t.Context(), list[1]); err != nil || from.(place.Local).Dir != "worker" {
		t.Errorf("the place of %s is %+v, %v", list[1].Name, from, err)
	}
	if about, err := s.Describe(t.Context(), list[0]); err != nil || about.Command[0] != "web" {
		t.Errorf("described as %+v, %v", about, err)
	}
	if _, err := s.Place(t.Context(), reading.Instance{Part: "ghost"}); err == nil {
		t.Error("a part that the plan does not have has a place")
	}
	if err := s.Stop(t.Context(), split.Green); err == nil || !strings.Contains(err.Error(), "worker") {
		t.Errorf("stop: %v", err)
	}
}

// late is a driver that hangs for an hour, whatever its context says.
type late struct{ part }

func (*late) List(context.Context, split.Side) ([]reading.Instance, error) {
	time.Sleep(time.Hour)
	return nil, nil
}

func (*late) Stop(context.Context, split.Side) error {
	time.Sleep(time.Hour)
	return nil
}

func (*late) Raise(context.Context, split.Side, Build) error {
	time.Sleep(time.Hour)
	return nil
}

// One part that hangs holds up nobody for longer than the context lasts, and hides no other.
func TestAPartThatHangs(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		begun := time.Now()
		web, worker := &part{name: "web"}, &late{part{name: "worker"}}
		s := NewSet(&plan.Plan{Parts: []plan.Part{{Name: "web"}, {Name: "worker"}}}, secret.Values{},
			[][2]Driver{{web, web}, {worker, worker}})
		list, err := s.List(ctx, split.Green)
		if !errors.Is(err, ErrUnreachable) || !strings.Contains(err.Error(), "worker: ") || len(list) != 1 ||
			list[0].Name != "green-web" {
			t.Errorf("listed %+v, %v", list, err)
		}
		if took := time.Since(begun); took > 10*time.Second+patience {
			t.Errorf("it took %v", took)
		}
		for what, err := range map[string]error{
			"raise": s.Raise(ctx, split.Green, map[string]Build{"web": {Version: "1"}, "worker": {Version: "1"}}),
			"stop":  s.Stop(ctx, split.Green),
		} {
			if !errors.Is(err, ErrUnreachable) {
				t.Errorf("%s: %v", what, err)
			}
		}
		if took := time.Since(begun); took > 10*time.Second+3*patience {
			t.Errorf("after the context's end it took %v more", took-10*time.Second)
		}
		time.Sleep(2 * time.Hour) // until what was left behind has ended
	})
}

// A turn is not waited for any longer than a context lasts.
func TestATurn(t *testing.T) {
	turn := place.NewTurn()
	if err := turn.Take(t.Context()); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	waiting := make(chan error, 1)
	go func() { waiting <- turn.Take(ctx) }()
	cancel()
	if err := <-waiting; !errors.Is(err, context.Canceled) {
		t.Errorf("waiting ended with %v", err)
	}
	turn.Give()
	if err := turn.Take(t.Context()); err != nil {
		t.Errorf("given back it is not there: %v", err)
	}
}
