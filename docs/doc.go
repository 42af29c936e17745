// Package docs has the documents that the program itself tells of: what the reference of the plan says of a key is
// what the plan's schema says of it.
package docs

import _ "embed"

// Plan is the reference of the plan file, in Markdown.
//
//go:embed plan.md
var Plan string
