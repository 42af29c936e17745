package peer_test

import (
	"fmt"
	"net"

	"vaiven/internal/world/peer"
)

func ExampleOf() {
	c, err := net.Dial("unix", "/run/sailings/keeper.sock")
	if err != nil {
		return
	}
	defer c.Close()
	p, err := peer.Of(c)
	fmt.Println(p.Name, p.Groups, err)
}
