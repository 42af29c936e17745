// Package post delivers notices: as mail, as CloudEvents 1.0 to a webhook, or to a command. It tries once; who wants it
// tried again does that.
package post
