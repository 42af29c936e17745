package front

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"

	"vaiven/internal/world/place"
)

// Surveyed is what stands behind a running proxy under one name: a backend, an upstream group, a balancer.
type Surveyed struct {
	Name    string // as the proxy has it
	Listen  string // host:port of the first frontend that leads there; "" if none was found
	Secure  bool   // requests come over TLS
	Whole   bool   // they move to the other side all at once
	Host    string // that is asked for there; "" if any is
	Servers []SurveyedServer
	// Section is the plan's section of such a front, below "front", indented by two spaces.
	Section string
	// Needs is what its configuration lacks to be steered. It loses nothing that is there.
	Needs []string
	// Notes are what a person has to know of it: what of its requests is not steered, and what stays as it is.
	Notes []string
	// Adopt makes what it needs, for a service of a name, and has the proxy test it on a copy. Nil where that is not
	// known.
	Adopt func(ctx context.Context, service string) Adoption
	Log   string // access log that counts its requests, "" if none was found
	// Requests is how many it has answered so far; nil where it does not count.
	Requests func(context.Context) (int64, error)
	Ready    bool // it is steered by Vaiven already, or can be as it is
}

// SurveyedServer is one server of those.
type SurveyedServer struct {
	Name    string
	Address string // host:port
	In      bool   // it gets requests
	Side    string // "blue" or "green" where its name or its group says so
}

// Adoption is the change of a proxy's configuration that has it steered.
type Adoption struct {
	Files  []Edited
	Reload []string // commands that test what is in place, and load it
	Err    error    // why the proxy does not take it, or could not be asked
}

// Edited is a file of a proxy's configuration, as it is and as it is to be.
type Edited struct {
	Name     string
	Was, Now []byte
}

// Edit is a piece of a text, from one byte to before another, and what is to stand in its place.
type Edit struct {
	From, To int
	Text     string
}

// Apply is a text with edits that do not overlap.
func Apply(text []byte, edits []Edit) []byte {
	sorted := slices.SortedStableFunc(slices.Values(edits), func(a, b Edit) int { return a.From - b.From })
	var out []byte
	at := 0
	for _, e := range sorted {
		out = append(append(out, text[at:e.From]...), e.Text...)
		at = e.To
	}
	return append(out, text[at:]...)
}

// ErrNotOurs is wrapped by a survey of something that is another kind of proxy's.
var ErrNotOurs = errors.New("not of this kind")

// Target is what is surveyed.
type Target struct {
	Name   string // a socket, a configuration, a URL
	Sticky bool   // who has a session is to stay on its side: where that is not so yet, the change sees to it
	// the ports that green's instances may have, the first and the last, for proxies that know each address beforehand
	Ports [2]int
}

// SurveyFunc reads what a target leads to. It changes nothing.
type SurveyFunc func(ctx context.Context, on place.Machine, target Target) ([]Surveyed, error)

// Position is a byte of a file, in words.
func Position(file, text string, at int) string {
	return fmt.Sprintf("%s:%d", file, 1+strings.Count(text[:at], "\n"))
}

// AtPort is an address to ask at for one that a proxy listens at: "*:443" is asked for here.
func AtPort(bind, fallback string) string {
	bind = strings.TrimPrefix(strings.TrimPrefix(bind, "ipv4@"), "ipv6@")
	if !strings.Contains(bind, ":") {
		if strings.Trim(bind, "0123456789") != "" { // a host alone
			return net.JoinHostPort(bind, fallback)
		}
		bind = ":" + bind
	}
	host, port, err := net.SplitHostPort(bind)
	if err != nil {
		return ""
	}
	switch host {
	case "", "*", "0.0.0.0":
		host = "127.0.0.1"
	case "::":
		host = "::1"
	}
	return net.JoinHostPort(host, port)
}

// WithPort is a server's address with its port, which proxies take for 80.
func WithPort(address string) string {
	if _, _, err := net.SplitHostPort(address); err == nil {
		return address
	}
	return net.JoinHostPort(strings.Trim(address, "[]"), "80")
}

// Cmdline is the command line of a process of a machine, and the folder that it runs in.
func Cmdline(ctx context.Context, on place.Machine, pid string) (words []string, folder string, err error) {
	data, err := on.ReadFile(ctx, "/proc/"+pid+"/cmdline")
	if err != nil {
		return nil, "", err
	}
	out, err := on.Run(ctx, place.Command{Words: []string{"readlink", "/proc/" + pid + "/cwd"}})
	if err == nil && out.Status != 0 {
		err = fmt.Errorf("where process %s runs: %s", pid, strings.TrimSpace(string(out.Output)))
	}
	return strings.Split(strings.TrimRight(string(data), "\x00"), "\x00"), strings.TrimSpace(string(out.Output)), err
}
