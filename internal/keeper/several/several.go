package several

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/keeper/api"
	"vaiven/internal/keeper/service"
	"vaiven/internal/plan/planfile"
	"vaiven/internal/stack/process"
	"vaiven/internal/world/durable"
)

// Keepers are those of the plans below a folder, or standbys of another folder's.
type Keepers struct {
	Dir string
	// Standby is the folder with the same plans whose keepers are followed, as USER@HOST:FOLDER, and After how long one
	// of them has to be gone for its standby to take over by itself, where it may; "" for keepers, 0 for never.
	Standby string
	After   time.Duration
	Program string // Vaiven
	Level   slog.Level
	Every   time.Duration // between two looks, [LookEvery] in general
	// UnderWay reports whether a crossing of a plan is under way.
	UnderWay func(context.Context, *plan.Plan) bool
	// Looked is called after each look at the folder.
	Looked func()

	mu     sync.Mutex
	minded map[string]bool   // files that somebody minds
	states map[string]string // whose state folder it is: of one there is one keeper
	failed []error           // of what was to end, and did not
}

// LookEvery is how often the folder and each keeper are looked at, and endLimit how long keepers have to end.
const (
	LookEvery = 2 * time.Second
	endLimit  = 8 * time.Second
)

// ErrKept is wrapped where another process keeps the plans of a folder.
var ErrKept = errors.New("the plans of this folder are kept already")

// Run keeps the plans until the context ends; then the keepers are ended. Instances and fronts go on as they are. Each
// plan is minded by itself, whatever another one's files, process or disk do.
func (k *Keepers) Run(ctx context.Context) error {
	unlock, err := lock(k.Dir)
	if err != nil {
		return err
	}
	defer unlock()
	k.minded, k.states = map[string]bool{}, map[string]string{}
	var keeping sync.WaitGroup
	begin := func(one *kept) {
		k.mind(one.file)
		keeping.Go(func() {
			if err := k.keep(ctx, one); err != nil {
				k.mu.Lock()
				defer k.mu.Unlock()
				k.failed = append(k.failed, err)
			}
		})
	}
	for _, one := range k.remembered() {
		begin(one)
	}
	other := map[string]string{} // what files look like that are no plans
	tick := time.NewTicker(k.Every)
	defer tick.Stop()
	for ctx.Err() == nil {
		err := planfile.Walk(ctx, k.Dir, func(file string) error {
			look := looks(file)
			if k.mindedBy(file) || other[file] == look {
				return nil
			}
			if is, err := planfile.IsPlan(file); !is || err != nil {
				other[file] = look
				return nil
			}
			begin(&kept{file: file})
			return nil
		})
		if err != nil && ctx.Err() == nil {
			slog.Error("the plans cannot be looked for", "folder", k.Dir, "err", err)
		}
		k.Looked()
		select {
		case <-ctx.Done():
		case <-tick.C:
		}
	}
	keeping.Wait()
	return errors.Join(k.failed...)
}

// lock takes a folder for one process at a time.
func lock(dir string) (unlock func(), err error) {
	f, err := os.Open(dir)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, errors.Join(fmt.Errorf("%w: %s", ErrKept, dir), f.Close())
	}
	return func() { _ = f.Close() }, nil
}

func (k *Keepers) mind(file string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.minded[file] = true
}

func (k *Keepers) mindedBy(file string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.minded[file]
}

// claim reports whether a state folder is a plan's alone, and whose it is if it is not.
func (k *Keepers) claim(state, file string) (other string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if other = k.states[state]; other == file {
		return ""
	} else if other == "" {
		k.states[state] = file
		k.remember()
	}
	return other
}

// leave lets go of what a plan had.
func (k *Keepers) leave(one *kept) {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.minded, one.file)
	for state, file := range k.states {
		if file == one.file {
			delete(k.states, state)
			k.remember()
		}
	}
}

// memoryIn is the file in the folder with the plans that are kept: a plan may go while nobody looks, and its keeper be
// there.
const memoryIn = ".keepers.json"

// remember writes down which plan has its state where.
func (k *Keepers) remember() {
	data, err := json.Marshal(k.states)
	if err == nil {
		err = durable.WriteFile(filepath.Join(k.Dir, memoryIn), data)
	}
	if err != nil {
		slog.Warn("which plans are kept is not written down: a keeper whose plan goes while this does not run is not "+
			"ended", "err", err)
	}
}

