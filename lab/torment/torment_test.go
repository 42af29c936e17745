package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"vaiven/lab/testkit"
)

// TestMain is the keeper of a cell, too.
func TestMain(m *testing.M) {
	if len(os.Args) == 3 && os.Args[1] == "-keep" {
		if err := keeps(context.Background(), os.Args[2], os.Stdin, os.Stdout); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	os.Exit(m.Run())
}

// A few cells of the table, so that they are tried with every change: the release goes bad, or somebody is at the
// front.
func TestCells(t *testing.T) {
	dir := t.TempDir()
	if err := testkit.Build(dir, "vaiven/cmd/vaiven", "vaiven/lab/vaiven-demo"); err != nil {
		t.Fatal(err)
	}
	vaiven := filepath.Join(dir, "vaiven")
	for _, c := range []struct {
		cell
		home bool
	}{
		{cell{"embedded", "all errors", atShare, plain}, true},
		{cell{"nginx", "cut in the middle", inKeep, plain}, true},
		{cell{"nginx", reloads, atShare, plain}, false},
	} {
		t.Run(c.String(), func(t *testing.T) {
			if c.Front != "embedded" {
				testkit.Long(t)
			}
			o, err := c.try(t.Context(), vaiven)
			if err != nil {
				t.Fatal(err)
			}
			// A machine that stands still for a while may have called somebody before it went home.
			if got := o.Home > 0; got != c.home || o.WentOn || !c.home && o.Called > 0 {
				t.Errorf("it came to %v: %s", o, o.Why)
			}
		})
	}
}
