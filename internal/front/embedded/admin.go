package embedded

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

// setSplit is the body of PUT /split.
type setSplit struct {
	Share    split.Share `json:"share"`
	Revision uint64      `json:"revision"`       // that the split in force has to have
	Home     bool        `json:"home,omitempty"` // a rollback: whatever is in force
}

// setInstances is the body of PUT /sides/{side}/instances.
type setInstances struct {
	Instances []reading.Server `json:"instances"`
}

// drained is the answer of POST /sides/{side}/drain.
type drained struct {
	Open int64 `json:"open"` // requests that the side is still answering
}

// refusal is the body of every answer that is not 200.
type refusal struct {
	Error   string `json:"error"`
	Changed bool   `json:"changed,omitempty"` // the revision was another one
}

func (s *Server) adminHandler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /reading", func(w http.ResponseWriter, r *http.Request) {
		reading := s.proxy.reading(time.Now())
		s.change.Lock()
		reading.Notice = s.notice
		s.change.Unlock()
		reply(w, reading, nil)
	})
	mux.HandleFunc("PUT /split", func(w http.ResponseWriter, r *http.Request) {
		var body setSplit
		if accept(w, r, &body) {
			set, err := s.setSplit(body)
			reply(w, set, err)
		}
	})
	mux.HandleFunc("PUT /sides/{side}/instances", func(w http.ResponseWriter, r *http.Request) {
		side, err := split.ParseSide(r.PathValue("side"))
		if err != nil {
			reply(w, nil, err)
			return
		}
		var body setInstances
		if accept(w, r, &body) {
			reply(w, struct{}{}, s.setInstances(side, body.Instances))
		}
	})
	mux.HandleFunc("POST /sides/{side}/drain", func(w http.ResponseWriter, r *http.Request) {
		side, err := split.ParseSide(r.PathValue("side"))
		if err != nil {
			reply(w, nil, err)
			return
		}
		open, err := s.drain(side)
		reply(w, drained{open}, err)
	})
	return mux
}

func accept(w http.ResponseWriter, r *http.Request, body any) bool {
	d := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20))
	d.DisallowUnknownFields()
	if err := d.Decode(body); err != nil {
		reply(w, nil, fmt.Errorf("read the request: %w", err))
		return false
	}
	return true
}

func reply(w http.ResponseWriter, value any, err error) {
	w.Header().Set("Content-Type", "application/json")
	if err != nil {
		changed := errors.Is(err, front.ErrChanged)
		status := http.StatusUnprocessableEntity
		if changed {
			status = http.StatusConflict
		}
		w.WriteHeader(status)
		value = refusal{Error: err.Error(), Changed: changed}
	}
	_ = json.NewEncoder(w).Encode(value) // a client that left learns the outcome by reading
}

// setSplit changes the share. A change is kept on disk before it is in force, so
// that a front that cannot write refuses it whole. Going home is in force first:
// it may not depend on a disk.
func (s *Server) setSplit(want setSplit) (reading.Split, error) {
	s.change.Lock()
	defer s.change.Unlock()
	t := s.proxy.current()
	if !want.Share.Valid() {
		return t.split, fmt.Errorf("%w: %v is not between 0 %% and 100 %%", front.ErrRefused, want.Share)
	}
	next := t.withShare(want.Share, want.Home, time.Now())
	if want.Home {
		s.proxy.swap(next)
		s.notice = s.unkept(s.keep(next))
		return next.split, nil
	}
	if want.Revision != t.split.Revision {
		return t.split, fmt.Errorf("%w: it has revision %d with %v on green, not revision %d",
			front.ErrChanged, t.split.Revision, t.split.Share, want.Revision)
	}
	for _, side := range split.Sides {
		if want.Share.Of(side) > 0 && len(t.sides[side].instances) == 0 {
			return t.split, fmt.Errorf("%w: %v has no instances to send requests to", front.ErrRefused, side)
		}
	}
	if err := s.keep(next); err != nil {
		return t.split, fmt.Errorf("%w: the split could not be kept on disk, nothing was changed: %w", front.ErrRefused, err)
	}
	s.notice = ""
	s.proxy.swap(next)
	return next.split, nil
}

// unkept is the notice of a change that is in force and could not be written.
func (s *Server) unkept(err error) string {
	if err == nil {
		return ""
	}
	return fmt.Sprintf("the split is in force but would not survive a restart of the front: %v", err)
}

func (s *Server) setInstances(side split.Side, wanted []reading.Server) error {
	s.change.Lock()
	defer s.change.Unlock()
	t := s.proxy.current()
	if share := t.split.Share.Of(side); share > 0 && len(wanted) == 0 {
		return fmt.Errorf("%w: %v gets %v of the requests and would have no instance", front.ErrRefused, side, share)
	}
	for _, i := range wanted {
		if i.Name == "" || i.Address == "" {
			return fmt.Errorf("%w: an instance needs a name and an address", front.ErrRefused)
		}
	}
	next := t.withInstances(side, wanted)
	if err := s.keep(next); err != nil {
		return fmt.Errorf("%w: the instances could not be kept on disk, nothing was changed: %w", front.ErrRefused, err)
	}
	s.notice = ""
	s.proxy.swap(next)
	return nil
}

// drain says how many requests a side still answers. No new ones can come,
// because it has no share.
func (s *Server) drain(side split.Side) (int64, error) {
	s.change.Lock()
	defer s.change.Unlock()
	t := s.proxy.current()
	if share := t.split.Share.Of(side); share > 0 {
		return 0, fmt.Errorf("%w: %v gets %v of the requests", front.ErrRefused, side, share)
	}
	if !t.sides[side].draining {
		next := t.withDraining(side)
		if s.config.Sticky {
			s.notice = s.unkept(s.keep(next)) // so that sessions do not come back with a restart
		}
		s.proxy.swap(next)
	}
	return t.sides[side].tally.open.Load(), nil
}
