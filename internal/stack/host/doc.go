// Package host is the stack driver for processes on other machines, reached over
// SSH.
//
// Instances are spread over the plan's hosts in turn. All that a host needs is a
// shell and /proc: what is done there is a short script on the shell's standard
// input, so that neither environment nor secrets show in its list of processes.
// Each instance is a session of its own that outlives the connection; the notes on
// it stand on its host, in ~/.vaiven. A host's key has to be known, and nobody is
// asked for a password.
package host
