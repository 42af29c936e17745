package survey

import (
	"cmp"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"vaiven/internal/world/accesslog"
	"vaiven/internal/world/place"
)

// Sample is what a proxy answered to some requests, so that it can be seen whether users get the same after a
// change. Its fields are there to be written and read back.
type Sample struct {
	Listen string  `json:"listen"` // of the proxy
	Host   string  `json:"host,omitempty"`
	Secure bool    `json:"secure,omitempty"`
	Asked  []Asked `json:"asked"`
}

// Asked is a path with what it answered, twice: what differs between the two differs by itself.
type Asked struct {
	Path  string    `json:"path"`
	Twice [2]Answer `json:"twice"`
}

// Answer is what is compared of one.
type Answer struct {
	Status int    `json:"status"`
	Type   string `json:"type,omitempty"`
	Leads  string `json:"leads,omitempty"`  // where it redirects to
	Body   string `json:"body,omitempty"`   // its digest
	Failed string `json:"failed,omitempty"` // why there is none
}

const (
	// between is how long it is until the next request: a service that has users gets five more a second.
	between = 200 * time.Millisecond
	// mostPaths of a log are asked, those that are asked most.
	mostPaths = 40
	// mostBody is how much of a body is compared.
	mostBody = 1 << 20
)

// LoggedPaths are paths of an access log that nobody minds being asked again: those of GET and HEAD without a
// query, the most frequent ones first.
func LoggedPaths(name string) ([]string, error) {
	f, err := accesslog.Open(name, os.Stdin)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var p accesslog.Parser
	var e accesslog.Entry
	seen := map[string]int{}
	err = accesslog.Lines(f, func(line []byte) error {
		if !p.Parse(line, &e) {
			return nil
		}
		path := string(e.Path)
		if method := string(e.Method); method != "GET" && method != "HEAD" || e.Status >= 400 ||
			!strings.HasPrefix(path, "/") || strings.Contains(path, "?") || len(seen) > 100_000 {
			return nil
		}
		seen[path]++
		return nil
	})
	var list []string
	for path := range seen {
		list = append(list, path)
	}
	slices.SortFunc(list, func(a, b string) int { return cmp.Or(seen[b]-seen[a], strings.Compare(a, b)) })
	if len(list) == 0 && err == nil {
		err = fmt.Errorf("%s has no request by GET without a query that went well", name)
	}
	return list[:min(len(list), mostPaths)], err
}

// Sample asks the proxy for the paths of the plan's checks, and for others, as users do.
func (f *Found) Sample(ctx context.Context, paths []string) (Sample, error) {
	s := Sample{Listen: f.Listen, Host: f.Host, Secure: f.Secure}
	if f.Listen == "" {
		return s, errors.New("where the proxy takes requests was not found")
	}
	for _, path := range append([]string{f.Checks.Smoke, f.Checks.Health, f.Checks.Says}, paths...) {
		if path != "" && !slices.ContainsFunc(s.Asked, func(a Asked) bool { return a.Path == path }) {
			s.Asked = append(s.Asked, Asked{Path: path})
		}
	}
	for n := range s.Asked {
		for k := range s.Asked[n].Twice {
			s.Asked[n].Twice[k] = s.ask(ctx, f.On, s.Asked[n].Path)
		}
	}
	return s, ctx.Err()
}

// Differs asks again, and is what users get otherwise now, a line for each path.
func (s Sample) Differs(ctx context.Context, on place.Dialer) ([]string, error) {
	var list []string
	for _, a := range s.Asked {
		now := s.ask(ctx, on, a.Path)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		was := a.Twice[0]
		switch {
		case now == was || now == a.Twice[1]:
		case now.Status != was.Status || now.Failed != was.Failed:
			list = append(list, fmt.Sprintf("%s: it was %s, and is %s", a.Path, was.word(), now.word()))
		case now.Leads != was.Leads && was.Leads == a.Twice[1].Leads:
			list = append(list, fmt.Sprintf("%s: it led to %s, and leads to %s", a.Path, was.Leads, now.Leads))
		case now.Type != was.Type:
			list = append(list, fmt.Sprintf("%s: it was of type %s, and is of type %s", a.Path, was.Type, now.Type))
		case now.Body != was.Body && was.Body == a.Twice[1].Body:
			list = append(list, fmt.Sprintf("%s: what it says is another text", a.Path))
		}
	}
	return list, nil
}

func (a Answer) word() string {
	if a.Failed != "" {
		return a.Failed
	}
	return fmt.Sprintf("status %d", a.Status)
}

// ask asks once, after the time that is between two requests.
func (s Sample) ask(ctx context.Context, on place.Dialer, path string) Answer {
	select {
	case <-ctx.Done():
		return Answer{Failed: ctx.Err().Error()}
	case <-time.After(between):
	}
	ctx, cancel := context.WithTimeout(ctx, tryLimit)
	defer cancel()
	host := s.Host
	if host == "" {
		host, _, _ = net.SplitHostPort(s.Listen)
	}
	// what is compared is what users get, whoever has signed the certificate
	t := &http.Transport{DisableKeepAlives: true,
		TLSClientConfig: &tls.Config{ServerName: host, InsecureSkipVerify: true},
		DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return on.Dial(ctx, network, s.Listen)
		}}
	c := http.Client{Transport: t,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	scheme := "http"
	if s.Secure {
		scheme = "https"
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, scheme+"://"+host+path, nil)
	if err != nil {
		return Answer{Failed: "no request can be made of it"}
	}
	r.Header.Set("User-Agent", "vaiven-survey")
	w, err := c.Do(r)
	if err != nil {
		return Answer{Failed: "no answer"}
	}
	defer w.Body.Close()
	data, err := io.ReadAll(io.LimitReader(w.Body, mostBody))
	if err != nil {
		return Answer{Failed: "half an answer"}
	}
	sum := sha256.Sum256(data)
	return Answer{Status: w.StatusCode, Type: w.Header.Get("Content-Type"), Leads: w.Header.Get("Location"),
		Body: hex.EncodeToString(sum[:8])}
}
