package secret

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"vaiven/internal/core/plan"
)

// values are secrets by name, as if they had been read.
func values(t *testing.T, named map[string]string) Values {
	t.Helper()
	secrets := map[string]plan.Secret{}
	for name, value := range named {
		file := filepath.Join(t.TempDir(), name)
		if err := os.WriteFile(file, []byte(value+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		secrets[name] = plan.Secret{File: file}
	}
	v, err := Read(secrets)
	if err != nil {
		t.Fatal(err)
	}
	return v
}

func TestPlaceholdersAreFilledInOnce(t *testing.T) {
	v := values(t, map[string]string{"fares": "sea {version} salt", "token": "a/b",
		"dsn": "postgres://fares:x@db/fares"})
	at := map[string]string{"version": "{secret fares}", "port": "80"}
	for _, c := range []struct {
		text   string
		encode func(string) string
		want   string
	}{
		{"{version} on {port}", nil, "{secret fares} on 80"},
		{"{secret fares}", nil, "sea {version} salt"},
		{"{nothing} {secret nothing}", nil, "{nothing} {secret nothing}"},
		{"http://h/{secret token}", InURL, "http://h/a%2Fb"},
		{"{secret dsn}", InURL, "postgres://fares:x@db/fares"}, // as a whole it is the URL
	} {
		if got := v.Fill(c.text, at, c.encode); got != c.want {
			t.Errorf("Fill(%q) = %q, want %q", c.text, got, c.want)
		}
	}
}

// Whatever a password holds, it arrives in a URL as it is, and nothing of it becomes a host.
func TestASecretInAURLArrivesWhole(t *testing.T) {
	for _, password := range []string{"p@ss", "a:b/c?d#e", "100 %", "ø+&=;", "{version}", `\"'<>`, "a\nb"} {
		v := values(t, map[string]string{"pw": password})
		u, err := url.Parse(v.Fill("postgres://fares:{secret pw}@db.internal/fares?note={secret pw}", nil, InURL))
		if err != nil {
			t.Errorf("%q: %v", password, err)
			continue
		}
		if got, _ := u.User.Password(); got != password || u.Host != "db.internal" ||
			u.Query().Get("note") != password {
			t.Errorf("%q arrives as %q at %s, and as %q", password, got, u.Host, u.Query().Get("note"))
		}
	}
}

// An answer can give a secret back in many forms, and each is hidden.
func TestASecretIsHiddenInEveryForm(t *testing.T) {
	const password = `S3a "salt" <7>/ø'&+`
	v := values(t, map[string]string{"fares": password})
	inJSON, _ := json.Marshal(map[string]string{"pw": password})
	var plainJSON bytes.Buffer
	e := json.NewEncoder(&plainJSON)
	e.SetEscapeHTML(false)
	_ = e.Encode(password)
	forms := map[string]string{
		"as it is": password, "JSON": string(inJSON), "JSON without HTML escapes": plainJSON.String(),
		"JSON with escaped slashes": strings.ReplaceAll(plainJSON.String(), "/", `\/`),
		"ASCII JSON":                strings.ReplaceAll(plainJSON.String(), "ø", `\u00f8`),
		"path":                      url.PathEscape(password), "query": url.QueryEscape(password),
		"URL":          InURL(password),
		"small digits": InURL("%") + smallHex(InURL(password)), "Go": strconv.Quote(password),
		"HTML": html.EscapeString(password),
		"SQL":  strings.ReplaceAll(password, "'", "''"), "shell": strings.ReplaceAll(password, "'", `'\''`),
		"hex": hex.EncodeToString([]byte(password)), "HEX": strings.ToUpper(hex.EncodeToString([]byte(password))),
		"error": fmt.Sprintf("dial %q", password), "every character an entity": each(password, "&#%d;"),
		"in hexadecimal":          each(password, "&#x%x;"),
		"every character of JSON": each(password, `\u%04x`), "every byte": eachByte(password, `\x%02x`),
		"octal":               eachByte(password, `\%03o`),
		"every byte of a URL": eachByte(password, "%%%02x"), "an old script's": each(password, "%%u%04X"),
		"braces":             each(password, `\u{%x}`),
		"encodeURIComponent": strings.NewReplacer("%27", "'", "%28", "(", "%29", ")").Replace(InURL(password)),
		"a shell's backslashes": regexp.MustCompile(`[^\w]`).ReplaceAllStringFunc(password,
			func(s string) string { return `\` + s }),
		"a shell's quotes": strings.ReplaceAll(password, "'", `'"'"'`),
		"apostrophes":      strings.ReplaceAll(html.EscapeString(password), "&#39;", "&apos;"),
		"CSV":              strings.ReplaceAll(password, `"`, `""`), "a URL twice": InURL(InURL(password)),
		"HTML twice":           html.EscapeString(html.EscapeString(password)),
		"JSON in JSON":         strconv.Quote(string(inJSON)),
		"JSON in JSON in JSON": strconv.Quote(strconv.Quote(string(inJSON))),
		"a URL in JSON":        strconv.Quote(InURL(password)),
		"JSON in a URL":        InURL(string(inJSON)), "base64 twice": twice(base64.StdEncoding, ":"+password),
		"URL base64 twice": twice(base64.RawURLEncoding, "pw:"+password),
		"base64 in a URL":  url.QueryEscape(base64.StdEncoding.EncodeToString([]byte("???>>>:" + password))),
		"base64 by lines": lined(base64.StdEncoding.EncodeToString([]byte(strings.Repeat("quay ", 8) + password +
			" and more of it, and more"))),
		"base64 by lines in JSON": strconv.Quote(lined(base64.StdEncoding.EncodeToString([]byte(strings.Repeat("quay",
			10) + password + " and more of it, and more")))),
	}
	for before := range 4 {
		for name, code := range map[string]*base64.Encoding{"base64": base64.StdEncoding,
			"URL base64": base64.RawURLEncoding} {
			text := strings.Repeat("u", before) + ":" + password
			forms[fmt.Sprint(name, " behind ", before)] = "Authorization: Basic " + code.EncodeToString([]byte(text))
			forms[fmt.Sprint(name, " within ", before)] = code.EncodeToString([]byte(text + ":and more"))
		}
	}
	for name, text := range forms {
		hidden := v.Hide("before " + text + " after")
		if !v.In(text) || !strings.Contains(hidden, "(secret fares)") || !strings.HasPrefix(hidden, "before ") ||
			!strings.HasSuffix(hidden, " after") {
			t.Errorf("%s: %q is shown as %q", name, text, hidden)
		}
		for _, left := range []string{"S3a", "salt", hex.EncodeToString([]byte("salt")),
			base64.RawStdEncoding.EncodeToString([]byte(password))[4:12]} {
			if strings.Contains(hidden, left) {
				t.Errorf("%s: of it %q is left in %q", name, left, hidden)
			}
		}
	}
	for _, text := range []string{"nothing of it", "/usr/lib/postgresql/15/bin", "c2FsdA", ""} {
		if v.Hide(text) != text || v.HideCut(text) != text || v.In(text) || (Values{}).Hide(text) != text {
			t.Errorf("an innocent text was changed: %q became %q", text, v.HideCut(text))
		}
	}
}

// each writes every character by its number.
func each(text, format string) string {
	var b strings.Builder
	for _, r := range text {
		fmt.Fprintf(&b, format, r)
	}
	return b.String()
}

func eachByte(text, format string) string {
	var b strings.Builder
	for _, c := range []byte(text) {
		fmt.Fprintf(&b, format, c)
	}
	return b.String()
}

func twice(code *base64.Encoding, text string) string {
	return code.EncodeToString([]byte(code.EncodeToString([]byte(text))))
}

// lined breaks a text into lines of 64 characters.
func lined(text string) string {
	var b strings.Builder
	for len(text) > 64 {
		b.WriteString(text[:64] + "\r\n")
		text = text[64:]
	}
	return b.String() + text
}

// smallHex writes the digits of percent-encoding small.
func smallHex(text string) string {
	return regexp.MustCompile("%[0-9A-F]{2}").ReplaceAllStringFunc(text, strings.ToLower)
}

const key = "-----BEGIN PRIVATE " +
	"KEY-----\nMIIEvQIBADANBgkqhkiG9w0BAQEFAASCBKcwggSj\nAgEAAoIBAQDbRZl9nq3Vr8s1oYwq7mJk2h5t\nz8f0Q1w2\n-----END " +
	"PRIVATE KEY-----"

// A key is hidden as a whole, on one line, by its lines, and in base64 on several lines.
func TestAKeyIsHiddenByItsLines(t *testing.T) {
	v := values(t, map[string]string{"key": key})
	var wrapped strings.Builder
	code := base64.StdEncoding.EncodeToString([]byte(key))
	for len(code) > 76 {
		wrapped.WriteString(code[:76] + "\n")
		code = code[76:]
	}
	wrapped.WriteString(code)
	for name, text := range map[string]string{
		"whole": key, "on one line": strings.Join(strings.Fields(key), " "), "JSON": strconv.Quote(key),
		"CRLF":   strings.ReplaceAll(key, "\n", "\r\n"),
		"a line": "parse: AgEAAoIBAQDbRZl9nq3Vr8s1oYwq7mJk2h5t", "indented": strings.ReplaceAll(key, "\n", "\n    "),
		"quoted in a log": strings.ReplaceAll(key, "\n", "\n> "), "base64 on lines": wrapped.String(),
	} {
		hidden := v.Hide(text)
		for _, left := range append(strings.Split(key, "\n")[1:4], strings.Split(wrapped.String(), "\n")...) {
			if strings.Contains(hidden, left) {
				t.Errorf("%s: %q is left in %q", name, left, hidden)
			}
		}
	}
}

// What was cut off in the middle of a secret shows no part of it.
func TestASecretThatWasCutIsHidden(t *testing.T) {
	const password = "sea-salt-and-herring"
	v := values(t, map[string]string{"fares": password})
	text := "login with " + password + " refused, " + password + " again"
	for from := range len(text) {
		for to := from; to <= len(text); to++ {
			hidden := v.HideCut(text[from:to])
			for n := 0; n+shortest <= len(password); n++ {
				if part := password[n : n+shortest]; strings.Contains(hidden, part) &&
					!strings.Contains(strings.ReplaceAll(text, password, ""), part) {
					// A piece out of the middle is all that there is: no end of it shows whose it is.
					if from > strings.Index(text, password) && to < strings.Index(text, password)+len(password) {
						continue
					}
					if from > strings.LastIndex(text, password) && to < len(text) &&
						to < strings.LastIndex(text, password)+len(password) {
						continue
					}
					t.Fatalf("of %q %q is shown", text[from:to], hidden)
				}
			}
		}
	}
}

func TestMissingAndEmptySecretsAreNamed(t *testing.T) {
	t.Setenv("VAIVEN_EMPTY", "")
	_, err := Read(map[string]plan.Secret{"a": {Env: "VAIVEN_NOT_SET"}, "b": {File: "/nowhere/b"},
		"c": {Env: "VAIVEN_EMPTY"}})
	if err == nil || !strings.Contains(err.Error(), "secret a") || !strings.Contains(err.Error(), "secret b") ||
		!strings.Contains(err.Error(), "secret c: it is empty") {
		t.Errorf("error %v", err)
	}
}

func TestAnErrorIsHiddenAndStaysWhatItIs(t *testing.T) {
	v := values(t, map[string]string{"fares": "sea salt"})
	err := v.Error(fmt.Errorf("open sea salt: %w", fs.ErrNotExist))
	if err.Error() != "open (secret fares): file does not exist" || !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("it is %v", err)
	}
	if v.Error(nil) != nil || v.Error(fs.ErrExist) != fs.ErrExist {
		t.Error("an error without a secret was changed")
	}
}

func TestAWriterHidesAndSteersNoTerminal(t *testing.T) {
	var out bytes.Buffer
	w := NewWriter(&out)
	fmt.Fprint(w, "sea salt\n")
	w.Know(values(t, map[string]string{"fares": "sea salt", "weak": "share"}))
	fmt.Fprint(w, "{\"share\":1}\n")
	fmt.Fprint(w, "sea salt\t\x1b[31mred\x07 \u009b31m \u202eturned\r\n")
	if got, want := out.String(), "sea salt\n{\"share\":1}\n(secret fares)\t?[31mred? ?31m ?turned?\n"; got != want {
		t.Errorf("written %q, want %q", got, want)
	}
}

// Whatever a secret is made of and whatever stands around it, neither it nor what an answer
// makes of it is left.
func FuzzHide(f *testing.F) {
	f.Add("sea salt", "before ", " after")
	f.Add("p@\"x'/\\", "", "=")
	f.Add("line one\nline two", "a", "b")
	f.Fuzz(func(t *testing.T, value, before, after string) {
		if len(value) < 4 || len(value) > 200 || len(before)+len(after) > 1000 ||
			strings.Contains("(secret fares)", value) || strings.TrimSpace(value) != value {
			return
		}
		v := Values{byName: map[string]string{"fares": value}}
		v.forms = newForms(v.byName, shortest)
		quoted, _ := json.Marshal(value)
		for _, form := range []string{value, url.QueryEscape(value), InURL(value), strconv.Quote(value), string(quoted),
			html.EscapeString(value), eachByte(value, `\x%02x`), strconv.Quote(string(quoted)),
			hex.EncodeToString([]byte(value))} {
			hidden := v.Hide(before + form + after)
			if strings.Contains(hidden, value) && !strings.Contains(before+after+"(secret fares)", value) &&
				!strings.Contains(before+"(secret fares)"+after, value) {
				t.Fatalf("of %q in %q there is %q", value, before+form+after, hidden)
			}
		}
		if u, err := url.Parse("postgres://fares:" + InURL(value) + "@db/fares"); err != nil || u.Host != "db" {
			t.Fatalf("%q in a URL: %v, %v", value, u, err)
		}
	})
}

// Hiding takes little beside what it is done for: a page of output.
func BenchmarkHide(b *testing.B) {
	v := Values{byName: map[string]string{"fares": "sea salt", "key": key}}
	v.forms = newForms(v.byName, shortest)
	page := strings.Repeat("2026-11-25T21:37:34Z listening on 127.0.0.1:18100, build 4f2a9c/linux\n", 100)
	b.ReportAllocs()
	for b.Loop() {
		v.Hide(page)
	}
}
