package crossing

import "time"

// Arrival is a version that has arrived, and waits for its turn. The zero value is none. There is at most one: the
// newest.
type Arrival struct {
	Version string    `json:"version"`
	Commit  string    `json:"commit,omitempty"` // that it is made of, where that was said
	At      time.Time `json:"at"`
	By      string    `json:"by,omitempty"`
	Peer    Peer      `json:"peer,omitzero"` // who said so, as the keeper's machine knows them; nobody if it was found
}

// Any reports whether a version waits.
func (a Arrival) Any() bool { return a.Version != "" }

// unless is what waits still when a crossing to a version begins.
func (a Arrival) unless(version string) Arrival {
	if a.Version == version {
		return Arrival{}
	}
	return a
}

// WaitsForSomebody reports whether a version waits that is left to a person: it had arrived when what was before it was
// rolled back.
func (s State) WaitsForSomebody() bool {
	return s.Waiting.Any() && s.Stage == RolledBack && s.Waiting.At.Before(s.Since)
}

// arrives has a version wait for its turn. One that waited is dropped for it, and one that waits or crosses already
// is no other.
func (d *decision) arrives(i Arrive) error {
	switch {
	case i.Version == "":
		return Refuse(NoVersion{})
	case i.Withdraw && i.Version == d.Waiting.Version:
		d.then(Dropped{Version: i.Version, Why: "it is withdrawn"})
		return nil
	case i.Withdraw:
		return Refuse(NotWaiting{i.Version, d.Waiting.Version})
	case i.Version == d.Waiting.Version && !d.WaitsForSomebody(),
		i.Version == d.State.Version && d.Stage.UnderWay() && !d.GoingBack:
		return nil
	}
	if d.Waiting.Any() && i.Version != d.Waiting.Version { // said again it is somebody's word
		d.then(Dropped{Version: d.Waiting.Version, For: i.Version})
	}
	d.then(VersionArrived{Version: i.Version, Commit: i.Commit})
	return nil
}

// drop gives up a version that waits.
func (d *decision) drop(i Drop) {
	if i.Version == d.Waiting.Version {
		d.then(Dropped(i))
	}
}
