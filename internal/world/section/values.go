package section

import (
	"fmt"
	"math"
	"net"
	"strconv"
	"strings"
	"time"

	"vaiven/internal/core/split"
)

// Duration parses a positive time such as "2m" or "1h30m".
func Duration(text string) (time.Duration, error) {
	d, err := time.ParseDuration(strings.ReplaceAll(text, " ", ""))
	if err != nil || d <= 0 {
		return 0, Form(fmt.Errorf("%q is not a time: want a number with its unit, such as 500ms, 30s, 2m or 1h30m",
			text), TimeForm)
	}
	return d, nil
}

// What values look like, as parts of a regular expression.
const (
	NumberForm = `\+?[0-9]*\.?[0-9]+([eE][+-]?[0-9]+)?`
	TimeForm   = `([0-9]*\.?[0-9]+ *(ns|us|µs|μs|ms|s|m|h) *)+`
	ShareForm  = `([0-9]+(\.[0-9]{0,2})? *%|[0-9]+ +in +[0-9]+)`
	RateForm   = NumberForm + ` */s`
)

const wholeForm = `\+?[0-9]+`

// formed is an error with what would be right, as a schema can say it: a form of texts, and bounds of whole numbers.
type formed struct {
	error
	form        string
	least, most int // of a whole number, both 0 if it is none
}

func (f formed) Unwrap() error { return f.error }

// Form gives a parser's error the form of what it takes: a regular expression for the whole of a text, which a schema
// tells.
func Form(err error, form string) error {
	if err == nil {
		return nil
	}
	return formed{error: err, form: form}
}

// TimeOrNone is a duration that may also be "0s".
func TimeOrNone(text string) (time.Duration, error) {
	if d, err := time.ParseDuration(text); err == nil && d == 0 {
		return 0, nil
	}
	d, err := Duration(text)
	return d, Form(err, "0|"+TimeForm)
}

// Between parses a whole number in a range.
func Between(least, most int) func(string) (int, error) {
	return func(text string) (int, error) {
		n, err := strconv.Atoi(text)
		if err != nil || n < least || n > most {
			return 0, formed{fmt.Errorf("%q does not fit: want a whole number from %d to %d", text, least, most), wholeForm,
				least, most}
		}
		return n, nil
	}
}

// PerSecond parses a rate such as "20 /s".
func PerSecond(text string) (float64, error) {
	number, ok := strings.CutSuffix(strings.TrimSpace(text), "/s")
	rate, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	if !ok || err != nil || !(rate > 0 && rate <= 1e9) {
		return 0, Form(fmt.Errorf("%q is not a rate: want a number a second, such as \"20 /s\"", text), RateForm)
	}
	return rate, nil
}

// Size parses a number of bytes such as "64 KiB".
func Size(text string) (int64, error) {
	for _, u := range []struct {
		suffix string
		bytes  int64
	}{{"KiB", 1 << 10}, {"MiB", 1 << 20}, {"GiB", 1 << 30}} {
		if number, ok := strings.CutSuffix(text, u.suffix); ok {
			n, err := strconv.ParseInt(strings.TrimSpace(number), 10, 32)
			if err == nil && n > 0 && n <= 1<<20 {
				return n * u.bytes, nil
			}
		}
	}
	return 0, Form(fmt.Errorf("%q is not a size: want a whole number with its unit, such as \"64 KiB\", \"1500 MiB\" or "+
		"\"2 GiB\"", text), `[0-9]+ *(KiB|MiB|GiB)`)
}

// Amount parses a number that may have a unit: "20", "0.5", "10 MB", "64 MiB".
func Amount(text string) (float64, error) {
	number, times := text, 1.0
	for unit, factor := range map[string]float64{"kB": 1e3, "MB": 1e6, "GB": 1e9, "KiB": 1 << 10, "MiB": 1 << 20,
		"GiB": 1 << 30} {
		if cut, ok := strings.CutSuffix(text, unit); ok {
			number, times = strings.TrimSpace(cut), factor
		}
	}
	v, err := strconv.ParseFloat(number, 64)
	if err != nil || math.IsNaN(v) || v < 0 || v > 1e15 {
		return 0, Form(fmt.Errorf("%q is no amount: want a number that may have a unit, such as \"20\", \"0.5\" or \"10 "+
			"MB\"", text), NumberForm+` *(kB|MB|GB|KiB|MiB|GiB)?`)
	}
	return v * times, nil
}

