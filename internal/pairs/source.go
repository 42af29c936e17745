package pairs

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"

	"vaiven/internal/accesslog"
	"vaiven/internal/plan"
)

// mostRequests is how many different requests are taken from a file.
const mostRequests = 1000

// Requests are all that a plan names: those in it, and those of its access log and
// its HAR file. skipped counts those that are not only reads.
func Requests(p plan.Pairs) (list []plan.Request, skipped int, err error) {
	c := collection{writes: p.Writes, seen: map[string]bool{}}
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
			return nil, 0, err
		}
		err = source.read(&c, f)
		_ = f.Close()
		if err != nil {
			return nil, 0, fmt.Errorf("read requests from %s: %w", source.file, err)
		}
	}
	return c.list, c.skipped, nil
}

// collection takes each request once.
type collection struct {
	writes  bool
	list    []plan.Request
	seen    map[string]bool
	skipped int
}

func (c *collection) add(q plan.Request) {
	if c.seen[q.String()] || len(c.list) == mostRequests {
		return
	}
	c.seen[q.String()] = true
	if q.Method != http.MethodGet && q.Method != http.MethodHead && !c.writes {
		c.skipped++
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

// har reads an HTTP Archive 1.2. Cookies and credentials of whoever recorded it are
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
		q := plan.Request{Method: e.Request.Method, Path: u.RequestURI(), Headers: map[string]string{}, Body: e.Request.PostData.Text}
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
