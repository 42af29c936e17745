// Package scrape reads pages of figures in the text format of Prometheus. A figure is a sum over the series that have
// the labels that are asked for.
package scrape
