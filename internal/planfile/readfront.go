package planfile

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/front/all"
	"vaiven/internal/front/embedded"
	"vaiven/internal/plan"
	"vaiven/internal/section"
)

// newFront is a front with every key left out.
func newFront() plan.Front {
	return plan.Front{Listen: "127.0.0.1:8080", Key: plan.Key{From: plan.KeyRandom}, Settings: all.Kinds[0].Read(nil, nil)}
}

// fronts reads one front, or a list of them.
func (r *reader) fronts(n ast.Node, p *plan.Plan) {
	if _, several := n.(*ast.SequenceNode); !several {
		r.front(n, &p.Front)
		return
	}
	var list []plan.Front
	r.List(n, "front", func(n ast.Node) {
		f := newFront()
		r.front(n, &f)
		for _, other := range list {
			switch {
			case f.Listen == other.Listen:
				r.Wrong(n, fmt.Sprintf("two fronts listen at %s", f.Listen), "every front takes requests at an address of its own")
			case f.Kind() == embedded.Kind.Name && other.Kind() == embedded.Kind.Name:
				r.Wrong(n, "two of the fronts are embedded ones", "only one can be: it keeps its state beside the plan")
			case f.Key != other.Key || f.Sticky != other.Sticky:
				r.Wrong(n, fmt.Sprintf("one front splits by %v and another by %v", other.Key, f.Key), "clients would change sides from front to front: give all the same key")
			}
		}
		list = append(list, f)
	})
	if len(list) == 0 {
		r.Wrong(n, "the list of fronts is empty", "")
		return
	}
	p.Front, p.Beside = list[0], list[1:]
}

func (r *reader) front(n ast.Node, f *plan.Front) {
	var key, sticky, order ast.Node
	kinds := 0
	keys := []section.Key{
		section.May("listen", section.Parsed(r.Reader, "listen", &f.Listen, section.HostPort)),
		section.May("key", func(n ast.Node) {
			key = n
			section.Parsed(r.Reader, "key", &f.Key, splitKey)(n)
		}),
		section.May("sticky", func(n ast.Node) {
			sticky = n
			section.Parsed(r.Reader, "sticky", &f.Sticky, section.YesNo)(n)
		}),
		section.May("order-file", func(n ast.Node) {
			order = n
			r.Text(n, "order-file", &f.Order)
		}),
	}
	for _, k := range all.Kinds {
		keys = append(keys, section.May(string(k.Name), func(n ast.Node) {
			kinds++
			f.Settings = k.Read(r.Reader, n)
		}))
	}
	r.Mapping(n, "front", keys...)
	if kinds > 1 {
		r.Wrong(n, "a front is one system, and several are named", "make front a list with an entry for each")
		return
	}
	if order != nil && !f.Settings.Marks() {
		r.Wrong(order, fmt.Sprintf("this front (%s) holds the order of going home itself", f.Kind()), "leave order-file out")
	}
	if err := f.Settings.Splits(f.Key); err != nil {
		r.Refuse(either(key, n), err)
	}
	if err := f.Settings.Sticks(); err != nil && f.Sticky {
		r.Refuse(either(sticky, n), err)
	}
}

func either(a, b ast.Node) ast.Node {
	if a != nil {
		return a
	}
	return b
}

// prefix parses the "/24" of a client key.
func prefix(text string) (int, bool) {
	n, err := strconv.Atoi(strings.TrimPrefix(text, "/"))
	return n, err == nil && strings.HasPrefix(text, "/") && n >= 1 && n <= 32
}
