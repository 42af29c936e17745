// Package told steers fronts that are told changes over an interface of their own, and
// asked afterwards what is in force: the order of a change is the same for all of them.
//
//	t := told.Steering[state]{Look: d.look, Share: d.share, Print: d.print, Has: d.has, Work: d.work,
//		Most: 256, Mark: mark}
//	d, err := t.Set(ctx, 25*split.Percent, front.AsRead(r))
//
// It knows no proxy, and keeps nothing but the revision of what it saw last.
package told