// remembered are the plans that were kept and are gone.
func (k *Keepers) remembered() (list []*kept) {
	data, err := os.ReadFile(filepath.Join(k.Dir, memoryIn))
	states := map[string]string{}
	if err == nil {
		err = json.Unmarshal(data, &states)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		slog.Warn("which plans were kept is not known", "err", err)
	}
	for state, file := range states {
		info, err := os.Lstat(state)
		if looks(file) != gone || err != nil {
			continue
		}
		one := &kept{file: file, plan: &plan.Plan{File: file, State: state}}
		one.user.uid = int(info.Sys().(*syscall.Stat_t).Uid)
		list = append(list, one)
	}
	return list
}

// kept is one plan.
type kept struct {
	Keeper
	file  string
	sum   string     // what its files looked like when it was read last
	plan  *plan.Plan // as it was last right, nil if it never was
	user  user
	wrong string         // why it cannot be kept as it is
	holds service.Holder // who holds the lock
	runs  *api.Info      // what that keeps, nil if it does not say
	began *started
}

// keep keeps one plan, until it is gone or the context ends.
func (k *Keepers) keep(ctx context.Context, one *kept) error {
	defer k.leave(one)
	tick := time.NewTicker(k.Every)
	defer tick.Stop()
	for {
		there := k.read(one)
		act, why := one.Next(k.seen(ctx, one, there))
		if ctx.Err() == nil && act == Forget {
			return nil
		}
		if err := k.do(ctx, one, act, why); err != nil {
			slog.Error("not done", "plan", one.file, "what", string(act), "err", err)
		}
		select {
		case <-ctx.Done():
			return one.end()
		case <-tick.C:
		}
	}
}

// read reads the plan where its files look different, and reports whether it is there.
func (k *Keepers) read(one *kept) bool {
	look := one.looks()
	if look == one.sum {
		return looks(one.file) != gone
	}
	if looks(one.file) == gone {
		one.sum = look
		return false
	}
	p, err := planfile.Read(one.file)
	if err == nil {
		one.user, err = userOf(p)
	}
	if err == nil && k.Standby != "" {
		err = service.Standby{Plan: p}.Fits()
	}
	one.wrong = ""
	if err != nil {
		one.wrong = err.Error()
	} else {
		one.plan = p
	}
	if one.sum = look; err == nil {
		one.sum = one.looks() // with the base that it has now
	}
	return true
}

func (one *kept) looks() string {
	look := looks(one.file) + looks(environmentOf(one.file))
	if one.plan != nil && one.plan.Base != "" {
		look += looks(one.plan.Base)
	}
	return look
}

// gone is what a file looks like that is not there.
const gone = "-"

// looks is what tells a file from what it was before.
func looks(file string) string {
	info, err := os.Stat(file)
	if err != nil {
		return gone
	}
	s := info.Sys().(*syscall.Stat_t)
	return fmt.Sprint(s.Ino, " ", s.Size, " ", s.Ctim.Nano(), ";")
}

// seen looks at a plan and its keeper.
func (k *Keepers) seen(ctx context.Context, one *kept, there bool) Seen {
	s := Seen{At: time.Now(), Wrong: one.wrong, UnderWay: func() bool { return k.UnderWay(ctx, one.plan) }}
	if !there {
		s.Wrong = ""
	}
	if one.began.runs() {
		s.Starts, s.Begun = true, one.began.at
	}
	if one.plan == nil {
		return s
	}
	if there {
		s.Plan = one.plan.Digest
		if other := k.claim(one.plan.State, one.file); other != "" {
			s.Wrong = cmp.Or(s.Wrong, fmt.Sprintf("its state is kept in %s, as that of %s is", one.plan.State, other))
		}
	}
	h := service.Holding(one.plan)
	if !h.ID.Running() || !one.user.owns(h.ID.PID) {
		one.holds, one.runs = service.Holder{}, nil
		return s
	}
	if h.ID != one.holds.ID {
		one.runs = nil
	}
	if one.holds = h; (one.runs == nil || one.runs.Standby != nil) && s.Wrong == "" { // that is a keeper by now?
		if r, err := service.AskRunning(ctx, one.plan); err == nil && r.Process == h.ID.PID {
			one.runs = &r
		}
	}
	s.Process, s.Beat, s.Memory = fmt.Sprint(h.ID), h.Touched.String(), anonymous(h.ID.PID)
	s.Starts = s.Starts && one.began.pid != h.ID.PID
	s.Standby = k.Standby != ""
	if one.runs != nil {
		s.Keeps, s.Stays, s.Standby = one.runs.Digest, one.runs.Kept, one.runs.Standby != nil
	}
	return s
}

