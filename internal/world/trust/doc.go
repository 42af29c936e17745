// Package trust reads how TLS is spoken: whom to trust, for which name, and who one is oneself, from files where they
// are. A file that hangs holds nobody up for longer than they wait.
package trust
