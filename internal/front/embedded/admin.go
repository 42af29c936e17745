package embedded

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/world/place"
)

// setSplit is the body of PUT /split.
type setSplit struct {
	Share      split.Share `json:"share"`
	Revision   uint64      `json:"revision"`   // that the split in force has to have
	Generation uint64      `json:"generation"` // that the order of going home has to have
	Term       uint64      `json:"term,omitempty"`
}

// term is the body of POST /term, with the term that another one is to come after, and its answer.
type term struct {
	Term uint64 `json:"term"`
}

// goHome is the body of PUT /home.
type goHome struct {
	Side  split.Side `json:"side"`
	By    string     `json:"by,omitempty"`
	Why   string     `json:"why,omitempty"`
	Force bool       `json:"force,omitempty"` // also to a side that has nobody

	Folder string `json:"folder,omitempty"` // see [front.Homing]
	Close  bool   `json:"close,omitempty"`
	Reopen bool   `json:"reopen,omitempty"`
}

// rehearsal is the body of POST /rehearsal.
type rehearsal struct {
	Side split.Side `json:"side"`
}

// inForce is the answer of both.
type inForce struct {
	Split reading.Split `json:"split"`
	Order reading.Order `json:"order"`
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
	Error string `json:"error"`
	Kind  string `json:"kind,omitempty"` // one of those below
}

// reach asks whether the front reaches an address, and reached is why not.
type (
	reach   struct{ Address string }
	reached struct{ Error string }
)

// refusals are the errors that clients branch on, by their names on the wire.
var refusals = map[string]error{
	"changed": front.ErrChanged, "newer": front.ErrNewer, "taken": front.ErrTaken, "nobody": front.ErrNobody,
	"closed": front.ErrClosed, "not-loaded": front.ErrNotLoaded, "replaced": errReplaced,
}

func (s *Server) adminHandler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /reading", func(w http.ResponseWriter, r *http.Request) {
		reply(w, s.reading(r.Context()), s.replacedBy())
	})
	mux.HandleFunc("PUT /split", func(w http.ResponseWriter, r *http.Request) {
		var body setSplit
		if accept(w, r, &body) {
			set, err := s.setSplit(r.Context(), body)
			reply(w, set, err)
		}
	})
	mux.HandleFunc("PUT /home", func(w http.ResponseWriter, r *http.Request) {
		var body goHome
		if accept(w, r, &body) {
			set, err := s.home(r.Context(), body)
			reply(w, set, err)
		}
	})
	mux.HandleFunc("POST /term", func(w http.ResponseWriter, r *http.Request) {
		var after term
		if r.ContentLength == 0 || accept(w, r, &after) { // a Vaiven before this one says nothing
			begun, err := s.newTerm(r.Context(), after)
			reply(w, begun, err)
		}
	})
	mux.HandleFunc("POST /rehearsal", func(w http.ResponseWriter, r *http.Request) {
		var body rehearsal
		if accept(w, r, &body) {
			reply(w, struct{}{}, s.rehearse(r.Context(), body.Side))
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
			reply(w, struct{}{}, s.setInstances(r.Context(), side, body.Instances))
		}
	})
	mux.HandleFunc("POST /hand-over", s.serveHandOver)
	mux.HandleFunc("POST /reach", func(w http.ResponseWriter, r *http.Request) {
		var body reach
		if !accept(w, r, &body) {
			return
		}
		found := reached{}
		if err := front.ReachFrom(r.Context(), place.Local{}, body.Address); err != nil {
			found.Error = err.Error()
		}
		reply(w, found, nil)
	})
	mux.HandleFunc("GET /door", func(w http.ResponseWriter, _ *http.Request) {
		d := front.Spare{Side: s.proxy.current().whole.Other()}
		if secret := s.proxy.spare.secret.Load(); secret != nil {
			d.Secret = *secret
		}
		reply(w, d, nil)
	})
	mux.HandleFunc("POST /sides/{side}/drain", func(w http.ResponseWriter, r *http.Request) {
		side, err := split.ParseSide(r.PathValue("side"))
		if err != nil {
			reply(w, nil, err)
			return
		}
		open, err := s.drain(r.Context(), side)
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
		no := refusal{Error: err.Error()}
		status := http.StatusUnprocessableEntity
		for name, kind := range refusals {
			if errors.Is(err, kind) {
				no.Kind, status = name, http.StatusConflict
			}
		}
		if errors.Is(err, errReplaced) {
			w.Header().Set("Connection", "close")
		}
		w.WriteHeader(status)
		value = no
	}
	_ = json.NewEncoder(w).Encode(value) // a client that left learns the outcome by reading
}

