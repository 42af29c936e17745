// Package fleetfile reads fleet files: which services there are, what depends on what, and how they cross together.
package fleetfile
