package differ

import (
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/difference"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
)

// Record is what a side is, with a digest under a key in the place of every value: nobody
// without the key can try values on it. What could not be read is named.
func Record(ctx context.Context, q Question, side split.Side, key []byte) (r wayback.Record, missing []string) {
	r = wayback.Record{Side: side}
	for _, i := range q.Sides[side] {
		if i.Running {
			r.Instances = append(r.Instances, wayback.Stood{Part: i.Part, Name: i.Name, Build: i.Build})
		}
	}
	found := q.read(ctx, side)
	for _, f := range found.facts {
		if f.Area == difference.Build || f.Area == difference.Instances {
			continue // it stands among the instances
		}
		fact := wayback.Fact{Part: f.Part, What: strings.TrimSpace(string(f.Area) + " " + f.Name)}
		digest := digestOf(key, f)
		n := slices.IndexFunc(r.Facts,
			func(other wayback.Fact) bool { return other.Part == fact.Part && other.What == fact.What })
		if n < 0 {
			n = len(r.Facts)
			r.Facts = append(r.Facts, fact)
		}
		if d := &r.Facts[n].Digests; !slices.Contains(*d, digest) {
			*d = append(*d, digest)
		}
	}
	for n := range r.Facts {
		slices.Sort(r.Facts[n].Digests)
	}
	slices.SortFunc(r.Facts, func(a, b wayback.Fact) int {
		return cmp.Or(cmp.Compare(a.Part, b.Part), cmp.Compare(a.What, b.What))
	})
	r.At = time.Now()
	return r, found.missing
}

// digestOf is the digest of a fact's value, with placeholders for what is each instance's own.
func digestOf(key []byte, f difference.Fact) string {
	h := hmac.New(sha256.New, key)
	for _, text := range []string{f.Part, string(f.Area), f.Name, f.Value} {
		h.Write([]byte(text))
		h.Write([]byte{0})
	}
	return hex.EncodeToString(h.Sum(nil)[:12])
}
