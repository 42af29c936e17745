package cluster

import (
	"fmt"
	"regexp"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/plan"
	"vaiven/internal/world/section"
)

// dnsName is what the API takes for a name (RFC 1123, a label or several), if it has no more than nameMost bytes.
var dnsName = regexp.MustCompile(`^[a-z0-9]([a-z0-9.-]*[a-z0-9])?$`)

const nameMost = 253

// Name parses the name of something in a cluster.
func Name(text string) (string, error) {
	if len(text) > nameMost || !dnsName.MatchString(text) {
		return "", section.Mistake{What: fmt.Sprintf("%q is no name that a cluster has", text),
			Try: "write small letters, digits and hyphens: sailings-blue"}
	}
	return text, nil
}

// Keys are what plans say of an API, with further keys behind them.
func Keys(r *section.Reader, a *plan.API, more ...section.Key) []section.Key {
	reach := func(text string) (plan.Reach, error) { return section.OneOf(text, plan.Direct, plan.Forwarded) }
	return append([]section.Key{
		section.May("kubeconfig", func(n ast.Node) {
			if r.Text(n, "kubeconfig", &a.File) {
				r.Files = append(r.Files, section.File{At: n, What: "kubeconfig", Name: a.File})
			}
		}),
		section.May("context", func(n ast.Node) { r.Text(n, "context", &a.Context) }),
		section.May("namespace", section.Parsed(r, "namespace", &a.Namespace, Name)),
		section.May("reach", section.Parsed(r, "reach", &a.Reach, reach)),
	}, more...)
}
