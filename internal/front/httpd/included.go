package httpd

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sync/singleflight"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/include"
	"vaiven/internal/world/place"
)

// NewIncluded makes a driver for an include file. Requests are counted from now on.
func NewIncluded(on place.Machine, service string, f plan.Front) *include.Front {
	c := f.Settings.(*Settings)
	s := &server{on: on, config: c.Settings}
	return include.New(include.Config{
		File: include.File{On: on, Path: c.File, Server: s},
		Form: form{service: service, balancer: c.Balancer, parameters: c.Parameters, spare: f.Spare,
			carry: f.Carry},
		Key:   f.Key,
		Log:   c.Log,
		Spare: f.Spare,
		Lack: func(ctx context.Context) ([]string, error) {
			if !f.Spare.Asks() {
				return nil, nil
			}
			texts, err := s.texts(ctx)
			passes := regexp.MustCompile(`(?mi)^\s*RewriteRule\s.*"?balancer://` + regexp.QuoteMeta(c.Balancer) +
				`-spare/`)
			if err != nil || slices.ContainsFunc(texts, passes.MatchString) {
				return nil, err
			}
			return []string{fmt.Sprintf("the RewriteRule to balancer://%s-spare, where ProxyPass stands: without it "+
				"the spare side's own door leads where all requests go", c.Balancer)}, nil
		},
		Both:    true,
		Usually: time.Second,
		Connections: "requests that are being answered are answered; httpd holds up all new requests for about a " +
			"second while it reloads, and " +
			"kept connections close when they are next idle: a client that sends on one at that moment has to send " +
			"again. The balancer manager does it without either",
		Commands: []string{strings.Join(c.Program, " ") + " -t", "rename to " + c.File,
			strings.Join(c.Program, " ") + " -k graceful"},
	})
}

// form is the file's: a balancer with the instances of both sides as members.
type form struct {
	service, balancer, parameters string
	spare                         plan.SpareDoor
	carry                         [2]plan.Capacity
}

// Nearest is the share that load factors can do, and what else to know of it.
func (f form) Nearest(s include.Setting) (split.Share, []string, error) {
	w, _, err := f.weigh(s)
	if err != nil {
		return 0, nil, err
	}
	var notes []string
	if w.Unused > 0 {
		notes = append(notes, fmt.Sprintf("%d instances get no requests: load factors from 1 to %d are too coarse "+
			"for %v", w.Unused, mostFactor, s.Share))
	}
	return w.Reached[split.Green], notes, nil
}

// weigh finds the load factors, by side and instance.
func (f form) weigh(s include.Setting) (split.Weights, [2][]int, error) {
	return front.Weigh(s.Sides, f.carry, s.Share, mostFactor)
}

// Render is the file for a setting. With no instances at all there are no members.
func (f form) Render(s include.Setting) []byte {
	_, factors, err := f.weigh(s)
	var b strings.Builder
	fmt.Fprintf(&b, "# Written by Vaiven for the service %s. A change by hand is noticed, and not overwritten.\n",
		f.service)
	fmt.Fprintf(&b, "<Proxy \"balancer://%s\">\n", f.balancer)
	parameters := ""
	if f.parameters != "" {
		parameters = " " + f.parameters
	}
	for _, side := range split.Sides {
		for n, i := range s.Sides[side] {
			factor := 0
			if err == nil {
				factor = factors[side][n]
			}
			fmt.Fprintf(&b, "    # %v %s\n", side, include.Note(i))
			if factor > 0 {
				fmt.Fprintf(&b, "    BalancerMember \"%s%s\" route=%s loadfactor=%d%s\n", scheme, i.Address,
					routeOf(side, i.Name), factor, parameters)
			} else {
				fmt.Fprintf(&b, "    BalancerMember \"%s%s\" route=%s status=+D%s\n", scheme, i.Address,
					routeOf(side, i.Name), parameters)
			}
		}
	}
	fmt.Fprintf(&b, "    ProxySet lbmethod=byrequests\n</Proxy>\n")
	aside := ""
	if s.Spare.Secret != "" {
		aside = f.door(&b, s)
	}
	fmt.Fprintf(&b, `LogFormat "{\"at\":\"%%{sec}t.%%{usec_frac}t\",\"client\":\"%%a\",\"method\":\"%%m\",\"path\":\"%%U%%q\",\"status\":\"%%>s\",\"upstream\":\"%%{BALANCER_WORKER_NAME}e\",\"route\":\"%%{BALANCER_WORKER_ROUTE}e\",\"statuses\":\"%%>s\",\"us\":\"%%D\",\"length\":\"%%{Content-Length}o\",\"sent\":\"%%B\",\"done\":\"%%X\",\"agent\":\"%%{User-Agent}i\"%s}" %s
`, aside, front.Variable(f.service))
	return []byte(b.String())
}

