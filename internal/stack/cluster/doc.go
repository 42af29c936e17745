// Package cluster runs the instances of a part as pods of an orchestrator, Kubernetes: a Deployment for each side.
//
// A Deployment is made by server-side apply, as "vaiven": what others have written elsewhere in it stays, and what
// they have written in the same place is not written over. One that was there before is taken on. The orchestrator
// starts again what ends; the driver starts nothing again itself.
package cluster
