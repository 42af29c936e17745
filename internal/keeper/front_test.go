package keeper

import (
	"testing"

	"vaiven/internal/front"
	"vaiven/lab/fronttest"
)

// The front that the keeper's tests have keeps the rules that real ones keep.
func TestTheWorldsFront(t *testing.T) {
	for name, compares := range map[string]bool{"one that compares": true, "one that cannot": false} {
		t.Run(name, func(t *testing.T) {
			fronttest.Rules(t, func(*testing.T) func() front.Driver {
				w := newWorld()
				w.compares = compares
				return func() front.Driver { return worldFront{w} }
			})
		})
	}
}
