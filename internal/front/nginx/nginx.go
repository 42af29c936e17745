package nginx

import (
	"context"
	"fmt"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/front"
	"vaiven/internal/front/include"
	"vaiven/internal/world/place"
)

// New makes a driver. Requests are counted from now on.
func New(on place.Machine, service string, f plan.Front) *include.Front {
	settings := f.Settings.(*Settings)
	c := settings.Settings
	var file include.Form = form{service: service, key: f.Key, spare: f.Spare, options: settings.Options,
		sticky: f.Sticky, parameters: settings.Parameters}
	if settings.Upstream != "" {
		file = group{service: service, parameters: settings.Parameters, carry: f.Carry}
	}
	nginx := &server{on: on, config: c}
	program := strings.Join(c.Program, " ")
	return include.New(include.Config{
		File:    include.File{On: on, Path: c.File, Server: nginx},
		Form:    file,
		Key:     f.Key,
		Log:     c.Log,
		Lack:    func(ctx context.Context) ([]string, error) { return lacks(ctx, nginx, service, f.Sticky, settings) },
		Spare:   f.Spare,
		Sticky:  f.Sticky,
		Both:    f.Key.From != plan.KeyClient,
		Usually: 100 * time.Millisecond,
		Connections: "requests that are being answered are answered; for up to a tenth of a second old and new " +
			"workers place requests side by side, and " +
			"kept connections close when they are next idle: a client that sends on one at that moment has to send " +
			"again",
		Commands: []string{program + " -t", "rename to " + c.File, program + " -s reload"},
	})
}

// server is nginx as the include file's package sees it.
type server struct {
	on     place.Machine
	config include.Settings

	mu      sync.Mutex // protects pidFile
	pidFile string     // found once
}

var (
	directive = regexp.MustCompile(`(^|[;{}\s])include[ \t]+("[^"]*"|'[^']*'|[^;"'\s]+)[ \t]*;`)
	dumped    = regexp.MustCompile(`(?m)^# configuration file (.*):$`)
	pidBuilt  = regexp.MustCompile(`--pid-path=(\S+)`)
)

func (s *server) command(ctx context.Context, args ...string) (string, error) {
	return include.Command(ctx, s.on, append(append([]string{}, s.config.Program...), args...)...)
}

// Main is nginx's configuration; relative names begin beside it.
func (s *server) Main() (file, base string) { return s.config.Config, filepath.Dir(s.config.Config) }

// Files lists what nginx loads; it fails if nginx would not load it.
func (s *server) Files(ctx context.Context) ([]string, string, error) {
	text, err := s.command(ctx, "-T", "-c", s.config.Config)
	if err != nil {
		return nil, "", err
	}
	files := []string{s.config.Config}
	for _, m := range dumped.FindAllStringSubmatch(text, -1) {
		if m[1] != s.config.Config {
			files = append(files, m[1])
		}
	}
	return files, filepath.Dir(s.config.Config), nil
}

func (s *server) Check(ctx context.Context, config string) error {
	_, err := s.command(ctx, "-t", "-q", "-c", config)
	return err
}

// Begin has nothing to note: workers say by themselves whether they are new.
func (s *server) Begin(context.Context) {}

// Reload has nginx load its configuration.
func (s *server) Reload(ctx context.Context) error {
	_, err := s.command(ctx, "-s", "reload", "-c", s.config.Config)
	return err
}

// master is the number of nginx's first process.
func (s *server) master(ctx context.Context) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.pidFile == "" {
		data, err := s.on.ReadFile(ctx, s.config.Config)
		if err != nil {
			return "", fmt.Errorf("%w: %w", front.ErrUnreachable, err)
		}
		ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
		defer cancel()
		if said := first(parse(s.config.Config, string(data)), "pid"); said != nil {
			s.pidFile = said[0]
		} else if built, err := s.command(ctx, "-V"); err == nil {
			if m := pidBuilt.FindStringSubmatch(built); m != nil {
				s.pidFile = m[1]
			}
		}
		if s.pidFile == "" {
			return "", fmt.Errorf("%w: where nginx notes its process is said neither by %s nor by nginx -V",
				front.ErrUnreachable, s.config.Config)
		}
		if !filepath.IsAbs(s.pidFile) {
			s.pidFile = filepath.Join(filepath.Dir(s.config.Config), s.pidFile)
		}
	}
	return include.PID(ctx, s.on, s.pidFile)
}

func (s *server) workers(ctx context.Context, serves func(string) bool) (include.Running, error) {
	master, err := s.master(ctx)
	if err != nil {
		return include.Running{}, fmt.Errorf("nginx: %w", err)
	}
	return include.Workers(ctx, s.on, master, syscall.SIGHUP, serves)
}

const shuttingDown = "is shutting down"

// Running are the workers that take requests. While nginx reloads, it holds back the signal for the next time.
func (s *server) Running(ctx context.Context) (include.Running, error) {
	return s.workers(ctx, func(command string) bool {
		return strings.Contains(command, "worker process") && !strings.Contains(command, shuttingDown)
	})
}

// Fresh reports whether a reload is in force: none of the old workers takes requests.
func (s *server) Fresh(before, now include.Running) bool { return include.AllNew(before, now) }

// Leaving are the workers that finish what they have.
func (s *server) Leaving(ctx context.Context) ([]place.Process, error) {
	r, err := s.workers(ctx, func(command string) bool { return strings.Contains(command, shuttingDown) })
	return r.Workers, err
}

// Directive finds an include, what comes before it, and the name.
func (s *server) Directive() *regexp.Regexp { return directive }

// Include is such a line.
func (s *server) Include(file string) string { return fmt.Sprintf("include %q;", file) }
