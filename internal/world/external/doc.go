// Package external asks a command of the user's own: one JSON object on its standard input, one on its standard output,
// and it ends. What it says for people belongs on standard error.
package external