// Fraction parses a percentage into a number from 0 to 1.
func Fraction(text string) (float64, error) {
	share, err := split.ParseShare(text)
	return share.Fraction(), Form(err, ShareForm)
}

// Fault is a fraction above none, and below all.
func Fault(text string) (float64, error) {
	f, err := Fraction(text)
	if err == nil && (f <= 0 || f >= 1) {
		err = fmt.Errorf("%q is no fault to find: want more than 0 %% and less than 100 %%", text)
	}
	return f, err
}

// Certainty is a fraction that leaves room on both sides.
func Certainty(text string) (float64, error) {
	f, err := Fraction(text)
	if err == nil && (f < 0.5 || f > 0.9999) {
		err = fmt.Errorf("%q is no useful certainty: want 50 %% to 99.99 %%", text)
	}
	return f, err
}

func YesNo(text string) (bool, error) {
	switch text {
	case "yes", "true":
		return true, nil
	case "no", "false":
		return false, nil
	}
	return false, fmt.Errorf("%q is neither: want yes or no", text)
}

// OneOf parses one of a few words.
func OneOf[T ~string](text string, words ...T) (T, error) {
	names := make([]string, len(words))
	for i, w := range words {
		if text == string(w) {
			return w, nil
		}
		names[i] = string(w)
	}
	try := "want " + strings.Join(names, ", or ")
	if near := Nearest(text, names); near != "" {
		try = fmt.Sprintf("did you mean %q?", near)
	}
	return "", Mistake{What: fmt.Sprintf("%q is not a choice here", text), Try: try, choices: names}
}

// HostPort parses an address to listen on.
func HostPort(text string) (string, error) {
	_, port, err := net.SplitHostPort(text)
	if err == nil {
		_, err = Between(0, 65535)(port)
	}
	if err != nil {
		return "", fmt.Errorf("%q is not an address: want host:port, such as 127.0.0.1:8080", text)
	}
	return text, nil
}

// IsToken reports whether a text can name a cookie or a header (RFC 9110 section
// 5.6.2), without the signs that mean something in the proxies' configurations.
func IsToken(text string) bool {
	for _, c := range text {
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_' || c == '.') {
			return false
		}
	}
	return text != ""
}

// Word parses a name that may stand in file names and messages.
func Word(text string) (string, error) {
	for _, c := range text {
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_') {
			return "", fmt.Errorf("%q cannot be a name: want letters, digits, - and _", text)
		}
	}
	if text == "" || len(text) > 60 {
		return "", fmt.Errorf("%q cannot be a name: want 1 to 60 letters, digits, - and _", text)
	}
	return text, nil
}

// Positive parses a number above zero.
func Positive(text string) (float64, error) {
	n, err := strconv.ParseFloat(text, 64)
	if err != nil || !(n > 0 && n <= 1e6) {
		return 0, fmt.Errorf("%q does not fit: want a number above 0, such as 0.5", text)
	}
	return n, nil
}

// ProxyName parses the name of a backend, server or balancer at a proxy.
func ProxyName(text string) (string, error) {
	if text == "" || strings.ContainsAny(text, " /;#\"'\\\n\t<>") {
		return "", fmt.Errorf("%q cannot be a name at a proxy: want no spaces, quotes, slashes or semicolons", text)
	}
	return text, nil
}

// Ports parses a range of ports, the first and the last: "18100-18199".
func Ports(text string) ([2]int, error) {
	low, high, ok := strings.Cut(text, "-")
	first, err1 := Between(1, 65535)(strings.TrimSpace(low))
	last, err2 := Between(1, 65535)(strings.TrimSpace(high))
	if !ok || err1 != nil || err2 != nil || last < first {
		return [2]int{}, Form(fmt.Errorf("%q is not a range of ports: want the first and the last, such as "+
			"18100-18199", text), `[0-9]{1,5} *- *[0-9]{1,5}`)
	}
	return [2]int{first, last}, nil
}
