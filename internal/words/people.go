package words

import (
	"fmt"
	"strings"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/people"
)

// rights are what people may do.
var rights = map[people.Right]string{
	people.Watch: "watch this service", people.Begin: "begin", people.Steer: "steer", people.Approve: "say yes",
	people.Accept: "accept findings", people.Force: "force anything", people.Retire: "retire a side",
}

// Right is what a right lets people do, after "may".
func Right(r people.Right) string { return rights[r] }

// notAllowed names the rule, and who is who.
func notAllowed(r crossing.NotAllowed) string {
	who := "nobody"
	if len(r.To) > 0 {
		who = "only " + strings.Join(r.To, ", ")
	}
	text := fmt.Sprintf("the plan lets %s %s", who, Right(r.Right))
	if r.Right == people.Approve {
		text += asked(r.Ask)
	}
	if r.Who == (crossing.Peer{}) {
		return text + fmt.Sprintf(" (people, may, %s), and who you are is not known here", r.Right)
	}
	return text + fmt.Sprintf(" (people, may, %s), and you are %s. Rolling back is free at all times", r.Right, r.Who)
}

// asked is what is asked, after "to say yes".
func asked(ask string) string {
	if ask == "" {
		return ""
	}
	return fmt.Sprintf(" to %q", ask)
}
