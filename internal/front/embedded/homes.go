package embedded

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log"
	"log/slog"
	"net"
	"net/http"
	"os"
	"sync"
	"syscall"
	"time"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/world/peer"
)

// serveHome lets the members of a group go home, at a socket of their own: whoever steers uses another one. A socket
// that cannot be made, or that somebody removes, is made again; requests do not wait for that. stop ends it.
func (s *Server) serveHome(ctx context.Context) (stop func()) {
	path := s.config.HomeSocket
	if path == "" {
		return func() {}
	}
	homes := &http.Server{Handler: s.homeHandler(), ReadHeaderTimeout: time.Second, ReadTimeout: 2 * time.Second,
		IdleTimeout: time.Minute, ErrorLog: log.New(io.Discard, "", 0), ConnContext: withPeer}
	ctx, cancel := context.WithCancel(ctx)
	var work sync.WaitGroup
	var mine fs.FileInfo
	open := func() {
		l, err := makeSocket(path, func(made string) error {
			err := os.Chown(made, -1, s.config.HomeGroup)
			if err == nil {
				err = os.Chmod(made, 0o660)
			}
			if err == nil {
				mine, err = os.Lstat(made)
			}
			return err
		})
		if err != nil {
			slog.Warn("members of the socket's group cannot go home without the keeper", "err", err)
			return
		}
		work.Go(func() { _ = homes.Serve(l) }) // ends when the server is closed
	}
	open()
	work.Go(func() {
		ticker := time.NewTicker(time.Second)
		defer ticker.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-ticker.C:
			}
			if now, err := os.Lstat(path); errors.Is(err, fs.ErrNotExist) || err == nil && !os.SameFile(now, mine) &&
				deserted(path) { // the process that was to take over has ended
				if !s.proxy.retiring.Load() {
					open()
				}
			}
		}
	})
	return func() {
		cancel()
		_ = homes.Close()
		work.Wait()
	}
}

// deserted reports whether nobody listens at a socket.
func deserted(path string) bool {
	c, err := net.DialTimeout("unix", path, time.Second)
	if err == nil {
		_ = c.Close()
	}
	return errors.Is(err, syscall.ECONNREFUSED)
}

// homeHandler is what can be asked for by whoever may go home and no more.
func (s *Server) homeHandler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /reading", func(w http.ResponseWriter, r *http.Request) {
		reply(w, s.reading(r.Context()), s.replacedBy())
	})
	mux.HandleFunc("PUT /home", func(w http.ResponseWriter, r *http.Request) {
		var body goHome
		if accept(w, r, &body) {
			body.By = s.verified(r, body.By)
			if err := s.isHome(body.Side); err != nil {
				reply(w, nil, err)
				return
			}
			set, err := s.home(r.Context(), body)
			reply(w, set, err)
		}
	})
	return mux
}

// isHome is an error if a side is known not to be home: going on is not for whoever may only go home.
func (s *Server) isHome(side split.Side) error {
	if s.config.Home == nil {
		return nil
	}
	if home, known := s.config.Home(); known && side != home {
		return fmt.Errorf("%w: home is %v, and all requests go to %v only through the keeper, for who may", front.ErrRefused,
			home, side)
	}
	return nil
}

type peerKey struct{}

func withPeer(ctx context.Context, c net.Conn) context.Context {
	p, err := peer.Of(c)
	if err != nil {
		return ctx
	}
	return context.WithValue(ctx, peerKey{}, p)
}

// verified is who goes home: as they say, and as the socket knows it where that is somebody else.
func (s *Server) verified(r *http.Request, by string) string {
	p, known := r.Context().Value(peerKey{}).(peer.Peer)
	switch {
	case !known || p.Name == by:
		return by
	case by == "":
		return p.Name
	}
	return fmt.Sprintf("%s, by uid %d (%s)", by, p.UID, p.Name)
}
