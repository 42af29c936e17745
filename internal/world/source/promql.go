package source

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/prometheus/prometheus/promql/parser"
)

// Question is a query in PromQL that was understood.
type Question struct {
	Text string
	// the series that it is made of, as selectors of their newest samples
	Selectors []string
}

// overWindows are functions over windows of time, which overlap from one question to the next.
var overWindows = []string{"rate", "irate", "increase", "delta", "idelta", "deriv"}

// ParseQuestion reads a query whose placeholders are filled in. Its answer has to be numbers of one moment; of counters
// that are to be subtracted it must be as they are. An error says where in the query it is wrong.
func ParseQuestion(text string, counters bool) (Question, error) {
	expr, err := parser.ParseExpr(text)
	if err != nil {
		var all parser.ParseErrors
		if errors.As(err, &all) && len(all) > 0 {
			at := int(all[0].PositionRange.Start) + 1
			return Question{}, fmt.Errorf("%q is no PromQL: at character %d: %w", text, at, all[0].Err)
		}
		return Question{}, fmt.Errorf("%q is no PromQL: %w", text, err)
	}
	if k := expr.Type(); k != parser.ValueTypeVector && k != parser.ValueTypeScalar {
		return Question{}, fmt.Errorf("%q gives a %s, and a figure is a number of one moment", text,
			parser.DocumentedType(k))
	}
	q := Question{Text: text}
	window := ""
	parser.Inspect(expr, func(n parser.Node, _ []parser.Node) error {
		switch n := n.(type) {
		case *parser.VectorSelector:
			s := (&parser.VectorSelector{Name: n.Name, LabelMatchers: n.LabelMatchers}).String()
			if !slices.Contains(q.Selectors, s) {
				q.Selectors = append(q.Selectors, s)
			}
		case *parser.Call:
			if slices.Contains(overWindows, n.Func.Name) && window == "" {
				window = n.Func.Name
			}
		}
		return nil
	})
	switch {
	case len(q.Selectors) == 0:
		return Question{}, fmt.Errorf("%q asks for no series", text)
	case counters && window != "":
		return Question{}, fmt.Errorf("%q is a counter no more: %s() looks at a window, and two of them overlap. Vaiven "+
			"takes the differences of counters itself: leave %[2]s() out", text, window)
	}
	return q, nil
}

// inPromQL writes a text so that it can stand within double quotes in PromQL.
func inPromQL(text string) string {
	return strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(text)
}
