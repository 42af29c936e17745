// Package dns steers a DNS name: users go to where it points.
//
// Names are changed by updates (RFC 2136) that are signed (RFC 8945) and have what was read as their prerequisite, so
// that nobody's change is written over unseen; going home has none. What Vaiven has to know besides stands in two TXT
// records beside the name, which change in the same update.
//
// What is in force on the servers is not in force for users: resolvers remember. A reading says until when.
package dns