// setSplit changes the share. It is kept on disk before it is in force, so that a front that
// cannot write refuses it whole; and it is in force only if nothing else was meanwhile.
func (s *Server) setSplit(ctx context.Context, want setSplit) (inForce, error) {
	if !want.Share.Valid() {
		return inForce{}, fmt.Errorf("%w: %v is not between 0 %% and 100 %%", front.ErrRefused, want.Share)
	}
	next, err := s.replace(ctx, func(t *table) (*table, error) {
		if err := (front.Expect{Generation: want.Generation, Term: want.Term}).Allows(want.Share, t.order); err != nil {
			return nil, err
		}
		if want.Revision != t.split.Revision {
			return nil, fmt.Errorf("%w: it has revision %d with %v on green, not revision %d", front.ErrChanged,
				t.split.Revision, t.split.Share, want.Revision)
		}
		for _, side := range split.Sides {
			if want.Share.Of(side) > 0 && len(t.sides[side].instances) == 0 {
				return nil, fmt.Errorf("%w: %v has no instances to send requests to", front.ErrRefused, side)
			}
		}
		next := t.withShare(want.Share, time.Now())
		steady := t.split.Share == 0 || t.split.Share == split.Whole
		if s.config.Shuffle && steady && want.Share > 0 && want.Share < split.Whole {
			next.seed = rand.Text() // nobody was placed by the one before
		}
		return next, nil
	})
	if err != nil {
		return inForce{}, err
	}
	return inForce{next.split, next.order}, nil
}

// newTerm begins a term after another. It is kept on disk before it counts.
func (s *Server) newTerm(ctx context.Context, after term) (term, error) {
	next, err := s.replace(ctx, func(t *table) (*table, error) {
		next := *t
		next.order.Term = max(next.order.Term, after.Term) + 1
		return &next, nil
	})
	if err != nil {
		return term{}, err
	}
	return term{next.order.Term}, nil
}

// replacedBy is an error if another process accepts: that one is to be asked. It is so from the moment
// at which the table was handed over.
func (s *Server) replacedBy() error {
	s.change.Lock()
	defer s.change.Unlock()
	if s.successor != nil {
		return errReplaced
	}
	return nil
}

// home sends all requests to a side, whatever is in force. It waits for nothing: no other
// change, and no disk. What has to last is written after. The process that is being replaced, or that
// is taking over, is told at the same time.
func (s *Server) home(ctx context.Context, want goHome) (inForce, error) {
	s.change.Lock()
	t := s.proxy.current()
	if len(t.sides[want.Side].instances) == 0 && len(t.sides[want.Side.Other()].instances) > 0 && !want.Force {
		s.change.Unlock()
		return inForce{}, fmt.Errorf("%w: %v has no instances, and %v has", front.ErrNobody, want.Side,
			want.Side.Other())
	}
	o, err := front.Homing(want).Next(t.order, time.Now())
	if err != nil {
		s.change.Unlock()
		return inForce{}, err
	}
	next := t.home(o)
	number, before, successor := s.swap(next), s.before, s.successor
	var theirs uint64
	if successor != nil {
		theirs = successor.tell(next)
	}
	s.change.Unlock()
	s.store.wentHome(next)
	err = s.everywhere(ctx, before, number)
	if successor != nil {
		limited, cancel := context.WithTimeout(ctx, time.Second)
		defer cancel()
		if !successor.await(limited, func() bool { return successor.done >= theirs }) && !successor.isGone() {
			err = errors.Join(err, fmt.Errorf("%w: the process that takes over does not answer", front.ErrNotLoaded))
		}
	}
	return inForce{next.split, next.order}, err
}

