// Package asked counts requests where a front counts none: instances are asked for a page of figures.
package asked
