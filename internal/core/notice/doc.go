// Package notice says who is to be told what, and when: which events of a crossing people want to hear of, how those
// that come close together become one letter, and who else is told where a question waits for too long. It is pure: it
// delivers nothing, keeps no time, and has no words.
package notice
