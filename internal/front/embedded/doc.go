// Package embedded is Vaiven's own front: a reverse proxy for HTTP that
// splits requests between blue and green ([NewServer]), and the client that steers it ([Dial]).
//
// The library's server, reverse proxy and transport carry the requests. Around them stand what
// they do not do: framing that can be read in one way only ([framing], [answers]), connections to
// instances that are used again only where nothing can be left on them ([wire]), limits ([watch]),
// room for the next client ([room]), and the split ([table]).
//
// It runs as a process of its own, so that traffic outlives keeper and screens; another process can
// take over from it without an outage ([takeOver]). A change of the split is one swap: no request sees
// half of it, and requests that are open finish where they are. It does not cache or rewrite, and
// speaks HTTP/1.1 with instances, or HTTP/2 without TLS.
package embedded
