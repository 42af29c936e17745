package drawing_test

import (
	"bytes"
	"fmt"

	"vaiven/internal/people/drawing"
)

func ExampleSheet() {
	s := drawing.New(200, 100, "Requests", "how many requests there were")
	up := drawing.Scale{High: 400, From: 90, To: 10}
	s.Box(20, up.Of(310), 30, 90-up.Of(310), drawing.Blue)
	s.Text(20, 98, "blue", drawing.Words{Size: 8, Ink: drawing.Grey})
	fmt.Println(bytes.Contains(s.SVG(), []byte("<title id=\"title\">Requests</title>")))
	// Output: true
}
