package oneof_test

import (
	"encoding/json"
	"fmt"

	"vaiven/internal/core/oneof"
)

// A signal is one of two types.
type signal interface{ name() string }

type light struct {
	Colour string `json:"colour"`
}

type horn struct{}

type newer struct{ oneof.Newer }

func (light) name() string   { return "light" }
func (horn) name() string    { return "horn" }
func (n newer) name() string { return n.Called }

type signals struct{}

func (signals) Set() *oneof.Set[signal] {
	return oneof.New[signal]("kind", signal.name, func(n oneof.Newer) signal { return newer{n} }, light{}, horn{})
}

func ExampleOne() {
	var s oneof.One[signal, signals]
	err := json.Unmarshal([]byte(`{"kind":"light","colour":"green"}`), &s)
	fmt.Println(oneof.As[light](s).Colour, err)
	// Output: green <nil>
}
