// Package prober sends Vaiven's own steady stream of requests through the front
// and keeps the door log: which side, instance and version answered, how long it
// took, and the longest gap between good answers.
//
//	p := prober.New(prober.Config{Fronts: []string{"127.0.0.1:8080"}, Path: "/sailings",
//		Door: door.New(p.Door, secrets), Rate: 20, Timeout: 2 * time.Second, Status: 200})
//	go p.Run(ctx)
//	p.Report(time.Now()).LongestGap
//
// Its requests refuse caches and carry a marker header. They are real requests
// and count in the front's figures; they stand in for no user.
package prober
