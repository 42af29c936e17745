// Package source asks those who know a service's figures and alerts: Prometheus, Alertmanager, a database, a command.
// What cannot be told is said, and is never taken for a figure.
package source
