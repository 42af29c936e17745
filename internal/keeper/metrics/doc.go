// Package metrics is a page of figures about a keeper and its service, in OpenMetrics, for those who draw and watch
// them elsewhere. It reads what the keeper has read, and asks nobody.
package metrics
