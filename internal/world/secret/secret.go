package secret

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"vaiven/internal/core/plan"
)

// Values are the secrets of a plan. The zero value has none. They may be used by many at
// the same time.
type Values struct {
	byName map[string]string
	forms  *forms // nil for no secrets
	long   *forms // of those that stand in no ordinary word
}

// Read reads every secret. The errors name all that are missing or empty, and no value.
func Read(secrets map[string]plan.Secret) (Values, error) {
	v := Values{byName: map[string]string{}}
	var failed []error
	for _, name := range slices.Sorted(maps.Keys(secrets)) {
		value, err := read(secrets[name])
		if err == nil && value == "" {
			err = errors.New("it is empty")
		}
		if err != nil {
			if at := secrets[name].At; at != "" {
				err = fmt.Errorf("%w (%s declares it)", err, at)
			}
			failed = append(failed, fmt.Errorf("secret %s: %w", name, err))
		}
		v.byName[name] = value
	}
	v.forms, v.long = newForms(v.byName, shortest), newForms(v.byName, certain)
	return v, errors.Join(failed...)
}

func read(s plan.Secret) (string, error) {
	if s.Env != "" {
		value, ok := os.LookupEnv(s.Env)
		if !ok {
			return "", fmt.Errorf("the environment variable %s is not set: export it where vaiven runs", s.Env)
		}
		return value, nil
	}
	data, err := os.ReadFile(s.File)
	return strings.TrimRight(string(data), "\r\n"), err
}

// Fill puts values in place of the placeholders {NAME} and {secret NAME} of a text, all at
// once: what stands in a value is not looked at again. encode writes secrets for where the
// text is used, such as [InURL]; nil writes them as they are. A text that is one secret and
// nothing else is that secret as it is: it may be a whole URL.
func (v Values) Fill(text string, values map[string]string, encode func(string) string) string {
	pairs := make([]string, 0, 2*(len(values)+len(v.byName)))
	for name, value := range values {
		pairs = append(pairs, "{"+name+"}", value)
	}
	for name, value := range v.byName {
		hole := "{secret " + name + "}"
		if encode != nil && text != hole {
			value = encode(value)
		}
		pairs = append(pairs, hole, value)
	}
	return strings.NewReplacer(pairs...).Replace(text)
}

// InURL writes a text so that it can stand anywhere in a URL: every byte is
// percent-encoded but the unreserved characters (RFC 3986, section 2.3).
func InURL(text string) string {
	var b strings.Builder
	for _, c := range []byte(text) {
		if c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || strings.IndexByte("-._~", c) >= 0 {
			b.WriteByte(c)
		} else {
			fmt.Fprintf(&b, "%%%02X", c)
		}
	}
	return b.String()
}

// InDSN is how a secret is written into the address of a database: percent-encoded in a
// URL, and with backslashes among keywords and values.
func InDSN(address string) func(string) string {
	if strings.Contains(address, "://") {
		return InURL
	}
	return func(text string) string {
		var b strings.Builder
		for _, c := range []byte(text) {
			if strings.IndexByte(`\' `+"\t\n\r\v\f", c) >= 0 {
				b.WriteByte('\\')
			}
			b.WriteByte(c)
		}
		return b.String()
	}
}

// Hide takes every secret out of a text, in whatever form an answer or an error may give
// it back: as it is, by the lines of one that has several, escaped for JSON, a URL, HTML, a
// shell or a database, in hexadecimal digits, and in base64, of "user:secret" too. A text is hidden
// before it is cut to size; for one that comes cut see [Values.HideCut].
func (v Values) Hide(text string) string {
	if v.forms == nil || text == "" {
		return text
	}
	return v.forms.hide(text)
}

// HideCut is Hide for a text whose beginning or end was cut off: the part of a secret
// that is left there is hidden as well, from three characters on.
func (v Values) HideCut(text string) string {
	if v.forms == nil || text == "" {
		return text
	}
	return v.forms.hideEdges(v.forms.hide(text))
}

// reworded is an error with another text. What it is stays.
type reworded struct {
	text string
	err  error
}

func (e *reworded) Error() string { return e.text }
func (e *reworded) Unwrap() error { return e.err }

// Reworded is an error whose text something has taken the secrets out of; [errors.Is] and
// [errors.As] find what they found before. Nil stays nil.
func Reworded(err error, hide func(string) string) error {
	if err == nil {
		return nil
	}
	if text := hide(err.Error()); text != err.Error() {
		return &reworded{text, err}
	}
	return err
}

// Error is an error whose text holds no secret; see [Reworded].
func (v Values) Error(err error) error { return Reworded(err, v.Hide) }

// In reports whether a text holds a secret.
func (v Values) In(text string) bool { return v.Hide(text) != text }
