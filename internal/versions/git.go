package versions

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/raise"
)

// repository has its versions in the tags or on a branch of a git repository. One
// on another machine is fetched into the cache, without its files.
type repository struct {
	where  string
	ref    string // pattern of tags, or the branch
	branch bool
	cache  string

	mu sync.Mutex // held while the cache is fetched into
}

// newestCommits is how many commits of a branch are offered.
const newestCommits = 50

func (r *repository) List(ctx context.Context) ([]raise.Version, error) {
	ctx, cancel := context.WithTimeout(ctx, listLimit)
	defer cancel()
	dir, err := r.here(ctx)
	if err != nil {
		return nil, fmt.Errorf("list versions: %w", err)
	}
	var out []byte
	if r.branch {
		// Hash, time, subject.
		out, err = git(ctx, "-C", dir, "log", "--first-parent", "-n", strconv.Itoa(newestCommits), "--format=%H%x00%H%x00%ct%x00%s", r.ref, "--")
	} else {
		// An annotated tag points to its commit by way of an object of its own.
		out, err = git(ctx, "-C", dir, "for-each-ref",
			"--format=%(refname:strip=2)%00%(if)%(*objectname)%(then)%(*objectname)%(else)%(objectname)%(end)%00%(creatordate:unix)%00%(contents:subject)",
			"refs/tags/"+r.ref)
	}
	if err != nil {
		return nil, fmt.Errorf("list versions of %s: %w", r.where, err)
	}
	var list []raise.Version
	for line := range strings.Lines(string(out)) {
		fields := strings.SplitN(strings.TrimSuffix(line, "\n"), "\x00", 4)
		if len(fields) != 4 {
			return nil, fmt.Errorf("list versions of %s: git said %q", r.where, line)
		}
		seconds, err := strconv.ParseInt(fields[2], 10, 64)
		if err != nil {
			return nil, fmt.Errorf("list versions of %s: a time that is none: %w", r.where, err)
		}
		v := raise.Version{Name: fields[0], ID: fields[1], At: time.Unix(seconds, 0), Note: fields[3]}
		if r.branch {
			v.Name = raise.Short(v.ID)
			list = append(list, v) // in the order of the branch
			continue
		}
		list = append(list, v)
	}
	if r.branch {
		return list, nil
	}
	return sorted(list), nil
}

// here is the folder of the repository, which is fetched first if it is elsewhere.
func (r *repository) here(ctx context.Context) (string, error) {
	if !strings.Contains(r.where, ":") {
		return r.where, nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if _, err := os.Stat(filepath.Join(r.cache, "HEAD")); errors.Is(err, os.ErrNotExist) {
		if _, err := git(ctx, "init", "--quiet", "--bare", r.cache); err != nil {
			return "", err
		}
	}
	refs := "+refs/tags/*:refs/tags/*"
	if r.branch {
		refs = "+refs/heads/" + r.ref + ":refs/heads/" + r.ref
	}
	if _, err := git(ctx, "-C", r.cache, "fetch", "--quiet", "--prune", "--no-tags", "--filter=blob:none", r.where, refs); err != nil {
		return "", fmt.Errorf("fetch %s: %w", r.where, err)
	}
	return r.cache, nil
}

// git runs git, which must not ask anybody anything.
func git(ctx context.Context, args ...string) ([]byte, error) {
	cmd := exec.CommandContext(ctx, "git", args...)
	cmd.Env = append(os.Environ(), "GIT_TERMINAL_PROMPT=0", "GIT_SSH_COMMAND=ssh -oBatchMode=yes", "LC_ALL=C")
	cmd.WaitDelay = time.Second
	var said bytes.Buffer
	cmd.Stderr = &said
	out, err := cmd.Output()
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if err != nil {
		if text := strings.TrimSpace(said.String()); text != "" {
			return nil, errors.New(text)
		}
		return nil, err
	}
	return out, nil
}
