package embedded

import (
	"crypto/subtle"
	"net/http"
	"strings"
	"sync/atomic"

	"vaiven/internal/core/plan"
	"vaiven/internal/front"
)

// spareDoor leads to the side that is not the live one, whatever the share is, for whoever
// knows a secret. What comes by it counts for nothing. The zero value is closed.
type spareDoor struct {
	plan.SpareDoor
	secret atomic.Pointer[string]
}

// opens reports whether a request has the secret.
func (s *spareDoor) opens(r *http.Request) bool {
	secret := s.secret.Load()
	if secret == nil {
		return false
	}
	same := func(value string) bool { return subtle.ConstantTimeCompare([]byte(value), []byte(*secret)) == 1 }
	if s.Header != "" && same(r.Header.Get(s.Header)) {
		return true
	}
	if s.Cookie == "" {
		return false
	}
	c, err := r.Cookie(s.Cookie)
	return err == nil && same(c.Value)
}

// hide takes the secret out of a request, whatever it was.
func (s *spareDoor) hide(h http.Header) {
	if s.Header != "" {
		h.Del(s.Header)
	}
	if s.Cookie == "" {
		return
	}
	for n, line := range h["Cookie"] {
		if !strings.Contains(line, s.Cookie+"=") {
			continue
		}
		var kept []string
		for pair := range strings.SplitSeq(line, ";") {
			if name, _, _ := strings.Cut(strings.TrimSpace(pair), "="); name != s.Cookie {
				kept = append(kept, strings.TrimSpace(pair))
			}
		}
		h["Cookie"][n] = strings.Join(kept, "; ")
	}
}

// names are what answers depend on beside what is asked: by which they are kept apart in caches.
func (s *spareDoor) names() []string {
	var list []string
	if s.Header != "" {
		list = append(list, s.Header)
	}
	if s.Cookie != "" {
		list = append(list, "Cookie")
	}
	return list
}

// load reads the secret, or makes one.
func (s *spareDoor) load() error {
	if !s.Asks() {
		return nil
	}
	secret, err := front.SpareSecret(s.File)
	s.secret.Store(&secret)
	return err
}

// renew makes another secret: the one before opens nothing any more, also where the new one
// cannot be written down.
func (s *spareDoor) renew() error {
	was := s.secret.Load()
	if was == nil {
		return nil
	}
	secret, err := front.RenewSpareSecret(s.File, *was)
	s.secret.Store(&secret)
	return err
}
