// Poolfront is a front's tool: it steers the stand-in pool of ../pool for Vaiven, in the protocol of docs/tool.md. A
// plan names it:
//
//	front:
//	  listen: 127.0.0.1:8080
//	  tool: ./poolfront -api http://127.0.0.1:8081
//
// It keeps nothing: what belongs to which side stands in labels of the pool's members.
package main
