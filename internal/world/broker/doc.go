// Package broker speaks to a message broker: RabbitMQ, over AMQP 0-9-1 and its management interface.
//
// [Client] reads what is there and changes it; what messages a queue has and who consumes them is asked over AMQP,
// which knows at once, and what was counted over the management interface, which lags. [Carry] moves messages from a
// queue to somewhere else and loses none. [Asker] asks whoever consumes, and waits for the answer.
package broker
