// Package held holds a front that serves to what every front promises, as far as that harms nobody: between 0 and 1 %
// on green. It is for whoever writes a front's tool, or wants to know whether theirs is steered as it should be.
package held
