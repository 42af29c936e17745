// Package calendar is when traffic may move towards a new side: spans of the week in a zone, without days that are
// closed. Going home is at all hours.
package calendar
