// Package state is the folder in which Vaiven keeps what it knows of a service.
//
// The folder is believed: what it says runs is stopped, and what is written goes where its
// names lead. So it has to be its owner's alone: it is made with mode 0700, refused if
// somebody else owns it or may write it, and nothing in it is reached by way of a link.
// What is in it, and what that means, its users know.
package state
