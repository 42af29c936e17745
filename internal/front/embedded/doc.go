// Package embedded is Vaiven's own front: a reverse proxy for HTTP/1.1 that
// splits requests between blue and green, and the client that steers it.
//
//	srv, err := embedded.NewServer(embedded.Config{Listen: "127.0.0.1:8080", Socket: "front.sock", State: "front.json"})
//	...
//	err = srv.Run(ctx)
//
// and elsewhere:
//
//	c := embedded.Dial("front.sock")
//	d, err := c.Set(ctx, 25*split.Percent, front.Expect{Revision: r.Split.Revision, Generation: r.Order.Generation})
//
// What is ordinary is carried on lanes, by a strict reader of our own; everything else
// by the library's server and reverse proxy, which take its connection over.
//
// It runs as a process of its own, so that traffic outlives keeper and screens.
// A change of the split is one swap: no request sees half of it, and requests
// that are open finish where they are. It does not terminate TLS, cache, rewrite
// or speak HTTP/2.
package embedded
