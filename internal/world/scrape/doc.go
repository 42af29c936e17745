// Package scrape reads pages of figures in the text format of Prometheus.
//
//	page, err := scrape.Read(body)
//	v, found := page.Sum("bookings_total", map[string]string{"kind": "berth"})
package scrape