// rehearse does what home does, and puts what is in force in place in the end.
func (s *Server) rehearse(ctx context.Context, side split.Side) error {
	s.change.Lock()
	t := s.proxy.current()
	if len(t.sides[side].instances) == 0 {
		s.change.Unlock()
		return front.Nobody(side)
	}
	o, err := front.Homing{Side: side}.Next(t.order, time.Now())
	if err != nil {
		s.change.Unlock()
		return err
	}
	t.home(o)
	same := *t
	number, before := s.swap(&same), s.before
	s.change.Unlock()
	return s.everywhere(ctx, before, number)
}

// errMoved is why a table was not replaced: another one was put in place meanwhile.
var errMoved = errors.New("another change came first")

// replace puts another table in place, which is kept on disk before. The disk is waited for
// without holding up anybody else; what came meanwhile is decided on again.
func (s *Server) replace(ctx context.Context, decide func(*table) (*table, error)) (*table, error) {
	for {
		if err := s.replacedBy(); err != nil {
			return nil, err
		}
		was := s.proxy.current()
		next, err := decide(was)
		if err != nil {
			return nil, err
		}
		if err := s.store.keep(ctx, next); err != nil {
			return nil, fmt.Errorf("%w: it could not be kept on disk, nothing was changed: %w", front.ErrRefused, err)
		}
		s.change.Lock()
		if s.proxy.current() == was && s.successor == nil {
			number, before := s.swap(next), s.before
			s.change.Unlock()
			return next, s.everywhere(ctx, before, number)
		}
		s.change.Unlock()
		s.store.later(s.proxy.current()) // what was kept is not what is in force
		if ctx.Err() != nil {
			return nil, fmt.Errorf("%w: %w", front.ErrRefused, errMoved)
		}
	}
}

func (s *Server) setInstances(ctx context.Context, side split.Side, wanted []reading.Server) error {
	for _, i := range wanted {
		if i.Name == "" || i.Address == "" {
			return fmt.Errorf("%w: an instance needs a name and an address", front.ErrRefused)
		}
	}
	_, err := s.replace(ctx, func(t *table) (*table, error) {
		if share := t.split.Share.Of(side); share > 0 && len(wanted) == 0 {
			return nil, fmt.Errorf("%w: %v gets %v of the requests and would have no instance", front.ErrRefused, side,
				share)
		}
		return t.withInstances(side, wanted), nil
	})
	if err == nil && len(wanted) == 0 {
		// Nobody is on the spare side any more: who knew the way there has to be told anew.
		if err := s.proxy.spare.renew(); err != nil {
			slog.Warn("the new secret of the spare side's door could not be written", "err", err)
		}
	}
	return err
}

// drain says how many requests a side still answers, in the process before as well. No new ones can come,
// because it has no share.
func (s *Server) drain(ctx context.Context, side split.Side) (int64, error) {
	if err := s.replacedBy(); err != nil {
		return 0, err
	}
	s.change.Lock()
	t := s.proxy.current()
	if err := front.Quiet(side, t.split.Share.Of(side)); err != nil {
		s.change.Unlock()
		return 0, err
	}
	var number uint64
	before := s.before
	if !t.sides[side].draining {
		next := t.withDraining(side)
		number = s.swap(next)
		if s.config.Sticky {
			s.store.later(next) // so that sessions do not come back with a restart
		}
	}
	s.change.Unlock()
	if err := s.everywhere(ctx, before, number); err != nil {
		return 0, err
	}
	return s.reading(ctx).Sides[side].Open, nil
}
