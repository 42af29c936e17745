package check

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/world/secret"
)

// bodyLimit bounds what is read of an answer, in bytes.
const bodyLimit = 1 << 20

// most redirects that are followed where a check asks for it.
const mostRedirects = 5

// answer is what came back.
type answer struct {
	status int
	header http.Header
	body   []byte
}

// whole is the answer as it came, for a person to read.
func (a answer) whole() string {
	var b strings.Builder
	fmt.Fprintf(&b, "HTTP %d %s\n", a.status, http.StatusText(a.status))
	_ = a.header.Write(&b) // to memory: cannot fail
	return b.String() + "\n" + string(a.body)
}

// http asks over HTTP or HTTPS. Each check stands for itself: no connection is
// kept, and redirects are followed only where asked.
func (t Target) http(ctx context.Context, h plan.HTTP, within time.Duration) Reading {
	want := fmt.Sprintf("an answer within %v", within)
	tlsConfig, err := t.trust(ctx, h.Trust)
	if err != nil {
		return failed(want, err)
	}
	transport := &http.Transport{DisableKeepAlives: true, DialContext: t.From.Dial, TLSClientConfig: tlsConfig}
	if t.Way != nil {
		transport = t.Way.Transport()
	}
	c := &http.Client{
		Transport: transport,
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			if !h.Redirects {
				return http.ErrUseLastResponse
			}
			if len(via) > mostRedirects {
				return fmt.Errorf("redirected more than %d times", mostRedirects)
			}
			if first := via[0].URL; r.URL.Scheme != first.Scheme || r.URL.Host != first.Host {
				r.Header = http.Header{} // they were meant for somebody else, and so was the URL
				ownHeaders(r)
			}
			return nil
		},
	}
	a, err := t.ask(ctx, c, h, bodyLimit)
	if err != nil {
		var urlErr *url.Error
		if errors.As(err, &urlErr) {
			err = urlErr.Err // without the URL, which is the operator's own
		}
		return failed(want, err)
	}
	if a.status == http.StatusUnauthorized || a.status == http.StatusForbidden {
		if h.Status != a.status {
			return bad(wantStatus(h), fmt.Sprintf("%v: status %d", errDenied, a.status), a.whole())
		}
	}
	if t.Way != nil {
		a.header.Del("Via") // whom it came by is no cache
	}
	r := t.judge(h, a)
	if by := CachedBy(a.header, t.Built); r.Good && by != "" && !h.Caches {
		r = bad("an answer of the instance itself", "one from a cache: "+by, "")
	}
	if !r.Good {
		r.Answer = a.whole()
	} else {
		r.Want += fmt.Sprintf(" within %v", within)
	}
	return r
}

// ask makes one request, past caches, and reads so many bytes of the answer at most.
func (t Target) ask(ctx context.Context, c *http.Client, h plan.HTTP, most int64) (answer, error) {
	target := t.expand(h.URL, secret.InURL)
	r, err := t.request(ctx, h.Method, target)
	if err != nil {
		return answer{}, err
	}
	ownHeaders(r)
	for name, value := range h.Headers {
		value = t.expand(value, nil)
		if http.CanonicalHeaderKey(name) == "Host" {
			r.Host = value
			continue
		}
		r.Header.Set(name, value)
	}
	w, err := c.Do(r)
	if err != nil {
		return answer{}, err
	}
	defer w.Body.Close()
	body, err := io.ReadAll(io.LimitReader(w.Body, most))
	return answer{w.StatusCode, w.Header, body}, err
}

// request is one for a whole URL, or for a path by the way there is.
func (t Target) request(ctx context.Context, method, target string) (*http.Request, error) {
	if strings.HasPrefix(target, "/") {
		if t.Way != nil {
			return t.Way.Request(ctx, method, target)
		}
		target = "http://" + t.Values["address"] + target
	}
	return http.NewRequestWithContext(ctx, method, target, nil)
}

// ownHeaders are those of every request.
func ownHeaders(r *http.Request) {
	r.Header.Set("User-Agent", "vaiven-check")
	PastCaches(r)
}

// PastCaches asks every cache on the way to let a request through (RFC 9111,
// section 5.2.1.4).
func PastCaches(r *http.Request) {
	r.Header.Set("Cache-Control", "no-cache, no-store")
	r.Header.Set("Pragma", "no-cache")
}

// CachedBy says how an answer shows that it came from a cache, "" if it does not:
// by its age, by who passed it on, or by being older than the build that should
// have made it.
func CachedBy(h http.Header, built time.Time) string {
	if age := h.Get("Age"); age != "" && age != "0" {
		return "Age: " + age
	}
	for _, name := range []string{"X-Cache", "X-Cache-Status", "Cache-Status"} {
		if v := h.Get(name); strings.Contains(strings.ToLower(v), "hit") {
			return name + ": " + v
		}
	}
	if via := h.Get("Via"); via != "" {
		return "Via: " + via
	}
	if modified, err := http.ParseTime(h.Get("Last-Modified")); err == nil && !built.IsZero() &&
		modified.Before(built.Truncate(time.Second)) {
		return fmt.Sprintf("Last-Modified: %s, before the build of %s", h.Get("Last-Modified"),
			built.UTC().Format(http.TimeFormat))
	}
	return ""
}

func wantStatus(h plan.HTTP) string {
	if h.Status == 0 {
		return "status 200 to 299"
	}
	return fmt.Sprintf("status %d", h.Status)
}

