// Package tuitest draws pages as tests look at them: plain text, in which nothing lies over
// anything else and nothing reaches beyond the screen.
//
//	text := tuitest.Draw(t, crossing.New(), frame)
package tuitest