// do does what there is to do about a keeper, and writes it down.
func (k *Keepers) do(ctx context.Context, one *kept, act Act, why string) error {
	switch {
	case ctx.Err() != nil, act == Nothing && why == "":
		return nil
	case act == Nothing:
		slog.Warn(why, "plan", one.file)
		return nil
	}
	slog.Info(string(act), "plan", one.file, "as", one.user.name, "why", why)
	switch act {
	case Start:
		return k.start(one, k.follows(one)...)
	case TakeOver:
		return k.start(one, "--take-over")
	case Replace:
		return k.start(one, "--take-over", "--force")
	case End:
		return syscall.Kill(one.holds.ID.PID, syscall.SIGTERM)
	case Kill:
		pid := one.holds.ID.PID
		if one.began.runs() {
			pid = one.began.pid
		}
		return syscall.Kill(pid, syscall.SIGKILL)
	}
	return nil
}

// follows are the flags of a plan's standby.
func (k *Keepers) follows(one *kept) []string {
	if k.Standby == "" {
		return nil
	}
	flags := []string{"--standby", k.of(one.file)}
	switch err := (service.Standby{Plan: one.plan, After: k.After}).Fits(); {
	case err != nil:
		slog.Warn("it takes over on a person's word alone", "plan", one.file, "why", err)
	case k.After > 0:
		flags = append(flags, "--after", k.After.String())
	}
	return flags
}

// of is the plan in the other folder that one of this folder stands by for.
func (k *Keepers) of(file string) string {
	rest, _ := filepath.Rel(k.Dir, file) // below it
	return strings.TrimRight(k.Standby, "/") + "/" + filepath.ToSlash(rest)
}

// started is a process that was started for a plan.
type started struct {
	pid  int
	at   time.Time
	done chan struct{}
}

func (s *started) runs() bool {
	if s == nil {
		return false
	}
	select {
	case <-s.done:
		return false
	default:
		return true
	}
}

// start starts a keeper as the user whose plan it is, in a session of its own, so that it outlives us.
func (k *Keepers) start(one *kept, flags ...string) error {
	environment, err := one.user.environment(one.file)
	if err != nil {
		return err
	}
	cmd := exec.Command(k.Program, append([]string{"keep", one.file, "--log", k.Level.String()}, flags...)...)
	cmd.Env, cmd.Stderr, cmd.Dir = environment, os.Stderr, filepath.Dir(one.file)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Credential: one.user.credential()}
	if err := cmd.Start(); err != nil {
		return err
	}
	begun := &started{cmd.Process.Pid, time.Now(), make(chan struct{})}
	one.began = begun
	go func() {
		defer close(begun.done)
		how := "exit status 0"
		if err := cmd.Wait(); err != nil {
			how = err.Error()
		}
		slog.Info("ended", "plan", one.file, "process", begun.pid, "how", how)
	}()
	return nil
}

// end ends the keeper, if it is one that stays, and waits for it.
func (one *kept) end() error {
	var id process.ID
	switch {
	case one.runs != nil && one.runs.Kept && one.holds.ID.Running():
		id = one.holds.ID
	case one.began.runs():
		id, _ = process.Identify(one.began.pid) // gone meanwhile: none
	}
	if !id.Running() {
		return nil
	}
	_ = syscall.Kill(id.PID, syscall.SIGTERM) // gone meanwhile is as good
	ctx, cancel := context.WithTimeout(context.Background(), endLimit)
	defer cancel()
	if !id.Gone(ctx) {
		return fmt.Errorf("the keeper of %s (process %d) does not end, and goes on", one.file, id.PID)
	}
	return nil
}
