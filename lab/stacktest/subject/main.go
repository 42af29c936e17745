package main

import (
	"flag"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"syscall"
	"time"
)

func main() {
	listen := flag.String("listen", "", "address to listen on")
	as := flag.String("as", "well", "well, die, later, stubborn, background or silent")
	flag.Parse()
	switch {
	case *as == "die":
		fmt.Println("no berth is free")
		os.Exit(7)
	case *as == "silent":
		fmt.Println("waiting for the timetable")
		time.Sleep(time.Hour) // it never answers
	case *as == "background":
		if os.Getenv("IN_THE_BACKGROUND") == "" {
			again := exec.Command(os.Args[0], os.Args[1:]...)
			again.Env = append(os.Environ(), "IN_THE_BACKGROUND=yes")
			again.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
			if err := again.Start(); err != nil {
				fmt.Println(err)
				os.Exit(1)
			}
			return
		}
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
