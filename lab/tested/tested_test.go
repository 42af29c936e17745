package main

import (
	"errors"
	"fmt"
	"os"
	"testing"
)

// What has failed is told by package and test, and of what cannot be tried again nothing is.
func TestWhatFailed(t *testing.T) {
	for what, c := range map[string]struct {
		text string
		want string
	}{
		"one": {"func TestA(t *testing.T) {}\nfunc TestB(t *testing.T) { t.Run(\"c\", func(t *testing.T) { t.Fail() }) }",
			"map[pier:[TestB]]"},
		"two": {"func TestA(t *testing.T) { t.Fail() }\nfunc TestB(t *testing.T) { t.Fail() }",
			"map[pier:[TestA TestB]]"},
		"none":       {"func TestA(t *testing.T) {}", "map[]"},
		"a panic":    {"func TestA(t *testing.T) { panic(1) }", "map[]"},
		"what is it": {"func TestA(t *testing.T) { nothing }", "map[]"},
	} {
		t.Run(what, func(t *testing.T) {
			t.Chdir(t.TempDir())
			err := errors.Join(os.WriteFile("go.mod", []byte("module pier\n"), 0o600),
				os.WriteFile("pier_test.go", []byte("package pier\n\nimport \"testing\"\n\n"+c.text+"\n"), 0o600))
			if err != nil {
				t.Fatal(err)
			}
			failed, err := test([]string{"-vet=off"}, ".")
			if got := fmt.Sprint(failed); got != c.want || (err == nil) != (what == "none") {
				t.Errorf("it says %s, %v", got, err)
			}
			if what == "two" {
				again, err := testAgain([]string{"-vet=off"}, map[string][]string{"pier": {"TestA"}})
				if got := fmt.Sprint(again); got != "map[pier:[TestA]]" || err == nil {
					t.Errorf("again it says %s, %v", got, err)
				}
			}
		})
	}
}
