package front_test

import (
	"context"
	"errors"
	"path/filepath"
	"testing"
	"testing/synctest"
	"time"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/lab/placetest"
)

// A disk that is slow is waited for by who changes something, and not by who goes home.
func TestASlowOrderFile(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		there := &placetest.Elsewhere{Root: t.TempDir()}
		slow := time.Duration(0)
		there.Before = func(string, string) error {
			time.Sleep(slow)
			return nil
		}
		m := front.NewOrderFile(there, filepath.Join(there.Root, "order"))
		slow = time.Second
		if _, err := m.Read(t.Context()); err != nil {
			t.Errorf("a change: %v", err)
		}
		slow = time.Minute
		if _, err := m.Read(t.Context()); !errors.Is(err, context.DeadlineExceeded) {
			t.Errorf("a change, of a disk that hangs: %v", err)
		}
		begun := time.Now()
		o, _ := m.Raise(front.Homing{Side: split.Blue, By: "marit"}, begun)
		if o.Generation != 1 || m.Known().Generation != 1 {
			t.Errorf("home with a disk that hangs: %+v", o)
		}
		slow = 0
		time.Sleep(2 * time.Minute) // what was left behind comes through
	})
}
