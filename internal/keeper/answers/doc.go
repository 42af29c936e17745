// Package answers is the page behind the link of a notice: it shows the question, and its button answers it. It serves
// nothing else, so that it can stand where the keeper's socket must not.
package answers
