// Package beside draws two crossings beside each other, time down, from the first change of each on: what one took
// longer for, and where it failed, is seen at the same height.
package beside
