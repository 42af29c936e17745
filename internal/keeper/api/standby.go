package api

import (
	"context"
	"fmt"
	"net"
	"net/http"

	"vaiven/internal/core/people"
)

// Standby is what a standby lets others reach.
type Standby struct {
	Rules people.Rules
	Info  func() Info
	// TakeOver has it take over, or says why it does not.
	TakeOver func(ctx context.Context, by string, force bool) error
	// End ends its process.
	End func()
}

// ServeStandby answers those who connect to a standby, as [Serve] does for a keeper.
func ServeStandby(l net.Listener, group int, b Standby) *Server {
	s := &Server{process: process{b.Rules, b.Info, b.End}, standby: b}
	s.serve(l, group, s.handler(append(standbys, endpoint{"/", anybody, (*Server).noKeeper})))
	return s
}

// standbys are the endpoints of a standby.
var standbys = []endpoint{
	{"GET /v1/keeper", anybody, (*Server).which},
	{"POST /v1/takeover", owner, (*Server).takesOver},
	{"POST /v1/end", owner, (*Server).ended},
}

// noKeeper says what else is asked of a standby.
func (s *Server) noKeeper(http.ResponseWriter, *http.Request) error {
	return fmt.Errorf("%w: it follows the keeper of %s", ErrStandby, s.info().Standby.For)
}

func (s *Server) takesOver(w http.ResponseWriter, r *http.Request) error {
	var t takeOver
	err := read(w, r, &t)
	if err == nil {
		err = s.standby.TakeOver(r.Context(), person(r).By, t.Force)
	}
	if err == nil {
		answer(w, http.StatusOK, done{})
	}
	return err
}

// takeOver is the body of POST /v1/takeover.
type takeOver struct {
	Force bool `json:"force,omitempty"`
}
