// Package door makes requests at a front as its users make them: with their scheme, their host name,
// over TLS with what that needs, in HTTP/2 where the front offers it.
//
//	d := door.New(p.Door, secrets)
//	client := http.Client{Transport: d.Transport(true)}
//	r, err := d.Request(ctx, http.MethodGet, "10.1.0.1:443", "/sailings")
package door
