// Package queue steers a broker's bindings: which side's queue the messages of an exchange come to, and with it whose
// consumers do the work.
//
// Between the exchange that publishers know and the two queues stand three exchanges, each of which hands on to the
// next what it leads nowhere itself (alternate exchanges):
//
//	bookings → vaiven.S (blue's queue) → vaiven.S.next (green's) → vaiven.S.mix (both, by weights) → vaiven.S.held
//
// So every change that moves messages is one binding more or less: no message is in two queues, and none in no queue,
// at any moment; and going home to either side needs nothing to be read first. What leads nowhere at all is kept in a
// queue of its own, vaiven.S.held, and goes on when there is somewhere to go. The last going home and who the
// instances are stand at the broker as well, as arguments of bindings of an exchange that nobody publishes to.
package queue
