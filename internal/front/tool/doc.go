// Package tool steers whatever front a command of the user's own can steer: a balancer behind a vendor's interface,
// infrastructure code, a mesh. The command is asked in JSON and answers so; docs/tool.md says what.
//
// Changes may take time: a change is made when a reading shows it, however long that takes after the command accepted
// it.
package tool
