// Package embedded is Vaiven's own front: a reverse proxy for HTTP that
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
// Requests are read and answered by the library's server and reverse proxy, behind what is
// strict about how they are framed ([framing]), and are carried over connections of our own
// ([wires]). Clients come in by doors and are a crowd, which always has room for one more.
//
// It runs as a process of its own, so that traffic outlives keeper and screens.
// A change of the split is one swap: no request sees half of it, and requests
// that are open finish where they are. It does not cache or rewrite, and speaks
// HTTP/1.1 with instances.
package embedded
