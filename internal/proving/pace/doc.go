// Package pace does something many times, no faster than it was asked and with no more at once than there is room for.
// Nothing waits for what takes long but those who want its place.
package pace
