// Package service puts together what a plan needs to be worked on: fronts, stacks, prober,
// logbook and log, and the keeper that owns the crossing.
//
//	s, err := service.Open(ctx, p, secrets, "marit")
//	defer s.Close()
//	s.Keeper.Do(ctx, keeper.Command{Act: crossing.Begin{Version: "4.3.0"}})
package service
