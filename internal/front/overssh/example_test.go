package overssh_test

import (
	"context"
	"fmt"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/nginx"
	"vaiven/internal/front/overssh"
	"vaiven/internal/world/link"
	"vaiven/internal/world/place"
	"vaiven/internal/world/place/distant"
)

func ExampleNew() {
	connect := func() *distant.Machine {
		return distant.New("deploy@gate1", func() (link.Login, error) { return link.Find("deploy@gate1", "") })
	}
	d := overssh.New(connect, func(on place.Machine) front.Driver { return nginx.New(on, "sailings", plan.Front{}) })
	_, err := d.Home(context.Background(), front.Homing{Side: split.Blue}) // by every way there is
	fmt.Println(err)
}
