package front

import (
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"vaiven/internal/core/split"
)

// All fronts of a plan have one secret, also when each renews it; what somebody else wrote into the file is none.
func TestSpareSecrets(t *testing.T) {
	file := filepath.Join(t.TempDir(), "spare.secret")
	first, err := SpareSecret(file)
	again, errAgain := SpareSecret(file)
	if err != nil || errAgain != nil || first != again || !isSecret(first) {
		t.Fatalf("first %q, %v, then %q, %v", first, err, again, errAgain)
	}
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the file is %v, %v", info.Mode(), err)
	}
	var wait sync.WaitGroup
	var got [4]string
	for n := range got {
		wait.Go(func() { got[n], _ = RenewSpareSecret(file, first) })
	}
	wait.Wait()
	for _, secret := range got {
		if secret != got[0] || secret == first {
			t.Errorf("renewed by several it is %q, and was %q", got, first)
		}
	}
	for _, text := range []string{"", "short", "a \"quoted\" one that is long enough", strings.ToLower(first)} {
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if secret, err := SpareSecret(file); err != nil || !isSecret(secret) || secret == text {
			t.Errorf("in the place of %q it is %q, %v", text, secret, err)
		}
	}
	if secret, err := RenewSpareSecret(filepath.Join(file, "nowhere"), first); err == nil || !isSecret(secret) ||
		secret == first {
		t.Errorf("where it cannot be written it is %q, %v", secret, err)
	}
}

// The door leads to the side without traffic, and stays where it is in between.
func TestWhereASpareDoorLeads(t *testing.T) {
	s := Minor(2500)
	for _, c := range []struct {
		share split.Share
		want  split.Side
	}{{2500, split.Green}, {9900, split.Green}, {split.Whole, split.Blue}, {100, split.Blue}, {0, split.Green},
		{1, split.Green}} {
		if s = s.At(c.share); s.Side != c.want {
			t.Errorf("at %v it leads to %v", c.share, s.Side)
		}
	}
	if Minor(split.Whole).Side != split.Blue || Minor(5000).Side != split.Green {
		t.Error("one that is new leads to the side that has more")
	}
}
