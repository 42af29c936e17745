// Package oneof is how a value that may be of one of several types is written and read: in JSON it is one flat object
// in which a field, "kind" unless said otherwise, names the type.
//
// A [Set] knows the types. A name that it does not know, which a newer Vaiven wrote, is read as [Newer] and written
// as it came, so that nothing is lost on the way through an older one.
//
// Everything here is pure, and safe to be used at the same time by many.
package oneof
