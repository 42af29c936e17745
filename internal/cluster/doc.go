// Package cluster asks an orchestrator's API, with the rights that somebody has.
//
//	c, err := cluster.Open(cluster.Config{File: "kubeconfig", Namespace: "ferries"})
//	pods, err := c.List(ctx, cluster.Pods, "app=sailings")
//
// Errors say what the API said, and wrap what callers branch on.
package cluster
