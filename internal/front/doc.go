// Package front holds what every front driver says and hears: the split in
// force, the instances behind each side, and what they answered.
//
//	reading, err := f.Read(ctx) // any driver
//	fmt.Println(reading.Split.Share, "of requests on green, revision", reading.Split.Revision)
//
// The drivers are the packages below this one, and each is a [Driver]. This package has
// no behaviour of a proxy.
package front
