package embedded

import (
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"io/fs"
	"net/http"
	"os"
	"strings"
	"sync/atomic"

	"vaiven/internal/durable"
)

// spareDoor leads to the side that is not the live one, whatever the share is, for whoever
// knows a secret. What comes by it counts for nothing. The zero value is closed.
type spareDoor struct {
	header, cookie string // names; "" if that is not one
	file           string // with the secret
	secret         atomic.Pointer[string]
}

// opens reports whether a request has the secret.
func (s *spareDoor) opens(r *http.Request) bool {
	secret := s.secret.Load()
	if secret == nil {
		return false
	}
	same := func(value string) bool { return subtle.ConstantTimeCompare([]byte(value), []byte(*secret)) == 1 }
	if s.header != "" && same(r.Header.Get(s.header)) {
		return true
	}
	if s.cookie == "" {
		return false
	}
	c, err := r.Cookie(s.cookie)
	return err == nil && same(c.Value)
}

// hide takes the secret out of a request, whatever it was.
func (s *spareDoor) hide(h http.Header) {
	if s.header != "" {
		h.Del(s.header)
	}
	if s.cookie == "" {
		return
	}
	for n, line := range h["Cookie"] {
		if !strings.Contains(line, s.cookie+"=") {
			continue
		}
		var kept []string
		for pair := range strings.SplitSeq(line, ";") {
			if name, _, _ := strings.Cut(strings.TrimSpace(pair), "="); name != s.cookie {
				kept = append(kept, strings.TrimSpace(pair))
			}
		}
		h["Cookie"][n] = strings.Join(kept, "; ")
	}
}

// load reads the secret, or makes one.
func (s *spareDoor) load() error {
	if s.header == "" && s.cookie == "" {
		return nil
	}
	data, err := os.ReadFile(s.file)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if secret := strings.TrimSpace(string(data)); secret != "" {
		s.secret.Store(&secret)
		return nil
	}
	return s.renew()
}

// renew makes another secret: the one before opens nothing any more, also where the new one
// cannot be written down.
func (s *spareDoor) renew() error {
	if s.header == "" && s.cookie == "" {
		return nil
	}
	secret := rand.Text()
	s.secret.Store(&secret)
	return durable.WriteFile(s.file, []byte(secret+"\n"))
}