// unknown reports whether a text names the version or the build of an instance of which that is not known, as of one
// that somebody else has started: there is nothing to compare with.
func (t Target) unknown(text string) bool {
	return slices.ContainsFunc([]string{"version", "build"}, func(name string) bool {
		return t.Values[name] == "" && strings.Contains(text, "{"+name+"}")
	})
}

// judge compares an answer with what the check wants, and names the first thing
// that differs.
func (t Target) judge(h plan.HTTP, a answer) Reading {
	status := fmt.Sprintf("status %d", a.status)
	if a.status != h.Status && (h.Status != 0 || a.status < 200 || a.status > 299) {
		return bad(wantStatus(h), status, "")
	}
	var values []plan.JSONValue
	for _, v := range h.JSON {
		if !t.unknown(v.Want) {
			values = append(values, plan.JSONValue{Path: t.expand(v.Path, nil), Want: t.expand(v.Want, nil)})
		}
	}
	contains := h.Contains
	if t.unknown(contains) {
		contains = ""
	}
	if want, got, ok := Content(a.body, t.expand(contains, nil), values, t.Secrets.HideCut); !ok {
		return bad(want, got, "")
	}
	if version := t.Values["version"]; h.Version != (plan.Field{}) && version != "" {
		if claimed := Claim(h.Version, a.header, a.body); claimed != version {
			if claimed == "" {
				claimed = "none"
			}
			return bad("version "+version, "version "+claimed, "")
		}
	}
	return good(wantStatus(h), status)
}

// Content reports whether a body has a text and values of JSON in it, and if not, what was
// wanted and what is there; hide takes secrets out of a body that may have been cut, before
// it is cut to what is shown.
func Content(body []byte, contains string, values []plan.JSONValue, hide func(string) string) (want, got string,
	ok bool) {
	if contains != "" && !bytes.Contains(body, []byte(contains)) {
		return fmt.Sprintf("a body with %q", contains), "a body without" + ofCut(body) + ": " + excerpt(body, hide),
			false
	}
	for _, v := range values {
		got, err := lookUp(body, v.Path)
		switch {
		case errors.Is(err, errNotJSON):
			got = fmt.Sprintf("%v%s: %s", err, ofCut(body), excerpt(body, hide))
		case err != nil:
			got = err.Error()
		case got == v.Want:
			continue
		default:
			got = Excerpt([]byte(hide(got)))
		}
		return fmt.Sprintf("%s to be %s", v.Path, v.Want), got, false
	}
	return "", "", true
}

// ofCut says that only the beginning of a body was read.
func ofCut(body []byte) string {
	if len(body) < bodyLimit {
		return ""
	}
	return fmt.Sprintf(" in its first %d MiB", bodyLimit>>20)
}

// errNotJSON is what a body is that is none.
var errNotJSON = errors.New("not JSON")

// Claim is what an answer says at a field, "" if it says nothing there.
func Claim(f plan.Field, header http.Header, body []byte) string {
	if f.Header != "" {
		return header.Get(f.Header)
	}
	if f.JSON == "" {
		return ""
	}
	claimed, err := lookUp(body, f.JSON)
	if err != nil {
		return ""
	}
	return claimed
}

// Self is what an instance says of itself. Fields that the plan does not name are
// empty.
type Self struct{ Build, Version, Runtime string }

// Ask asks an instance what it is.
func (t Target) Ask(ctx context.Context, s plan.Says, within time.Duration) (Self, error) {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	a, err := t.page(ctx, s.Path, nil, bodyLimit)
	if err != nil {
		return Self{}, err
	}
	if by := CachedBy(a.header, t.Built); by != "" {
		return Self{}, fmt.Errorf("an answer from a cache: %s", by)
	}
	claim := func(f plan.Field) string { return Claim(f, a.header, a.body) }
	return Self{Build: claim(s.Build), Version: claim(s.Version), Runtime: claim(s.Runtime)}, nil
}

// page gets a page of an instance.
func (t Target) page(ctx context.Context, path string, headers map[string]string, most int64) (answer, error) {
	c := &http.Client{Transport: &http.Transport{DisableKeepAlives: true, DialContext: t.From.Dial}}
	a, err := t.ask(ctx, c, plan.HTTP{Method: http.MethodGet, URL: path, Headers: headers}, most)
	if err == nil && a.status != http.StatusOK {
		err = fmt.Errorf("status %d at %s", a.status, path)
	}
	return a, err
}

// lookUp finds the value at a path of names and indices in a JSON document, as
// text: strings without quotes, everything else as JSON.
func lookUp(body []byte, path string) (string, error) {
	d := json.NewDecoder(bytes.NewReader(body))
	d.UseNumber()
	var at any
	if err := d.Decode(&at); err != nil {
		return "", errNotJSON
	}
	for _, step := range strings.Split(path, ".") {
		switch v := at.(type) {
		case map[string]any:
			next, ok := v[step]
			if !ok {
				return "", fmt.Errorf("nothing at %q", step)
			}
			at = next
		case []any:
			n, err := strconv.Atoi(step)
			if err != nil || n < 0 || n >= len(v) {
				return "", fmt.Errorf("nothing at index %q of %d", step, len(v))
			}
			at = v[n]
		default:
			return "", fmt.Errorf("nothing below %q", step)
		}
	}
	if text, ok := at.(string); ok {
		return text, nil
	}
	text, err := json.Marshal(at)
	return string(text), err
}
