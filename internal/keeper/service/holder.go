package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"syscall"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/keeper/api"
	"vaiven/internal/stack/process"
	"vaiven/internal/world/state"
)

// heldAs is what stands in the keeper's lock: who holds it, in words, and by which process.
func heldAs(by string) string {
	text := fmt.Sprintf("%s, process %d\n", by, os.Getpid())
	id, err := process.Identify(os.Getpid())
	if err != nil {
		return text
	}
	data, err := json.Marshal(id)
	if err != nil {
		return text
	}
	return text + string(data) + "\n"
}

// Holder is who holds the keeper's lock.
type Holder struct {
	Text  string        // in words: "marit, process 4711"
	ID    process.ID    // zero if it is not known
	Still time.Duration // since when it has not gone round
	// when it last said that it does, by the file's clock
	Touched time.Time
}

// Holding is who holds a plan's lock as the lock says, whoever's the folder is; zero if that is not known. It may have
// let go of it: whether its process runs is to be asked of [Holder.ID]. The lock is not touched.
func Holding(p *plan.Plan) Holder {
	in, err := state.Visit(p.State)
	if err != nil {
		return Holder{}
	}
	defer in.Close()
	return named(in)
}

// AskRunning asks a plan's keeper, or its standby, what it is, whoever's it is.
func AskRunning(ctx context.Context, p *plan.Plan) (api.Info, error) {
	in, err := state.Visit(p.State)
	if err != nil {
		return api.Info{}, err
	}
	defer in.Close()
	c := dial(in, api.Config{By: "vaiven", Alone: true})
	defer c.Close()
	return asked(ctx, c)
}

// holderOf reads who holds the lock, and false if nobody does.
func holderOf(in *state.Folder) (Holder, bool) {
	if unlock, err := tryLock(in); err == nil {
		_ = unlock()
		return Holder{}, false
	}
	return named(in), true
}

// named is whom the lock names.
func named(in *state.Folder) Holder {
	data, _ := in.ReadFile(plan.LockIn)
	first, rest, _ := strings.Cut(string(data), "\n")
	h := Holder{Text: strings.TrimSpace(first)}
	_ = json.Unmarshal([]byte(rest), &h.ID) // of an older Vaiven: none
	if info, err := os.Stat(in.Path(plan.LockIn)); err == nil {
		h.Touched = info.ModTime() // it is touched with every beat
		h.Still = time.Since(h.Touched)
	}
	return h
}

// beat says in the lock that the keeper's loop goes round.
func beat(in *state.Folder) {
	now := time.Now()
	_ = os.Chtimes(in.Path(plan.LockIn), now, now) // it only informs
}

// ErrHangs is wrapped where a keeper does not answer, and may be ended.
var ErrHangs = errors.New("the keeper hangs")

// endedLimit is how long the kernel is waited for to end a process.
const endedLimit = 5 * time.Second

// EndHanging ends the keeper that holds a plan's lock if it does not answer: by the process that the lock names, with
// the start that it names, and by no other. It says whom it has ended. Nothing of what that one knew is left but the
// logbook.
func EndHanging(ctx context.Context, p *plan.Plan) (Holder, error) {
	in, err := state.Look(p.State)
	if errors.Is(err, fs.ErrNotExist) {
		return Holder{}, nil
	}
	if err != nil {
		return Holder{}, err
	}
	defer in.Close()
	h, held := holderOf(in)
	if !held {
		return h, nil
	}
	c := dial(in, api.Config{By: "vaiven", Alone: true})
	info, err := asked(ctx, c)
	_ = c.Close()
	if err == nil {
		return h, fmt.Errorf("the keeper (%s) answers: --take-over without --force replaces it",
			h.Text+", since "+info.Since.Local().Format("15:04:05"))
	}
	now, err := process.Identify(h.ID.PID)
	switch {
	case h.ID.PID == 0:
		return h, fmt.Errorf("%w (%s), and its lock does not name its process for sure: end it by hand", ErrHangs,
			h.Text)
	case err != nil, now != h.ID:
		return h, fmt.Errorf("%w (%s), and that process is another one by now: look who holds %s", ErrHangs, h.Text,
			in.Path(plan.LockIn))
	}
	if err := syscall.Kill(h.ID.PID, syscall.SIGKILL); err != nil {
		return h, fmt.Errorf("%w (%s), and cannot be ended: %w", ErrHangs, h.Text, err)
	}
	limited, cancel := context.WithTimeout(ctx, endedLimit)
	defer cancel()
	for {
		if unlock, err := tryLock(in); err == nil {
			return h, unlock()
		}
		select {
		case <-limited.Done():
			return h, fmt.Errorf("%w (%s), and has not ended within %v after SIGKILL", ErrHangs, h.Text, endedLimit)
		case <-time.After(passEvery):
		}
	}
}
