package several

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	osuser "os/user"
	"strconv"
	"strings"
	"syscall"

	"github.com/hashicorp/go-envparse"

	"vaiven/internal/core/plan"
	"vaiven/internal/stack"
)

// user is as whom a plan is kept.
type user struct {
	name     string
	home     string
	uid, gid int
	groups   []uint32
	other    bool // than we are
	writer   int  // whose file the plan is
}

// userOf is as whom a plan is kept: as whoever could write it, since it says what is run. Of root's plan that is the
// owner of its state folder, where there is one.
func userOf(p *plan.Plan) (user, error) {
	uid, err := writer(p.File)
	if err == nil && p.Base != "" {
		of, errBase := writer(p.Base)
		if err = errBase; err == nil && of != uid && of != 0 {
			err = fmt.Errorf("%s belongs to user %d, and %s to user %d: who may write one could run things as the other",
				p.File, uid, p.Base, of)
		}
	}
	if err != nil {
		return user{}, err
	}
	of := uid
	if info, err := os.Lstat(p.State); uid == 0 && err == nil && info.IsDir() {
		uid = int(info.Sys().(*syscall.Stat_t).Uid)
	}
	self := os.Geteuid()
	if self != 0 {
		if uid != 0 && uid != self {
			return user{}, fmt.Errorf("%s belongs to user %d: only root keeps the plans of several users", p.File, uid)
		}
		uid = self
	}
	u, err := lookUp(uid, uid != self)
	u.writer = of
	return u, err
}

// writer is whose file it is. One of root's that others may write is refused.
func writer(file string) (int, error) {
	info, err := os.Stat(file)
	if err != nil {
		return 0, err
	}
	s := info.Sys().(*syscall.Stat_t)
	if info.Mode().Perm()&0o022 != 0 && s.Uid == 0 && os.Geteuid() == 0 {
		return 0, fmt.Errorf("%s is root's, and others may write it (chmod go-w)", file)
	}
	return int(s.Uid), nil
}

func lookUp(uid int, other bool) (user, error) {
	u := user{uid: uid, gid: os.Getegid(), name: strconv.Itoa(uid), other: other}
	found, err := osuser.LookupId(u.name)
	if err != nil {
		if other {
			return u, fmt.Errorf("as whom a plan is kept: %w", err)
		}
		return u, nil
	}
	u.name, u.home = found.Username, found.HomeDir
	if !other {
		return u, nil
	}
	ids, err := found.GroupIds()
	if err != nil {
		return u, fmt.Errorf("the groups of %s: %w", u.name, err)
	}
	if u.gid, err = strconv.Atoi(found.Gid); err != nil {
		return u, err
	}
	for _, id := range ids {
		if gid, err := strconv.ParseUint(id, 10, 32); err == nil {
			u.groups = append(u.groups, uint32(gid))
		}
	}
	return u, nil
}

// credential is what a process runs as, nil for as we do.
func (u user) credential() *syscall.Credential {
	if !u.other {
		return nil
	}
	return &syscall.Credential{Uid: uint32(u.uid), Gid: uint32(u.gid), Groups: u.groups}
}

// owns reports whether a process is of that user: what a folder says is believed of its owner's processes alone.
func (u user) owns(pid int) bool {
	info, err := os.Stat(fmt.Sprintf("/proc/%d", pid))
	return err == nil && int(info.Sys().(*syscall.Stat_t).Uid) == u.uid
}

// environmentOf is the file with the environment of a plan's keeper, beside the plan.
func environmentOf(file string) string {
	file = strings.TrimSuffix(strings.TrimSuffix(file, ".yaml"), ".yml")
	return file + ".env"
}

// environment is what a plan's keeper gets of ours, and what is in the file beside its plan: nothing of another's.
func (u user) environment(file string) ([]string, error) {
	list := []string{}
	for _, v := range stack.Inherited(os.Environ()) {
		if name, _, _ := strings.Cut(v, "="); !u.other || name != "HOME" && name != "USER" && name != "LOGNAME" {
			list = append(list, v)
		}
	}
	if u.other {
		list = append(list, "HOME="+u.home, "USER="+u.name, "LOGNAME="+u.name)
	}
	name := environmentOf(file)
	info, err := os.Stat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return list, nil
	case err != nil:
		return nil, err
	case info.Mode().Perm()&0o007 != 0:
		return nil, fmt.Errorf("%s may hold secrets, and anybody may read it (chmod o-rwx)", name)
	}
	if of := int(info.Sys().(*syscall.Stat_t).Uid); of != u.writer { // a link to somebody else's secrets
		return nil, fmt.Errorf("%s belongs to user %d, and the plan beside it to user %d", name, of, u.writer)
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	more, err := envparse.Parse(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	for name, value := range more {
		list = append(list, name+"="+value)
	}
	return list, nil
}

// anonymous is how much memory a process has of its own, in bytes; 0 if that is not known.
func anonymous(pid int) int64 {
	data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid)) // gone: none
	for line := range bytes.Lines(data) {
		if rest, ok := bytes.CutPrefix(line, []byte("RssAnon:")); ok {
			kib, _, _ := bytes.Cut(bytes.TrimSpace(rest), []byte(" "))
			n, _ := strconv.ParseInt(string(kib), 10, 64)
			return n << 10
		}
	}
	return 0
}
