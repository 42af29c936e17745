// Package pairs sends the same requests to both sides and compares the answers.
//
// JSON bodies are compared by structure, everything else byte by byte. Requests come
// from the plan, an access log or a HAR file; only reads, unless the plan says that
// others do no harm. The same engine warms a side up.
package pairs
