// Package front holds what every front driver says and hears: the split in
// force, the instances behind each side, and what they answered.
//
//	r, err := f.Read(ctx) // any driver
//	fmt.Println(r.Split.Share, "of requests on green; last sent home to", r.Order.Side)
//	done, err := f.Set(ctx, 2500, front.AsRead(r))
//	done, err = f.Home(ctx, front.Homing{Side: split.Blue, By: "marit"}) // holds, whatever is under way
//
// The drivers are the packages below this one, and each is a [Driver]. This package has
// no behaviour of a proxy, but what going home takes where a proxy cannot compare: a [Gate]
// within a process, an [OrderFile] between processes.
package front
