package page_test

import (
	"context"
	"net/http"

	"vaiven/internal/world/page"
)

func ExampleServe() {
	ctx, stop := context.WithCancel(context.Background())
	stop() // it serves until then
	page.Serve(ctx, page.Place{Address: "127.0.0.1:9411"}, "the page of figures", http.NotFoundHandler())
	// Output:
}
