// Torment hurts the users of a release in every way that it knows, on every kind of front, and
// writes down how soon all of them were home and how many requests were hit. It is run by
// make torment.
//
// Each cell of the tables is a service of its own with real proxies and instances, a keeper in
// a process of its own that can be killed, and a client that sends 200 requests a second. A
// cell is a process too, so that cells can be run side by side.
package main
