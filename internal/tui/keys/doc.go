// Package keys is the view that answers: who goes where? It shows what split keys would
// have done with the requests of an access log, before one is chosen.
//
//	screen := keys.Model{}.SetReport(r).In(f).View()
package keys
