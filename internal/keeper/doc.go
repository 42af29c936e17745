// Package keeper owns a service's crossing: it performs the effects that package
// crossing asks for, watches front, stacks and guards, writes the logbook, and
// tells its clients.
//
//	k, err := keeper.New(ctx, keeper.Config{Plan: p, Front: f, Stacks: s, Book: b})
//	go k.Run(ctx)
//	err = k.Do(ctx, keeper.Command{Do: keeper.Begin, Version: "4.3.0", By: "marit"})
//	for snapshot := range k.Snapshots(ctx) { ... }
//
// Clients send commands and receive snapshots and events, all of them plain
// values that can be serialised; [Client] is the whole of what they may use.
//
// Every event is in the logbook before anything is done because of it, with one
// exception: going back is done first and recorded after, because safety must not
// wait for a disk. When the keeper starts in the middle of a crossing it reads
// front and stacks and believes them over its notes.
package keeper
