package secret

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"os"
	"slices"
	"strings"

	"vaiven/internal/plan"
)

// Values are the secrets of a plan. The zero value has none.
type Values struct {
	byName map[string]string
	hide   *strings.Replacer
}

// shortest is the length from which on a value is taken out of texts. Shorter ones
// would be found in everything.
const shortest = 3

// Read reads every secret. The errors name all that are missing, and no value.
func Read(secrets map[string]plan.Secret) (Values, error) {
	v := Values{byName: map[string]string{}}
	var failed []error
	for _, name := range slices.Sorted(maps.Keys(secrets)) {
		value, err := read(secrets[name])
		if err != nil {
			failed = append(failed, fmt.Errorf("secret %s: %w", name, err))
		}
		v.byName[name] = value
	}
	v.prepare()
	return v, errors.Join(failed...)
}

func read(s plan.Secret) (string, error) {
	if s.Env != "" {
		value, ok := os.LookupEnv(s.Env)
		if !ok {
			return "", fmt.Errorf("the environment variable %s is not set", s.Env)
		}
		return value, nil
	}
	data, err := os.ReadFile(s.File)
	return strings.TrimRight(string(data), "\r\n"), err
}

// prepare makes the replacer: longer values first, so that one that is part of
// another does not leave the rest of it.
func (v *Values) prepare() {
	type shown struct{ value, as string }
	var list []shown
	for name, value := range v.byName {
		for _, form := range []string{value, url.PathEscape(value), url.QueryEscape(value)} {
			if len(form) >= shortest {
				list = append(list, shown{form, "(secret " + name + ")"})
			}
		}
	}
	slices.SortFunc(list, func(a, b shown) int {
		return cmp.Or(len(b.value)-len(a.value), cmp.Compare(a.as, b.as), cmp.Compare(a.value, b.value))
	})
	var pairs []string
	for _, s := range list {
		pairs = append(pairs, s.value, s.as)
	}
	v.hide = strings.NewReplacer(pairs...)
}

// Expand puts the values in place of {secret NAME}, each written by encode; nil
// leaves them as they are.
func (v Values) Expand(text string, encode func(string) string) string {
	for name, value := range v.byName {
		if encode != nil {
			value = encode(value)
		}
		text = strings.ReplaceAll(text, "{secret "+name+"}", value)
	}
	return text
}

// Hide takes every secret out of a text.
func (v Values) Hide(text string) string {
	if v.hide == nil {
		return text
	}
	return v.hide.Replace(text)
}

// In reports whether a text holds a secret.
func (v Values) In(text string) bool { return v.Hide(text) != text }
