// Package splitkeys is the page that answers: who goes where? It shows what split keys would
// have done with the requests of an access log, before one is chosen.
package splitkeys