// door writes the spare side's own, and says what the access log tells of it.
func (f form) door(b *strings.Builder, s include.Setting) (aside string) {
	fmt.Fprintf(b, "<Proxy \"balancer://%s-spare\">\n    # of %v\n", f.balancer, s.Spare.Side)
	for _, i := range s.Sides[s.Spare.Side] {
		fmt.Fprintf(b, "    BalancerMember \"%s%s\" route=%s\n", scheme, i.Address, routeOf(s.Spare.Side, i.Name))
	}
	fmt.Fprint(b, "    ProxySet lbmethod=byrequests\n</Proxy>\n")
	knows := front.Variable(f.service) + "_knows"
	if f.spare.Header != "" {
		fmt.Fprintf(b, "SetEnvIf %s \"^%s$\" %s=yes\nRequestHeader unset %[1]s\n", f.spare.Header, s.Spare.Secret,
			knows)
	}
	if f.spare.Cookie != "" {
		fmt.Fprintf(b, "SetEnvIf Cookie \"(^|;\\s*)%s=%s(;|$)\" %s=yes\n", regexp.QuoteMeta(f.spare.Cookie),
			s.Spare.Secret, knows)
	}
	return fmt.Sprintf(`,\"aside\":\"%%{%s}e\"`, knows)
}

var (
	doorBlock  = regexp.MustCompile(`(?s)-spare">\n    # of (blue|green)\n.*?\nSetEnvIf [^\n]*?([A-Z2-7]{20,})`)
	noteLine   = regexp.MustCompile(`^    # (blue|green) ` + include.Noted)
	memberLine = regexp.MustCompile(`^\s*BalancerMember "http://([^"]+)" (.*)$`)
	factorWord = regexp.MustCompile(`\bloadfactor=(\d+)\b`)
)

// Parse reads what Render writes, also if somebody changed a load factor or a status by
// hand.
func (f form) Parse(data []byte) (include.Setting, error) {
	var s include.Setting
	_, block, ok := strings.Cut(string(data), fmt.Sprintf("<Proxy \"balancer://%s\">\n", f.balancer))
	block, _, okEnd := strings.Cut(block, "\n</Proxy>")
	if !ok || !okEnd {
		return s, fmt.Errorf("it has no balancer %q as Vaiven writes it", f.balancer)
	}
	var sums [2]uint64
	var note []string
	for line := range strings.SplitSeq(block, "\n") {
		if m := noteLine.FindStringSubmatch(line); m != nil {
			note = m
			continue
		}
		m := memberLine.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		if note == nil {
			return s, fmt.Errorf("it does not say of which side %s is", m[1])
		}
		side, errSide := split.ParseSide(note[1])
		i, err := include.ReadNote(m[1], note[2:])
		if err := errors.Join(errSide, err); err != nil {
			return s, err
		}
		s.Sides[side] = append(s.Sides[side], i)
		if factor := factorWord.FindStringSubmatch(m[2]); factor != nil && !strings.Contains(m[2], "status=+D") {
			n, err := strconv.ParseUint(factor[1], 10, 16)
			if err != nil {
				return s, err
			}
			sums[side] += n
		}
		note = nil
	}
	if m := doorBlock.FindSubmatch(data); m != nil {
		s.Spare.Secret = string(m[2])
		s.Spare.Side, _ = split.ParseSide(string(m[1]))
	}
	if sums == [2]uint64{} {
		return s, nil // nobody gets anything: all on blue, once there is one
	}
	var err error
	s.Share, err = split.FromWeights(sums[split.Blue], sums[split.Green])
	return s, err
}

// server is httpd as the include file's package sees it.
type server struct {
	on     place.Machine
	config include.Settings

	mu      sync.Mutex      // protects what follows
	pidFile string          // found once
	before  []place.Process // those that served when it was last told to reload
	told    reload
}

// reload is how far httpd is with a reload that it was told: it writes its PidFile anew when it has read its
// configuration, and starts workers of the new one after that. Until then a new worker is one of the old configuration,
// as when it has only just been started.
type reload struct {
	at    time.Time       // when it was told, zero for none
	stamp time.Time       // when its PidFile had been written, zero if that is not known
	read  bool            // it is another one since
	old   []place.Process // that were seen before
}

// unread is after how long a new worker counts although the PidFile is as it was.
const unread = 2 * time.Second

var (
	directive = regexp.MustCompile(`(?mi)^([ \t]*)Include(?:Optional)?[ \t]+("[^"\n]*"|'[^'\n]*'|[^"'\s]+)[ \t]*$`)
	included  = regexp.MustCompile(`(?m)^\s+\([\d*]+\) (.*)$`)
	rootLine  = regexp.MustCompile(`(?m)^ServerRoot: "(.*)"$`)
	pidLine   = regexp.MustCompile(`(?m)^PidFile: "(.*)"$`)
)

func (s *server) command(ctx context.Context, args ...string) (string, error) {
	return include.Command(ctx, s.on, append(append([]string{}, s.config.Program...), args...)...)
}

// Main is httpd's configuration; where relative names begin, it says itself.
func (s *server) Main() (file, base string) { return s.config.Config, "" }

