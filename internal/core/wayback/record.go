package wayback

import (
	"fmt"
	"slices"
	"time"

	"vaiven/internal/core/split"
)

// Record is what a side was when it carried everything. It holds no value of it: what may be
// secret is there as a digest that only who has the key can make.
type Record struct {
	Side      split.Side `json:"side"`
	At        time.Time  `json:"at"`
	Instances []Stood    `json:"instances"`
	Facts     []Fact     `json:"facts"`
}

// Stood is one instance of a side.
type Stood struct {
	Part  string `json:"part"`
	Name  string `json:"name"`
	Build string `json:"build"`
}

// Fact is one thing of a part: a variable, a key of its configuration, a limit.
type Fact struct {
	Part    string   `json:"part"`
	What    string   `json:"what"`    // such as "environment FARES_URL"
	Digests []string `json:"digests"` // of its values at the part's instances, in order, each once
}

// Compare holds a side to what it was. What is only in one of the two records is named as well,
// unless whole says that something of the second could not be read.
func Compare(was, now Record, whole bool) Look {
	l := Look{At: now.At, Of: len(was.Instances) + len(was.Facts)}
	fails := func(where, what, format string, args ...any) {
		l.Failed = append(l.Failed, Failing{Where: where, What: what, Said: fmt.Sprintf(format, args...)})
	}
	for _, w := range was.Instances {
		n := slices.IndexFunc(now.Instances, func(i Stood) bool { return i.Part == w.Part && i.Name == w.Name })
		switch {
		case n < 0 && whole:
			fails(w.Name, "instance", "does not run any more")
		case n >= 0 && now.Instances[n].Build != w.Build:
			fails(w.Name, "build", "is %s, and was %s", now.Instances[n].Build, w.Build)
		}
	}
	for _, i := range now.Instances {
		if !slices.ContainsFunc(was.Instances, func(w Stood) bool { return w.Part == i.Part && w.Name == i.Name }) {
			fails(i.Name, "instance", "was not there")
		}
	}
	for _, w := range was.Facts {
		n := slices.IndexFunc(now.Facts, w.same)
		switch {
		case n < 0 && whole:
			fails(w.Part, w.What, "is gone")
		case n >= 0 && !slices.Equal(now.Facts[n].Digests, w.Digests):
			fails(w.Part, w.What, "is not what it was")
		}
	}
	for _, f := range now.Facts {
		if !slices.ContainsFunc(was.Facts, f.same) {
			fails(f.Part, f.What, "was not there")
		}
	}
	if len(l.Failed) > failingMost {
		rest := len(l.Failed) - failingMost
		l.Failed = append(l.Failed[:failingMost:failingMost],
			Failing{What: "more", Said: fmt.Sprintf("%d more are not what they were", rest)})
	}
	return l
}

// failingMost is how much of what is not as it was is named.
const failingMost = 20

func (f Fact) same(other Fact) bool { return f.Part == other.Part && f.What == other.What }
