// Package monitortest starts what watches services, for tests: Prometheus and Alertmanager as Debian has them, and
// pages of figures that they read.
package monitortest
