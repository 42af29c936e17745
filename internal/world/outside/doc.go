// Package outside reads what others say of when traffic may leave home: a calendar with the days that are closed, and
// an embargo. Each is a file or a URL.
package outside
