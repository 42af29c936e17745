package pairs

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"

	"vaiven/internal/core/plan"
	"vaiven/internal/world/accesslog"
)

// mostRequests is how many different requests are taken from a file.
const mostRequests = 1000

// Left are the requests that are not sent.
type Left struct {
	Writes    int `json:"skipped,omitempty"`   // they are not only reads
	Elsewhere int `json:"elsewhere,omitempty"` // they went to other hosts
}

// Requests are all that a plan names: those in it, and those of its access log and
// its HAR file.
func Requests(p plan.Pairs) (list []plan.Request, left Left, err error) {
	c := collection{writes: p.Writes, hosts: p.Hosts, seen: map[string]bool{}}
	for _, q := range p.Requests {
		c.add(q)
	}
	for _, source := range []struct {
		file string
		read func(*collection, io.Reader) error
	}{{p.Log, (*collection).log}, {p.HAR, (*collection).har}} {
		if source.file == "" {
			continue
		}
		f, err := accesslog.Open(source.file, os.Stdin)
		if err != nil {
			return nil, Left{}, err
		}
		err = source.read(&c, f)
		_ = f.Close()
		if err != nil {
			return nil, Left{}, fmt.Errorf("read requests from %s: %w", source.file, err)
		}
	}
	return c.list, c.left, nil
}

// collection takes each request once.
type collection struct {
	writes bool
	hosts  []string // of this service, for a HAR file; none: that of its first request
	list   []plan.Request
	seen   map[string]bool
	left   Left
}

func (c *collection) add(q plan.Request) {
	if c.seen[q.String()] || len(c.list) == mostRequests {
		return
	}
	c.seen[q.String()] = true
	if q.Method != http.MethodGet && q.Method != http.MethodHead && !c.writes {
		c.left.Writes++
		return
	}
	c.list = append(c.list, q)
}

// log reads an access log. It has no bodies, so only reads are taken.
func (c *collection) log(r io.Reader) error {
	writes := c.writes
	c.writes = false
	defer func() { c.writes = writes }()
	var p accesslog.Parser
	var e accesslog.Entry
	lines, found := 0, 0
	err := accesslog.Lines(r, func(line []byte) error {
		lines++
		if p.Parse(line, &e) && len(e.Path) > 0 && e.Path[0] == '/' {
			found++
			c.add(plan.Request{Method: string(e.Method), Path: string(e.Path)})
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("line %d: %w", lines+1, err)
	}
	if lines > 0 && found == 0 {
		return fmt.Errorf("none of its %d lines is one of an access log", lines)
	}
	return nil
}

// har reads an HTTP Archive 1.2: what its browser asked of this service, and not of others
// whose answers went into the same page. Cookies and credentials of whoever recorded it are
// left out.
func (c *collection) har(r io.Reader) error {
	var archive struct {
		Log struct {
			Entries []struct {
				Request struct {
					Method  string `json:"method"`
					URL     string `json:"url"`
					Headers []struct {
						Name  string `json:"name"`
						Value string `json:"value"`
					} `json:"headers"`
					PostData struct {
						Text string `json:"text"`
					} `json:"postData"`
				} `json:"request"`
			} `json:"entries"`
		} `json:"log"`
	}
	if err := json.NewDecoder(r).Decode(&archive); err != nil {
		return err
	}
	for n, e := range archive.Log.Entries {
		u, err := url.Parse(e.Request.URL)
		if err != nil {
			return fmt.Errorf("entry %d: %w", n+1, err)
		}
		if len(c.hosts) == 0 {
			c.hosts = []string{u.Host}
		}
		if !c.ours(u) {
			c.left.Elsewhere++
			continue
		}
		q := plan.Request{Method: e.Request.Method, Path: u.RequestURI(), Headers: map[string]string{},
			Body: e.Request.PostData.Text}
		for _, h := range e.Request.Headers {
			switch http.CanonicalHeaderKey(h.Name) {
			case "Accept", "Accept-Language", "Content-Type":
				q.Headers[h.Name] = h.Value
			}
		}
		c.add(q)
	}
	return nil
}

// ours reports whether a URL is one of this service, whose hosts may be named with their port.
func (c *collection) ours(u *url.URL) bool {
	web := u.Scheme == "http" || u.Scheme == "https"
	return web && slices.ContainsFunc(c.hosts, func(host string) bool {
		return strings.EqualFold(host, u.Host) || strings.EqualFold(host, u.Hostname())
	})
}
