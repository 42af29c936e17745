package planfile

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/people"
	"vaiven/internal/world/section"
)

// people reads who may do what.
func (r *reader) people(n ast.Node, p *people.Rules) {
	var rights []section.Key
	p.May = map[people.Right][]string{}
	for _, right := range people.Rights {
		rights = append(rights, section.May(string(right), func(n ast.Node) { p.May[right] = r.members(n, p) }))
	}
	var may, asks ast.Node // read when the groups are known
	r.Mapping(n, "people",
		section.May("socket-group", section.Parsed(r.Reader, "socket-group", &p.Socket, people.ParseMember)),
		section.May("gate", section.Parsed(r.Reader, "gate", &p.Gate, people.ParseMember)),
		section.May("groups", func(n ast.Node) { r.groups(n, p) }),
		section.May("may", func(n ast.Node) {
			if may = n; r.Discovering() {
				r.Mapping(n, "may", rights...)
			}
		}),
		section.May("asks", func(n ast.Node) {
			if asks = n; r.Discovering() {
				r.Names(n, func(n ast.Node) { r.members(n, p) })
			}
		}),
		section.May("four-eyes", section.Parsed(r.Reader, "four-eyes", &p.FourEyes, section.YesNo)))
	if r.Discovering() {
		return
	}
	if may != nil {
		r.Mapping(may, "may", rights...)
	}
	if asks != nil {
		r.asks(asks, p)
	}
	for _, name := range p.Unused() {
		r.Wrong(n, fmt.Sprintf("the group %q is named nowhere", name), `name it under "may", or leave it out`)
	}
	if !p.On() && p.Socket != "" && len(r.Problems.List) == 0 {
		r.Wrong(n, "it is not said what the members of the socket's group may do",
			`add "may: {begin: [everybody], steer: [everybody], approve: [everybody]}", or fewer of them`)
	}
}

// groups reads lists of members by name.
func (r *reader) groups(n ast.Node, p *people.Rules) {
	p.Groups = map[string][]string{}
	for name, e := range r.Named(n, "groups") {
		if name == people.Everybody {
			r.Wrong(e.Key, "everybody is nobody's group", "it stands for all whom the keeper's socket lets in")
			continue
		}
		var list []string
		r.List(e.Value, "the group "+name, func(n ast.Node) {
			var member string
			section.Parsed(r.Reader, "a member", &member, people.ParseMember)(n)
			list = append(list, member)
		})
		p.Groups[name] = list
	}
}

// members reads who has a right: members, groups of the plan, or everybody. An empty list is nobody.
func (r *reader) members(n ast.Node, p *people.Rules) []string {
	list := []string{}
	r.List(n, "people", func(n ast.Node) {
		var member string
		section.Parsed(r.Reader, "a member", &member, func(text string) (string, error) {
			if _, group := p.Groups[text]; group || text == people.Everybody {
				return text, nil
			}
			return people.ParseMember(text)
		})(n)
		list = append(list, member)
	})
	return list
}

// asks reads who may say yes to one kind of question.
func (r *reader) asks(n ast.Node, p *people.Rules) {
	entries, _ := r.Entries(n, "asks")
	p.Asks = map[string][]string{}
	for _, e := range entries {
		name, err := crossing.ParseAsk(section.Scalar(e.Key))
		if err != nil {
			r.Refuse(e.Key, err)
			continue
		}
		if _, twice := p.Asks[name]; twice {
			r.Wrong(e.Key, fmt.Sprintf("%q stands here twice: %s", name,
				strings.Join(slices.Sorted(maps.Keys(p.Asks)), ", ")), "leave one out")
		}
		p.Asks[name] = r.members(e.Value, p)
	}
}
