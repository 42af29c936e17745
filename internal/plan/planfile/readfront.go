package planfile

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/plan"
	"vaiven/internal/front/all"
	"vaiven/internal/front/embedded"
	"vaiven/internal/world/section"
)

// newFront is a front with every key left out.
func newFront() plan.Front {
	return plan.Front{Listen: "127.0.0.1:8080", Key: plan.Key{From: plan.KeyRandom},
		Settings: all.Kinds[0].Read(nil, nil)}
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
				r.Wrong(n, fmt.Sprintf("two fronts listen at %s", f.Listen),
					"every front takes requests at an address of its own")
			case f.Kind() == embedded.Kind.Name && other.Kind() == embedded.Kind.Name:
				r.Wrong(n, "two of the fronts are embedded ones", "only one can be: it keeps its state beside the plan")
			case f.Key != other.Key || f.Sticky != other.Sticky:
				r.Wrong(n, fmt.Sprintf("one front splits by %v and another by %v", other.Key, f.Key),
					"clients would change sides from front to front: give all the same key")
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
	var key, sticky, order, spare ast.Node
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
		section.May("spare-door", func(n ast.Node) {
			spare = n
			r.Mapping(n, "spare-door",
				section.May("listen", section.Parsed(r.Reader, "listen", &f.Spare.Listen, section.HostPort)),
				section.May("header", section.Parsed(r.Reader, "header", &f.Spare.Header, fieldName)),
				section.May("cookie", section.Parsed(r.Reader, "cookie", &f.Spare.Cookie, fieldName)))
		}),
	}
	var at ast.Node
	keys = append(keys,
		section.May("at", func(n ast.Node) {
			at = n
			section.Parsed(r.Reader, "at", &f.At.Host, login)(n)
		}),
		section.May("identity", func(n ast.Node) { r.Text(n, "identity", &f.At.Identity) }),
		section.May("known-hosts", func(n ast.Node) { r.Text(n, "known-hosts", &f.At.KnownHosts) }))
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
	r.elsewhere(either(at, n), *f)
	if order != nil && !f.Settings.Marks() {
		r.Wrong(order, fmt.Sprintf("this front (%s) holds the order of going home itself", f.Kind()),
			"leave order-file out")
	}
	if err := f.Settings.Splits(f.Key); err != nil {
		r.Refuse(either(key, n), err)
	}
	if err := f.Settings.Sticks(); err != nil && f.Sticky {
		r.Refuse(either(sticky, n), err)
	}
	if spare == nil {
		return
	}
	if f.Spare == (plan.SpareDoor{}) {
		r.Wrong(spare, "the spare side's own door has no way in", `add "header: NAME" or "cookie: NAME"`)
	} else if err := f.Settings.Opens(f.Spare); err != nil {
		r.Refuse(spare, err)
	}
}

// elsewhere looks whether a front on another machine is named so that it is found there.
func (r *reader) elsewhere(n ast.Node, f plan.Front) {
	switch {
	case f.At.Host == "" && f.At != plan.Login{}:
		r.Wrong(n, "how to log in is said, and not where", `add "at: USER@HOST", or leave identity and known-hosts out`)
	case f.At.Host == "":
	case f.Kind() == embedded.Kind.Name:
		r.Wrong(n, "the embedded front runs beside its plan",
			"put the plan on that machine, and reach it from here as USER@HOST:PLAN")
	default:
		f.Settings.Resolve(func(file *string) {
			if *file != "" && !strings.HasPrefix(*file, "/") {
				r.Wrong(n, fmt.Sprintf("%s is on another machine, where it is not known what it is relative to", *file),
					"write its whole name there, from / on")
			}
		}, func(*string) {})
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

// fieldName parses the name of a header or a cookie.
func fieldName(text string) (string, error) {
	if !section.IsToken(text) {
		return "", fmt.Errorf("%q cannot be the name of a header or a cookie: want letters, digits, -, _ and .", text)
	}
	return text, nil
}
