// Package tool is the stack driver for a command of the user's own, which is how
// anything that has no driver is raised, listed and stopped.
//
// The command is started for each question. It reads one JSON object from its
// standard input and writes one to its standard output; docs/tool.md describes
// them, and examples/yard is such a command.
package tool
