// Package broker speaks to a message broker: RabbitMQ, over AMQP 0-9-1 and its management interface.
//
//	b := broker.New(place.Local{}, broker.Config{Address: "127.0.0.1:5672",
//		Management: "http://127.0.0.1:15672", User: "vaiven"})
//	q, err := b.Queue(ctx, "bookings")
//	err = b.Do(ctx, broker.Bind(broker.Binding{Source: "bookings", Destination: "bookings-next",
//		Kind: broker.ToQueue}))
//
// [Client] reads what is there and changes it; what messages a queue has and who consumes them is asked over AMQP,
// which knows at once, and what was counted over the management interface, which lags. [Carry] moves messages from a
// queue to somewhere else and loses none. [Asker] asks whoever consumes, and waits for the answer.
package broker
