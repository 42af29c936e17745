package main

import (
	"context"
	"flag"
	"fmt"
	"net"
	"os"
	"os/signal"
	"syscall"
	"time"

	"vaiven/internal/place"
)

func main() {
	listen := flag.String("listen", "", "address to listen on")
	as := flag.String("as", "well", "well, die, later, stubborn or silent")
	relay := flag.Bool("relay", false, "be a relay")
	wait := flag.Bool("wait", false, "wait to be one")
	flag.Parse()
	if *wait {
		time.Sleep(10 * time.Minute)
	}
	if *relay {
		if err := place.ServeRelay(context.Background(), os.Stdin, os.Stdout); err != nil {
			os.Exit(1)
		}
		return
	}
	switch {
	case *as == "die":
		fmt.Println("no berth is free")
		os.Exit(7)
	case *as == "silent":
		fmt.Println("waiting for the timetable")
		time.Sleep(time.Hour)
	case *as == "stubborn":
		signal.Ignore(syscall.SIGTERM)
	}
	l, err := net.Listen("tcp", *listen)
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	fmt.Println("listening on", *listen)
	for {
		c, err := l.Accept()
		if err != nil {
			continue
		}
		fmt.Fprintln(c, os.Getenv("REGION"))
		c.Close()
		if *as == "later" {
			fmt.Println("berth 14 is nil")
			os.Exit(3)
		}
	}
}
