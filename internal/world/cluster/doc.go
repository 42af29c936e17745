// Package cluster asks an orchestrator's API, with the rights that somebody has.
//
//	c, err := cluster.Open(plan.API{File: "kubeconfig", Namespace: "ferries"})
//	pods, err := c.List(ctx, cluster.Pods, "app=sailings")
//
// Connections are made through it to a pod ([Client.Dial]) and from inside one ([Client.DialFrom]).
//
// Errors say what the API said, and wrap what callers branch on.
package cluster
