package page

import (
	"context"
	"crypto/tls"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"time"
)

// Place is where pages are served.
type Place struct {
	Address          string // host:port
	Certificate, Key string // files for TLS; "" for none
}

// The limits of a server, and how long it waits until an address is tried again that is taken.
const (
	readLimit = 5 * time.Second
	headMost  = 8 << 10
	again     = 2 * time.Second
)

// Serve serves pages until the context ends; an empty address is nowhere. One that is taken, as by a keeper that is
// just ending, is tried again, and named once in the log as what is served.
func Serve(ctx context.Context, p Place, what string, h http.Handler) {
	if p.Address == "" {
		return
	}
	said := ""
	for ctx.Err() == nil {
		err := serve(ctx, p, h)
		if err != nil && ctx.Err() == nil && err.Error() != said {
			said = err.Error()
			slog.Warn(what+" cannot be served", "address", p.Address, "err", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(again):
		}
	}
}

func serve(ctx context.Context, p Place, h http.Handler) error {
	l, err := net.Listen("tcp", p.Address)
	if err != nil {
		return err
	}
	if p.Certificate != "" {
		pair, err := tls.LoadX509KeyPair(p.Certificate, p.Key)
		if err != nil {
			return errors.Join(err, l.Close())
		}
		l = tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12})
	}
	server := &http.Server{Handler: h, ReadTimeout: readLimit, WriteTimeout: 2 * readLimit, IdleTimeout: time.Minute,
		MaxHeaderBytes: headMost, ErrorLog: slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug)}
	stop := context.AfterFunc(ctx, func() { _ = server.Close() })
	defer stop()
	return server.Serve(l)
}
