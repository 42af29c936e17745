// Package standin is a small cluster to steer where none runs: an API server with what Vaiven uses of one,
// controllers that follow it with a delay, and a data plane that carries real requests.
//
//	s, err := standin.Start(standin.Config{Address: "127.0.0.1:6443", Lag: 50 * time.Millisecond})
//	defer s.Stop()
//
// It speaks the API of Kubernetes for pods, services, endpoint slices and HTTP routes: lists in chunks, watches with
// bookmarks, conflicts by resourceVersion, JSON and merge patches, dry runs, commands in pods and connections to
// them, and what goes wrong with real ones. kubectl works with it. It is no cluster: nothing is scheduled, nothing is
// authorized, and everything is forgotten when it ends.
package standin
