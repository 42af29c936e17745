package nginx

import (
	"fmt"
	"strings"
	"testing"
)

// shape is statements in one line.
func shape(list []statement) string {
	var parts []string
	for _, s := range list {
		text := strings.Join(s.words, "|")
		if s.within != nil {
			text += "{" + shape(s.within) + "}"
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, " ")
}

// Statements are read as nginx reads them, whatever stands in quotes, comments and names.
func TestParse(t *testing.T) {
	for text, want := range map[string]string{
		"":                           "",
		"user www;":                  "user|www",
		"a; # b; {\nc;":              "a c",
		"a \"b; { c\" 'd # e';":      "a|b; { c|d # e",
		`a "b \" c";`:                `a|b \" c`,
		"map $x ${y}_z {default 1;}": "map|$x|${y}_z{default|1}",
		"upstream s{server 1:2;}":    "upstream|s{server|1:2}",
		"location ~ ^/a(\\d)$ {b;}":  "location|~|^/a(\\d)${b}",
		"a { b { c; } d; } e;":       "a{b{c} d} e",
		"a { b":                      "a",
		"a \"unfinished":             "",
		";;":                         "",
		"a \"\" b;":                  "a||b",
	} {
		list := parse("x", text)
		if got := shape(list); got != want {
			t.Errorf("%q is read as %q, not %q", text, got, want)
		}
	}
}

// What is asked of statements finds them at any depth, and what they are within.
func TestEach(t *testing.T) {
	list := parse("x", "http { server { listen 1; location / { proxy_pass http://a; } } server { location / { if ($x) "+
		"{ proxy_pass http://b; } } } }")
	var got []string
	each(list, "proxy_pass", func(s statement, within []statement) {
		got = append(got, fmt.Sprint(s.words[1], len(within), within[len(within)-1].words[0]))
	})
	if fmt.Sprint(got) != "[http://a3location http://b4if]" {
		t.Errorf("it finds %v", got)
	}
	if at := first(list[0].within[0].within, "listen"); len(at) != 1 || at[0] != "1" {
		t.Errorf("it listens at %v", at)
	}
}
