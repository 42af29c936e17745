package distant_test

import (
	"context"
	"fmt"

	"vaiven/internal/world/link"
	"vaiven/internal/world/place/distant"
)

func ExampleMachine() {
	ctx := context.Background()
	m := distant.New("deploy@gate1", func() (link.Login, error) { return link.Find("deploy@gate1", "") })
	defer m.End()
	data, err := distant.Place{Machine: m}.ReadFile(ctx, "/etc/nginx/vaiven/sailings.conf")
	fmt.Println(len(data), err)
}
