package plan

import "time"

// WayBack is what is asked of the side to go back to, as long as it stands.
type WayBack struct {
	Every   time.Duration // between two looks
	Freezes bool          // a way back that closes stops the route
	Checks  []Check       // made from where the side's first instance stands
}
