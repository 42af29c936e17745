// Package placetest has a machine for tests that is somewhere else, and on which acts fail.
//
//	there := &placetest.Elsewhere{Root: t.TempDir()}
//	there.Before = func(act, path string) error { ... } // a disk that is full, say
//
// Its files lie in a folder of this machine under names of their own: who reaches past it
// finds nothing.
package placetest
