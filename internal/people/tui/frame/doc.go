// Package frame is what all views share: the line for what needs a person, the line
// of keys, and how figures are written.
package frame
