package include

import (
	"errors"
	"fmt"
	"strconv"

	"vaiven/internal/core/reading"
)

// Noted finds what a line says of an instance beside its address, as [Note] writes it, in four groups.
const Noted = `("(?:[^"\\]|\\.)*") ("(?:[^"\\]|\\.)*")( out)?( control)?$`

// Note is what a line says of an instance beside its address: its name, its version, and what it does not get.
func Note(i reading.Server) string {
	text := fmt.Sprintf("%q %q", i.Name, i.Version)
	if i.Out {
		text += " out"
	}
	if i.Control {
		text += " control"
	}
	return text
}

// ReadNote is the instance at an address of which a note says the four groups of [Noted].
func ReadNote(address string, groups []string) (i reading.Server, err error) {
	i = reading.Server{Address: address, Out: groups[2] != "", Control: groups[3] != ""}
	var errName, errVersion error
	i.Name, errName = strconv.Unquote(groups[0])
	i.Version, errVersion = strconv.Unquote(groups[1])
	return i, errors.Join(errName, errVersion)
}