// Files lists what httpd loads; it fails if httpd would not load it.
func (s *server) Files(ctx context.Context) ([]string, string, error) {
	text, err := s.command(ctx, "-f", s.config.Config, "-t", "-D", "DUMP_INCLUDES", "-D", "DUMP_RUN_CFG")
	if err != nil {
		return nil, "", err
	}
	files := []string{s.config.Config}
	for _, m := range included.FindAllStringSubmatch(text, -1) {
		if m[1] != s.config.Config {
			files = append(files, m[1])
		}
	}
	base := filepath.Dir(s.config.Config)
	if m := rootLine.FindStringSubmatch(text); m != nil {
		base = m[1]
	}
	return files, base, nil
}

// texts are what stands in all of them.
func (s *server) texts(ctx context.Context) ([]string, error) {
	files, _, err := s.Files(ctx)
	var texts []string
	for _, file := range files {
		data, errRead := s.on.ReadFile(ctx, file)
		if err = errors.Join(err, errRead); err != nil {
			break
		}
		texts = append(texts, string(data))
	}
	return texts, err
}

// Check tests a main configuration.
func (s *server) Check(ctx context.Context, config string) error {
	_, err := s.command(ctx, "-f", config, "-t")
	return err
}

// Begin notes what runs before a reload.
func (s *server) Begin(ctx context.Context) {
	now, _ := s.Running(ctx) // none is none to wait for
	s.mu.Lock()
	defer s.mu.Unlock()
	s.before, s.told = now.Workers, reload{at: time.Now(), stamp: s.written(ctx), old: now.Workers}
}

// Reload has httpd load its configuration.
func (s *server) Reload(ctx context.Context) error {
	_, err := s.command(ctx, "-f", s.config.Config, "-k", "graceful")
	return err
}

// Running are the processes that serve. Those from before a reload stay for as long as
// they answer requests; the parent starts others at once, which alone take new ones. While it reads its configuration
// it does not sleep.
func (s *server) Running(ctx context.Context) (include.Running, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.pidFile == "" {
		file, err := s.whereNoted(ctx)
		if err != nil {
			return include.Running{}, err
		}
		s.pidFile = file
	}
	master, err := include.PID(ctx, s.on, s.pidFile)
	if err != nil {
		return include.Running{}, fmt.Errorf("httpd: %w", err)
	}
	now, err := include.Workers(ctx, s.on, master, syscall.SIGUSR1, func(string) bool { return true })
	if r := &s.told; err == nil && !r.stamp.IsZero() && !r.read && time.Since(r.at) <= unread {
		if r.read = !s.written(ctx).Equal(r.stamp); !r.read {
			r.old = append(r.old, now.Workers...)
		}
	}
	return now, err
}

// asking are the questions where an httpd notes its process that are under way, one for all services behind it: it
// reads its whole configuration for that.
var asking singleflight.Group

// whereNoted is the file in which httpd notes its process.
func (s *server) whereNoted(ctx context.Context) (string, error) {
	answer := asking.DoChan(fmt.Sprintf("%v %q %s", s.on, s.config.Program, s.config.Config), func() (any, error) {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		text, err := s.command(ctx, "-f", s.config.Config, "-t", "-D", "DUMP_RUN_CFG")
		m := pidLine.FindStringSubmatch(text)
		if m == nil {
			return "", fmt.Errorf("%w: where httpd notes its process is not known: %w", front.ErrUnreachable,
				errors.Join(err, errors.New("no PidFile in what it says")))
		}
		return m[1], nil
	})
	select {
	case a := <-answer:
		return a.Val.(string), a.Err
	case <-ctx.Done():
		return "", fmt.Errorf("%w: where httpd notes its process is not known: %w", front.ErrUnreachable,
			context.Cause(ctx))
	}
}

// written is when httpd wrote its PidFile, zero if that is not known to less than a second. The caller holds mu.
func (s *server) written(ctx context.Context) time.Time {
	info, err := s.on.Stat(ctx, s.pidFile)
	if err != nil || info.ModTime().Nanosecond() == 0 {
		return time.Time{}
	}
	return info.ModTime()
}

// Fresh reports whether workers serve that were started after httpd had read its configuration: one of them is enough.
func (s *server) Fresh(before, now include.Running) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	r := s.told
	switch {
	case !include.AnyNew(before.Workers, now):
		return false
	case r.stamp.IsZero() || time.Since(r.at) > unread:
		return true
	}
	return r.read && include.AnyNew(r.old, now)
}

// Leaving are those from before the last reload that are still there: they finish what
// they have. Of a reload that another process of ours told, nothing is known.
func (s *server) Leaving(ctx context.Context) ([]place.Process, error) {
	now, err := s.Running(ctx)
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.DeleteFunc(now.Workers, func(w place.Process) bool { return !include.Among(s.before, w) }), err
}

// Directive finds the lines that include, and the names.
func (s *server) Directive() *regexp.Regexp { return directive }

// Include is such a line.
func (s *server) Include(file string) string { return fmt.Sprintf("Include %q\n", file) }
