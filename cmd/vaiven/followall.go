package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"vaiven/internal/keeper"
	"vaiven/internal/people/headless"
)

// followAll prints what happens in all services of a folder or a fleet, as it happens, until it is ended.
func followAll(cmd *cobra.Command, path string) error {
	list, err := servicesAt(cmd.Context(), path)
	if err != nil {
		return err
	}
	wide := 0
	for _, m := range list {
		wide = max(wide, len(m.name()))
	}
	var mu sync.Mutex // held by who prints
	var services sync.WaitGroup
	for _, m := range list {
		services.Go(func() {
			prefix := fmt.Sprintf("%-*s  ", wide, m.name())
			followMember(cmd, m, &prefixed{mu: &mu, to: cmd.OutOrStdout(), prefix: prefix})
		})
	}
	services.Wait()
	return nil
}

// followMember prints what happens in one of them. A keeper that does not run is waited for.
func followMember(cmd *cobra.Command, m member, w io.Writer) {
	from, silent := uint64(keeper.FromNow), false
	for ctx := cmd.Context(); ctx.Err() == nil; {
		k, err := reach(cmd, m.file, false, false)
		if err == nil {
			from, silent, err = followed(ctx, k, from, w), false, k.Close()
		}
		if err != nil && !silent && ctx.Err() == nil {
			what, _, _ := strings.Cut(err.Error(), "\n")
			fmt.Fprintln(w, what)
			silent = true
		}
		headless.Pause(ctx, headless.LookAgain)
	}
}

// followed prints the events after one, until no more come, and returns the number of the last.
func followed(ctx context.Context, k *kept, from uint64, w io.Writer) (last uint64) {
	s, err := k.View(ctx)
	if err != nil {
		return from
	}
	emit := emitter(w, output{}, s.Crossing)
	for e := range k.Events(ctx, from) {
		if emit(e) != nil {
			return from
		}
		from = e.Seq
	}
	return from
}

// prefixed writes lines with something before each, a whole line at a time.
type prefixed struct {
	mu     *sync.Mutex
	to     io.Writer
	prefix string
	rest   []byte
}

func (p *prefixed) Write(data []byte) (int, error) {
	p.rest = append(p.rest, data...)
	for {
		n := bytes.IndexByte(p.rest, '\n')
		if n < 0 {
			return len(data), nil
		}
		p.mu.Lock()
		_, err := fmt.Fprintf(p.to, "%s%s", p.prefix, p.rest[:n+1])
		p.mu.Unlock()
		if p.rest = p.rest[n+1:]; err != nil {
			return 0, err
		}
	}
}
