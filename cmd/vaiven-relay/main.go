package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"vaiven/internal/world/place"
)

// waitLimit is how long a relay waits beside a container to be used.
const waitLimit = 10 * time.Minute

func main() {
	wait := flag.Bool("wait", false, "do nothing for a while")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	if *wait {
		select {
		case <-ctx.Done():
		case <-time.After(waitLimit):
		}
		return
	}
	if err := place.ServeRelay(ctx, os.Stdin, os.Stdout); err != nil {
		fmt.Fprintf(os.Stderr, "vaiven-relay: %v\n", err)
		os.Exit(1)
	}
}
