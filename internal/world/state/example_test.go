package state_test

import (
	"fmt"

	"vaiven/internal/world/state"
)

func ExampleOpen() {
	f, err := state.Open("/var/lib/vaiven/sailings")
	if err != nil {
		return
	}
	defer f.Close()
	fmt.Println(f.WriteFile("instances/green-1.json", []byte("{}")))
}
