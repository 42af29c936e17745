// Package cluster runs the instances of a part as pods of an orchestrator, Kubernetes: a Deployment for each side.
//
//	d := cluster.New(p, 0, secrets)
//	err := d.Raise(ctx, split.Green, stack.Build{Version: "4.3.0", ID: "sha256:..."})
//
// A Deployment is made by server-side apply, as "vaiven": what others have written elsewhere in it stays, and what
// they have written in the same place is not written over. One that was there before is taken on. The orchestrator
// starts again what ends; the driver starts nothing again itself.
package cluster
