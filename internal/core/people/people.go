package people

import (
	"fmt"
	"maps"
	"slices"
)

// Right is something that people may do. Rolling back is none: whoever reaches the front or the keeper may.
type Right string

// The rights.
const (
	Watch   Right = "watch"   // look at the service
	Begin   Right = "begin"   // begin a crossing, raise the spare side, say that a version has arrived
	Steer   Right = "steer"   // go on before time, move the share, freeze and resume, take the wheel
	Approve Right = "approve" // say yes where a person is asked
	Accept  Right = "accept"  // say yes to findings of the proof
	Force   Right = "force"   // go past what would be refused: to what is not proven, the same build, at once
	Retire  Right = "retire"  // retire the side without traffic before its time
)

// Rights are all there are.
var Rights = []Right{Watch, Begin, Steer, Approve, Accept, Force, Retire}

// Everybody stands for all whom the keeper's socket lets in.
const Everybody = "everybody"

// Rules say who may do what. The zero value lets everybody whom the keeper's socket lets in.
type Rules struct {
	Socket string // Unix group whose members reach the keeper; "" for the keeper's own user alone
	// Groups are lists of members by their names. A member is a user of the keeper's machine, or "@" and a Unix group.
	Groups map[string][]string
	// May is who has a right: members, names of groups, or [Everybody]. One that is left out is nobody's, but for
	// [Watch], which is everybody's.
	May map[Right][]string
	// Asks is who may say yes to one kind of question, by its name, in place of those who may [Approve].
	Asks map[string][]string
	// Gate is the account in which each key has a forced command that says who comes by it; "" for none.
	Gate string
	// FourEyes has somebody else say yes than who began the crossing.
	FourEyes bool
}

// On reports whether there are any rules about rights.
func (r Rules) On() bool { return len(r.May) > 0 || len(r.Asks) > 0 }

// Of is who has a right, and whether that is everybody. A question's name counts with [Approve] alone.
func (r Rules) Of(right Right, ask string) (list []string, everybody bool) {
	list, said := r.May[right]
	if own, other := r.Asks[ask]; right == Approve && other {
		list, said = own, true
	}
	return list, !r.On() || slices.Contains(list, Everybody) || !said && right == Watch
}

// Has reports whether a user with Unix groups has a right. A user without a name is nobody.
func (r Rules) Has(user string, groups []string, right Right, ask string) bool {
	list, everybody := r.Of(right, ask)
	if everybody {
		return true
	}
	return user != "" && slices.ContainsFunc(list, func(name string) bool {
		if members, group := r.Groups[name]; group {
			return slices.ContainsFunc(members, func(m string) bool { return is(m, user, groups) })
		}
		return is(name, user, groups)
	})
}

// is reports whether a member is a user with Unix groups.
func is(member, user string, groups []string) bool {
	if len(member) > 0 && member[0] == '@' {
		return slices.Contains(groups, member[1:])
	}
	return member == user
}

// Unused are the groups that no right names, which is a slip of the pen.
func (r Rules) Unused() []string {
	var used []string
	for _, list := range r.May {
		used = append(used, list...)
	}
	for _, list := range r.Asks {
		used = append(used, list...)
	}
	return slices.DeleteFunc(slices.Sorted(maps.Keys(r.Groups)), func(name string) bool {
		return slices.Contains(used, name)
	})
}

// ParseMember reads a user's name, or "@" and that of a Unix group.
func ParseMember(text string) (string, error) {
	name := text
	if len(name) > 0 && name[0] == '@' {
		name = name[1:]
	}
	for n, c := range name {
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_'
		if !letter && (n == 0 || !(c >= '0' && c <= '9' || c == '-' || c == '.' || c == '$')) {
			name = ""
			break
		}
	}
	if name == "" || len(name) > 32 {
		return "", fmt.Errorf("%q is no user: want a name such as marit, or @oncall for a Unix group", text)
	}
	return text, nil
}
