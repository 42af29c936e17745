package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/keeper"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/state"
)

// buildsIn is the folder with what was said when versions were made, and buildLogMost how much of it is kept, in bytes.
const (
	buildsIn     = "builds"
	buildLogMost = 4 << 20
)

// maker makes versions by the plan's command. All that it says is kept in the state folder, without the secrets that it
// was given.
func maker(p *plan.Plan, secrets secret.Values, in *state.Folder) keeper.Make {
	if !p.Build.On() {
		return nil
	}
	return func(ctx context.Context, a crossing.Arrival) (output string, err error) {
		output = buildsIn + "/" + fileName(a.Version) + ".log"
		if err := in.Mkdir(buildsIn); err != nil {
			return output, err
		}
		file, err := in.OpenFile(output, os.O_CREATE|os.O_WRONLY|os.O_TRUNC)
		if err != nil {
			return output, err
		}
		w := secret.NewWriter(&limited{file, buildLogMost})
		w.Know(secrets)
		cmd := place.Program(ctx, p.Build.Words...)
		cmd.Env = append(os.Environ(), "VAIVEN_VERSION="+a.Version, "VAIVEN_COMMIT="+a.Commit, "VAIVEN_SERVICE="+p.Service)
		for name, value := range p.Build.Environment {
			cmd.Env = append(cmd.Env, name+"="+secrets.Fill(value, nil, nil))
		}
		cmd.Stdout, cmd.Stderr = w, w
		err = cmd.Run()
		var exit *exec.ExitError
		if errors.As(err, &exit) && ctx.Err() == nil {
			err = fmt.Errorf("%s ended with status %d", p.Build.Words[0], exit.ExitCode())
		}
		return output, errors.Join(err, file.Close())
	}
}

// fileName is a version as a file's name.
func fileName(version string) string {
	return strings.Map(func(c rune) rune {
		if c == '/' || c == 0 || c < ' ' {
			return '_'
		}
		return c
	}, strings.TrimLeft(version, "."))
}

// limited takes so many bytes, and lets the rest go.
type limited struct {
	to   io.Writer
	left int
}

// Write never fails for what is too much: whoever speaks is not to end of it.
func (l *limited) Write(data []byte) (int, error) {
	some := data[:min(len(data), l.left)]
	l.left -= len(some)
	if len(some) > 0 {
		if _, err := l.to.Write(some); err != nil {
			return 0, err
		}
	}
	return len(data), nil
}
