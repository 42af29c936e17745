package embedded

import (
	"net"
	"net/http"
	"strconv"
	"strings"
)

// denial is an answer that no instance is asked for.
type denial struct {
	status int
	why    string
	reason reason
}

// refuse says why a request is not handed on; nil if it is. What the library reads strictly in
// HTTP/1 is held to the same in HTTP/2 (RFC 9113, section 8.3): instances are asked in lines, which
// a blank in a path would divide.
func refuse(r *http.Request) *denial {
	bad := func(why string) *denial { return &denial{http.StatusBadRequest, why, badRequest} }
	switch {
	case r.Method == http.MethodConnect || r.Method == http.MethodTrace:
		return &denial{http.StatusMethodNotAllowed, "this front does not do " + r.Method, badMethod}
	case !token([]byte(r.Method)):
		return bad("the method is not a token")
	case r.Host == "" && r.ProtoAtLeast(1, 1):
		return bad("the request names no host")
	case !authority(r.Host):
		return bad("the host is not a host and a port")
	case !target(r):
		return bad("the request's target is neither a path nor a URL")
	}
	if r.ProtoMajor < 2 {
		return nil
	}
	if named, ok := r.Header["Host"]; ok && (len(named) != 1 || !strings.EqualFold(named[0], r.Host)) {
		return bad("the host is said in two ways")
	}
	if lengths := r.Header["Content-Length"]; len(lengths) > 0 {
		if _, err := strconv.ParseUint(lengths[0], 10, 63); err != nil || len(lengths) > 1 ||
			strings.HasPrefix(lengths[0], "+") {
			return bad("the length is not a number")
		}
	}
	return nil
}

// target reports whether a request's target has a form that instances can be asked for, and no byte
// that divides a request line.
func target(r *http.Request) bool {
	text := r.RequestURI
	for n := range len(text) {
		if text[n] <= ' ' || text[n] == 0x7f {
			return false
		}
	}
	switch {
	case strings.HasPrefix(text, "/"):
		return true
	case text == "*":
		return r.Method == http.MethodOptions
	}
	return r.ProtoMajor < 2 && (r.URL.Scheme == "http" || r.URL.Scheme == "https") && r.URL.Host != "" &&
		r.URL.User == nil
}

// authority reports whether a text is a host and perhaps a port (RFC 3986, section 3.2), or empty.
func authority(text string) bool {
	host := text
	if at := strings.LastIndexByte(text, ':'); at >= 0 && !strings.HasSuffix(text, "]") {
		host = text[:at]
		for _, c := range text[at+1:] {
			if c < '0' || c > '9' {
				return false
			}
		}
	}
	if inner, ok := strings.CutPrefix(host, "["); ok {
		inner, ok = strings.CutSuffix(inner, "]")
		return ok && net.ParseIP(inner) != nil
	}
	for n := range len(host) {
		if c := host[n]; !tokenBytes[c] && !strings.ContainsRune("(),;=", rune(c)) || c == '^' || c == '`' ||
			c == '|' || c == '#' {
			return false
		}
	}
	return true
}

// headerSize is about how many bytes a request's head takes.
func headerSize(r *http.Request) int64 {
	n := len(r.RequestURI)
	for name, values := range r.Header {
		for _, v := range values {
			n += len(name) + len(v) + 4
		}
	}
	return int64(n)
}
