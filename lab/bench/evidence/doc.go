// Command evidence measures how often guards are wrong, and how soon they are right: for
// docs/benchmarks.md. It plays whole crossings through the guards as they are, reading by reading, on
// traffic that it makes up.
//
//	go run ./bench/evidence -runs 200 -out docs/benchmarks.md
package main
