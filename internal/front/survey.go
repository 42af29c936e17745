package front

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"

	"vaiven/internal/world/place"
)

// Surveyed is what stands behind a running proxy under one name: a backend, an upstream group, a balancer.
type Surveyed struct {
	Name    string // as the proxy has it
	Listen  string // host:port of the first frontend that leads there; "" if none was found
	Secure  bool   // requests come over TLS
	Host    string // that is asked for there; "" if any is
	Servers []SurveyedServer
	// Section is the plan's section of such a front, below "front", indented by two spaces.
	Section string
	// Needs is what its configuration lacks to be steered, each with what to write. It loses nothing that is there.
	Needs []string
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

// ErrNotOurs is wrapped by a survey of something that is another kind of proxy's.
var ErrNotOurs = errors.New("not of this kind")

// SurveyFunc reads what a target leads to: a socket, a configuration, a URL. It changes nothing.
type SurveyFunc func(ctx context.Context, on place.Machine, target string) ([]Surveyed, error)

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
	if host == "" || host == "*" || host == "0.0.0.0" || host == "::" {
		host = "127.0.0.1"
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
