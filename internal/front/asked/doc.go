// Package asked counts requests where a front counts none: instances are asked for a page of figures.
//
//	c := asked.New(place.Local{}, asked.Counts{Path: "/metrics", Requests: "http_requests_total", Label: "code"})
//	c.Count(ctx, &reading)
package asked
