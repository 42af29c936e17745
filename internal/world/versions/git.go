package versions

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/raise"
	"vaiven/internal/world/place"
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
	dir, err := r.here(ctx, "*")
	if err != nil {
		return nil, fmt.Errorf("list versions: %w", err)
	}
	if r.branch {
		return r.commits(ctx, dir)
	}
	list, err := r.tags(ctx, dir, r.ref)
	return sorted(list), err
}

// Find asks for one tag alone, if it is one's name.
func (r *repository) Find(ctx context.Context, name string) (raise.Version, error) {
	if ok, _ := path.Match(r.ref, name); ok && !r.branch && refName.MatchString(name) {
		// A repository elsewhere that has no such tag says so by an error, as for anything else.
		if dir, err := r.here(ctx, name); err == nil {
			list, err := r.tags(ctx, dir, name)
			if err != nil {
				return raise.Version{}, err
			}
			for _, v := range list {
				if v.Name == name {
					return v, nil
				}
			}
		}
	}
	list, err := r.List(ctx)
	if err != nil {
		return raise.Version{}, err
	}
	return pick(list, name)
}

// refName is a tag's name that no command takes for anything else.
var refName = regexp.MustCompile(`^[\pL\pN][\pL\pN._/+@-]*$`)

// commits are the newest of the branch, in its order.
func (r *repository) commits(ctx context.Context, dir string) ([]raise.Version, error) {
	// Hash, time, subject.
	out, err := git(ctx, nil, "-C", dir, "log", "--first-parent", "-n", strconv.Itoa(newestCommits),
		"--format=%H%x00%ct%x00%s", r.ref, "--")
	if err != nil {
		return nil, fmt.Errorf("list versions of %s: %w", r.where, err)
	}
	var list []raise.Version
	for line := range strings.Lines(string(out)) {
		fields := strings.SplitN(strings.TrimSuffix(line, "\n"), "\x00", 3)
		if len(fields) != 3 {
			return nil, fmt.Errorf("list versions of %s: git said %q", r.where, line)
		}
		list = append(list, raise.Version{Name: raise.Short(fields[0]), ID: fields[0], At: date(fields[1]),
			Note: fields[2]})
	}
	return list, nil
}

// date reads seconds since 1970. What has no date has the zero time.
func date(text string) time.Time {
	seconds, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return time.Time{}
	}
	return time.Unix(seconds, 0)
}

// tags are those of a pattern. A tag can point to another tag, and to what is no commit.
func (r *repository) tags(ctx context.Context, dir, pattern string) ([]raise.Version, error) {
	out, err := git(ctx, nil, "-C", dir, "for-each-ref",
		"--format=%(refname:strip=2)%00%(creatordate:unix)%00%(contents:subject)", "refs/tags/"+pattern)
	if err != nil {
		return nil, fmt.Errorf("list versions of %s: %w", r.where, err)
	}
	var list []raise.Version
	var asked strings.Builder
	for line := range strings.Lines(string(out)) {
		fields := strings.SplitN(strings.TrimSuffix(line, "\n"), "\x00", 3)
		if len(fields) != 3 {
			return nil, fmt.Errorf("list versions of %s: git said %q", r.where, line)
		}
		list = append(list, raise.Version{Name: fields[0], At: date(fields[1]), Note: fields[2]})
		fmt.Fprintf(&asked, "refs/tags/%s^{}\n", fields[0]) // what it comes to in the end
	}
	if len(list) == 0 {
		return nil, nil
	}
	out, err = git(ctx, strings.NewReader(asked.String()), "-C", dir, "cat-file",
		"--batch-check=%(objectname) %(objecttype)")
	if err != nil {
		return nil, fmt.Errorf("list versions of %s: %w", r.where, err)
	}
	answers := strings.Split(strings.TrimSuffix(string(out), "\n"), "\n")
	if len(answers) != len(list) {
		return nil, fmt.Errorf("list versions of %s: git said %d things of %d tags", r.where, len(answers), len(list))
	}
	for n, answer := range answers {
		id, kind, _ := strings.Cut(answer, " ")
		if kind == "commit" {
			list[n].ID = id
			continue
		}
		list[n].Wrong = fmt.Sprintf("the tag comes to no commit (%s)", kind)
	}
	return list, nil
}

// here is the folder of the repository, whose tags of a pattern are fetched first if it is
// elsewhere.
func (r *repository) here(ctx context.Context, tags string) (string, error) {
	if !strings.Contains(r.where, ":") {
		return r.where, nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if _, err := os.Stat(filepath.Join(r.cache, "HEAD")); errors.Is(err, os.ErrNotExist) {
		if err := os.MkdirAll(filepath.Dir(r.cache), 0o700); err != nil { // git would let others read it
			return "", err
		}
		if _, err := git(ctx, nil, "init", "--quiet", "--bare", r.cache); err != nil {
			return "", err
		}
	}
	refs := "+refs/tags/" + tags + ":refs/tags/" + tags
	if r.branch {
		refs = "+refs/heads/" + r.ref + ":refs/heads/" + r.ref
	}
	where, credential := apart(r.where)
	if _, err := gitWith(ctx, credential, nil, "-C", r.cache, "fetch", "--quiet", "--prune", "--no-tags",
		"--filter=blob:none", where, refs); err != nil {
		return "", fmt.Errorf("fetch %s: %w", r.where, err)
	}
	return r.cache, nil
}

// apart takes the credential out of a web address, where everybody can see it in the list of
// processes, and gives it to git by its environment, for that host alone.
func apart(where string) (address string, environment []string) {
	u, err := url.Parse(where)
	if err != nil || u.User == nil || u.Scheme != "https" && u.Scheme != "http" {
		return where, nil
	}
	password, _ := u.User.Password()
	code := base64.StdEncoding.EncodeToString([]byte(u.User.Username() + ":" + password))
	u.User = nil
	return u.String(), []string{
		"GIT_CONFIG_COUNT=1", "GIT_CONFIG_KEY_0=http." + u.Scheme + "://" + u.Host + "/.extraHeader",
		"GIT_CONFIG_VALUE_0=Authorization: Basic " + code,
	}
}

func git(ctx context.Context, in io.Reader, args ...string) ([]byte, error) {
	return gitWith(ctx, nil, in, args...)
}

// gitWith runs git, which must not ask anybody anything, with further variables. When the
// context ends, it is ended with all that it started.
func gitWith(ctx context.Context, environment []string, in io.Reader, args ...string) ([]byte, error) {
	cmd := place.Program(ctx, append([]string{"git"}, args...)...)
	cmd.Env = append(os.Environ(), "GIT_TERMINAL_PROMPT=0", "GIT_SSH_COMMAND=ssh -oBatchMode=yes", "LC_ALL=C")
	cmd.Env = append(cmd.Env, environment...)
	var said bytes.Buffer
	cmd.Stdin, cmd.Stderr = in, &said
	out, err := cmd.Output()
	if ctx.Err() != nil {
		return nil, fmt.Errorf("git does not answer: %w", ctx.Err())
	}
	if err != nil {
		if text := strings.TrimSpace(said.String()); text != "" {
			return nil, errors.New(text)
		}
		return nil, err
	}
	return out, nil
}
