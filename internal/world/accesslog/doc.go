// Package accesslog reads access logs: lines in the Common and Combined formats and
// flat JSON objects, from files that are whole, packed with gzip, or still growing.
//
// Parsing allocates nothing, so that logs of many millions of lines can be read in one
// go. What a line does not say stays empty. The package does not judge what it reads.
package accesslog
