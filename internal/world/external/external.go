package external

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os/exec"
	"strings"
	"time"

	"vaiven/internal/world/place"
)

// answerLimit is how many bytes an answer may have.
const answerLimit = 4 << 20

// Ask starts a command with a request and reads its answer, within a limit. do names what is asked for in errors, and
// hide takes secrets out of what the command says. An answer may be there beside an error, which says then that the
// command failed all the same; errors wrap [place.ErrUnreachable] where there was none.
func Ask[A any](ctx context.Context, words []string, do string, request any, limit time.Duration,
	hide func(string) string) (A, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	var none A
	said, err := json.Marshal(request)
	if err != nil {
		return none, err
	}
	cmd := place.Program(ctx, words...)
	var complaint place.Output
	out := bounded{left: answerLimit}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewReader(append(said, '\n')), &out, &complaint
	err = cmd.Run()
	if errors.Is(err, exec.ErrWaitDelay) {
		err = nil
	}
	fail := func(err error) error {
		if text := saying(complaint.Bytes(), hide); text != "" {
			err = fmt.Errorf("%w: %s", err, text)
		}
		return fmt.Errorf("%s %s: %w", words[0], do, err)
	}
	var exit *exec.ExitError
	switch {
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return none, fail(fmt.Errorf("%w: no answer within %v", place.ErrUnreachable, limit))
	case ctx.Err() != nil:
		return none, fail(ctx.Err())
	case err != nil && !errors.As(err, &exit):
		return none, fail(fmt.Errorf("%w: %w", place.ErrUnreachable, err))
	}
	a, errJSON := parse[A](out.kept.Bytes())
	switch {
	case errJSON != nil && err != nil:
		if text := saying(out.kept.Bytes(), hide); text != "" {
			err = fmt.Errorf("%w, and it says: %s", err, text)
		}
		return none, fail(fmt.Errorf("%w: %w", place.ErrUnreachable, err))
	case errJSON != nil:
		return none, fail(fmt.Errorf("what it says is not an answer: %w: %s", errJSON, saying(out.kept.Bytes(), hide)))
	case err != nil:
		return a, fail(err)
	}
	return a, nil
}

// parse reads the one JSON value that the command has to say.
func parse[A any](out []byte) (A, error) {
	var a A
	decoder := json.NewDecoder(bytes.NewReader(out))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&a); err != nil {
		var none A
		return none, err
	}
	if rest := bytes.TrimSpace(out[decoder.InputOffset():]); len(rest) > 0 {
		return a, errors.New("something follows the answer; what is for people belongs on standard error")
	}
	return a, nil
}

// saying is what a command says that is meant for people, as far as it is shown.
func saying(text []byte, hide func(string) string) string {
	const most = 2 << 10
	hidden := strings.TrimSpace(hide(strings.ToValidUTF8(string(text), "?")))
	if len(hidden) > most {
		hidden = strings.ToValidUTF8(hidden[:most], "") + "…"
	}
	return hidden
}

// bounded keeps what is written as long as there is room, and then refuses.
type bounded struct {
	kept bytes.Buffer
	left int
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.left -= len(p); b.left < 0 {
		return 0, errors.New("the answer is too long")
	}
	return b.kept.Write(p)
}
