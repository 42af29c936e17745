package embedded

import (
	"bufio"
	"io"
	"log"
	"log/slog"
	"os"
	"strings"
	"testing"
)

// quietLog is for servers whose clients misbehave on purpose.
var quietLog = log.New(io.Discard, "", 0)

// newReader reads a text as a connection's bytes are.
func newReader(text string) *bufio.Reader {
	return bufio.NewReaderSize(strings.NewReader(text), 64<<10)
}

func TestMain(m *testing.M) {
	slog.SetDefault(slog.New(slog.DiscardHandler))
	log.SetOutput(io.Discard) // the library's words on instances that misbehave on purpose
	os.Exit(m.Run())
}
