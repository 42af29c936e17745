package raise

import (
	"strings"
	"time"
)

// Version is one version that exists.
type Version struct {
	Name string    `json:"version"`
	ID   string    `json:"build"`          // identity of its build, "" if it was not looked at
	At   time.Time `json:"at,omitzero"`    // when it was made, if that is known
	Note string    `json:"note,omitempty"` // what its maker says of it, on one line
	// Why it cannot be raised, "" if nothing is known against it.
	Wrong string `json:"wrong,omitempty"`
}

// Remark is what there is to know of a version beside name, identity and time.
func (v Version) Remark() string {
	switch {
	case v.Wrong != "":
		return "cannot be raised: " + v.Wrong
	case v.ID == "" && v.Note == "":
		return "not looked at yet"
	}
	return v.Note
}

// Short is a build's identity as people compare it: twelve digits.
func Short(id string) string {
	_, hex, ok := strings.Cut(id, ":") // sha256:...
	if !ok {
		hex = id
	}
	return hex[:min(len(hex), 12)]
}

// Pick is the version of a name, or the one whose identity begins with it; false if
// there is none.
func Pick(list []Version, name string) (Version, bool) {
	for _, v := range list {
		if v.Name == name {
			return v, true
		}
	}
	const certain = 7 // digits of an identity
	for _, v := range list {
		if len(name) >= certain && (strings.HasPrefix(v.ID, name) || strings.HasPrefix(Short(v.ID), name)) {
			return v, true
		}
	}
	return Version{}, false
}
