// Package front holds what every front driver says and hears: the split in
// force, the instances behind each side, and what they answered.
//
// The drivers are the packages below this one, and each is a [Driver]. This package has
// no behaviour of a proxy, but what going home takes where a proxy cannot compare: a [Gate]
// within a process, an [OrderFile] between processes.
package front
