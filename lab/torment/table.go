package main

import (
	"bytes"
	"fmt"
	"os"
	"strings"
)

// heading begins the tables in the document; the next heading of its kind ends them.
const heading = "## Torment\n"

// write puts the tables into the document in place of earlier ones.
func write(file string, outcomes map[cell]outcome) error {
	before, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	head, tail := before, []byte(nil)
	if at := bytes.Index(before, []byte("\n"+heading)); at >= 0 {
		head = before[:at+1]
		rest := before[at+1+len(heading):]
		if next := bytes.Index(rest, []byte("\n## ")); next >= 0 {
			tail = rest[next:]
		}
	} else {
		head = append(bytes.TrimRight(before, "\n"), "\n\n"...)
	}
	var t bytes.Buffer
	t.Write(head)
	t.WriteString(heading)
	fmt.Fprintf(&t, "\nMade by `make torment`: a client of %d requests a second, while a release goes bad. A field "+
		"says after\nhow many seconds all requests were home, and how many had come to nothing good by then: an "+
		"error,\nthe wrong content, or an answer later than %v. Where nobody went home by itself, \"called\" is "+
		"after how\nmany seconds the route stood still and a person was called, \"seen\" when a guard had tripped "+
		"where\nneither came of it within %v; the second number is then what was hit in all of that time. Several "+
		"cells\nwere tried side by side on the same processors, so single figures are rather too high than too low.\n",
		clientRate, clientLate, faultLimit)
	for _, v := range variants {
		table(&t, v, outcomes)
	}
	t.Write(tail)
	return os.WriteFile(file, t.Bytes(), 0o644)
}

func table(t *bytes.Buffer, variant string, outcomes map[cell]outcome) {
	fmt.Fprintf(t, "\n### %s\n\n| | %s |\n|%s\n", strings.ToUpper(variant[:1])+variant[1:], strings.Join(fronts, " | "),
		strings.Repeat(" --- |", len(fronts)+1))
	for _, where := range wheres {
		for _, fault := range faults {
			row, any := "", false
			for _, f := range fronts {
				text := "–"
				if o, tried := outcomes[cell{f, fault, where, variant}]; tried {
					text, any = o.String(), true
					if o.Failed != "" {
						text = "not tried"
					}
				}
				row += " " + text + " |"
			}
			if any {
				fmt.Fprintf(t, "| %s, %s |%s\n", fault, where, row)
			}
		}
	}
}
