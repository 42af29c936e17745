package crossing

import "vaiven/internal/core/split"

// Role is what a side is to its service.
type Role string

// The roles.
const (
	RoleLive  Role = "live"  // carries the service
	RoleNew   Role = "new"   // crossed to
	RoleKept  Role = "kept"  // carried the service, gets nothing, and is ready to be gone back to
	RoleSpare Role = "spare" // stands, and carries nothing
	RoleEmpty Role = "empty" // has no instances
)

// Role is what a side is. live is the side that the front sends requests to while nothing is
// crossing, share is in force at the front, and stands tells whether the side has instances.
func (s State) Role(side, live split.Side, share split.Share, stands bool) Role {
	under := s.Stage.UnderWay()
	switch {
	case under && side == s.Target:
		return RoleNew
	case under && s.First, !under && !stands:
		return RoleEmpty
	case under && s.Stage == Keeping && share.Of(side) == 0:
		return RoleKept
	case under, side == live:
		return RoleLive
	}
	return RoleSpare
}
