package notice

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"strings"
	"time"
)

// Token answers one question in the name of whom it was made for. It is used up with the question, which can be
// answered once.
type Token struct {
	Question uint64    `json:"q"`
	To       string    `json:"t"`           // the address that it was sent to
	As       string    `json:"u,omitempty"` // the user of the keeper's machine who that is, "" if the plan does not say
	Until    time.Time `json:"x"`
}

// What is wrong with a token.
var (
	ErrNoToken = errors.New("this is no token of this service")
	ErrExpired = errors.New("this token has expired")
)

// sealed is what a token is signed with: a key of this use alone.
func sealed(key []byte, service, body string) []byte {
	own := hmac.New(sha256.New, key)
	own.Write([]byte("answers of " + service))
	mac := hmac.New(sha256.New, own.Sum(nil))
	mac.Write([]byte(body))
	return mac.Sum(nil)
}

var letters = base64.RawURLEncoding

// Seal writes a token of a service so that whoever has the key knows it again.
func Seal(key []byte, service string, t Token) string {
	t.Until = t.Until.UTC().Truncate(time.Second)
	data, _ := json.Marshal(t) // it has nothing that could fail
	body := letters.EncodeToString(data)
	return body + "." + letters.EncodeToString(sealed(key, service, body))
}

// Open reads what Seal wrote. The error is [ErrNoToken], or wraps [ErrExpired] beside the token.
func Open(key []byte, service, text string, now time.Time) (t Token, err error) {
	body, signature, _ := strings.Cut(strings.TrimSpace(text), ".")
	mac, err := letters.DecodeString(signature)
	if err != nil || !hmac.Equal(mac, sealed(key, service, body)) {
		return t, ErrNoToken
	}
	data, err := letters.DecodeString(body)
	if err != nil || json.Unmarshal(data, &t) != nil {
		return Token{}, ErrNoToken
	}
	if !now.Before(t.Until) {
		return t, ErrExpired
	}
	return t, nil
}
