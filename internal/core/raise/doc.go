// Package raise computes what a raise is measured by: how long it typically
// takes, which instances are stuck, and since when the service has been running
// on double capacity at what cost.
//
// The package is pure.
package raise
