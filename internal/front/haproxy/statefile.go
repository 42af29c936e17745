package haproxy

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"time"

	"vaiven/internal/world/place"
)

// The server state file has all servers of HAProxy, also those of other services, whose processes change them at the
// same moment. Vaiven therefore writes the file after each change, as HAProxy shows its servers then, under a lock that
// all processes and users share. It never writes what it read before the change.

// stateLimit bounds writing the state file beside a rollback, which does not wait for it.
const stateLimit = 30 * time.Second

// keepState writes the state file as HAProxy shows its servers now. It does nothing where the plan has none.
func (d *Driver) keepState(ctx context.Context) error {
	file := d.config.StateFile
	if file == "" {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, stateLimit)
	defer cancel()
	unlock, err := d.on.Lock(ctx, file+".lock")
	if err != nil {
		return fmt.Errorf("lock the state file: %w", err)
	}
	defer unlock()
	said, err := d.ask(ctx, "show servers state")
	if err != nil {
		return err
	}
	now, err := parseState(said)
	if err != nil {
		return err
	}
	data := now.with(nil)
	if before, err := d.on.ReadFile(ctx, file); err == nil && bytes.Equal(before, data) {
		return nil
	}
	next, err := d.slot(ctx, file).Candidate(ctx, data)
	if err != nil {
		return err
	}
	return kept{{Candidate: next}}.put(ctx)
}

// slot is where a file is replaced, with the mode that it has.
func (d *Driver) slot(ctx context.Context, file string) place.Slot {
	mode := fs.FileMode(0o644)
	if info, err := d.on.Stat(ctx, file); err == nil {
		mode = info.Mode().Perm()
	}
	return place.Slot{On: d.on, Path: file, Mode: mode}
}

// compareEvery is how often the state file is compared with what HAProxy shows.
const compareEvery = 2 * time.Second

// compareState looks, at a reading, whether a reload would bring back what is in force. If not, it writes the file
// again, and says so if that fails. A process that may not write the file leaves that to the keeper.
func (d *Driver) compareState(ctx context.Context, s state) {
	if d.config.StateFile == "" {
		return
	}
	d.mu.Lock()
	due := time.Since(d.compared) >= compareEvery
	if due {
		d.compared = time.Now()
	}
	d.mu.Unlock()
	if !due {
		return
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), stateLimit)
	d.lasting.Go(func() {
		defer cancel()
		text, err := d.on.ReadFile(ctx, d.config.StateFile)
		if err == nil {
			if file, errForm := parseState(string(text)); errForm == nil && d.sameState(file, s.raw) {
				return
			}
		} else if !errors.Is(err, fs.ErrNotExist) {
			return // a change says so, and is refused
		}
		if err := d.keepState(ctx); err != nil && !errors.Is(err, fs.ErrPermission) {
			d.say(fmt.Sprintf("a reload of HAProxy would undo the split, because %s does not have it: %v",
				d.config.StateFile, err))
		}
	})
}

// sameState reports whether two tables say the same of our servers, as far as a reload brings it back.
func (d *Driver) sameState(one, other table) bool {
	ours := func(t table) map[string]string {
		list := map[string]string{}
		for _, row := range t.rows {
			backend := t.text(row, "be_name")
			if backend == d.config.Backends[0] || backend == d.config.Backends[1] {
				list[backend+"/"+t.text(row, "srv_name")] = fmt.Sprint(t.text(row, "srv_uweight"),
					t.text(row, "srv_admin_state"), t.text(row, "srv_addr"), t.text(row, "srv_port"))
			}
		}
		return list
	}
	return maps.Equal(ours(one), ours(other))
}
