// Yard is an example of a command that raises, lists and stops the instances of a
// side for Vaiven; docs/tool.md describes what is said.
//
//	stack:
//	  tool: ./yard -folder /srv/yard
//	  command: ./sailings --listen {address}
//
// This one starts processes on this machine, which Vaiven can do by itself: put
// what your cloud or your infrastructure code needs in place of start, stop and
// alive.
package main
