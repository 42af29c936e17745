package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"strconv"
	"sync"
	"time"
	"unicode"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/people"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/metrics"
	"vaiven/internal/plan/tryout"
)

// The limits of what clients may take.
const (
	headLimit  = 5 * time.Second // for a request's head to arrive,
	bodyLimit  = 5 * time.Second // and its body
	bodyMost   = 64 << 10        // bytes of a body
	headMost   = 16 << 10        // bytes of a head
	idleLimit  = 2 * time.Minute // for the next request on a connection
	writeLimit = 5 * time.Second // for a piece of a stream to be taken: whoever is slower is let go, and may come again
	beatEvery  = 2 * time.Second // after which a quiet stream sends an empty line, so that both ends know of each other
	streamMost = 256             // streams at once
	nameMost   = 64              // characters of a handle, and of where it is
)

// Keeper is what a server lets others reach.
type Keeper struct {
	*keeper.Keeper
	Info func() Info
	// HandOver ends the keeper for another process to go on, and gives what that needs to know.
	// The error wraps [ErrBusy] if that cannot be just now.
	HandOver func(context.Context) (keeper.Memory, error)
	// End ends the keeper's process.
	End func()
}

// Server lets clients reach a keeper. Make it with Serve.
type Server struct {
	process
	keeper  Keeper  // of a standby none
	standby Standby // of a keeper none
	views   *views
	http    http.Server
	ending  context.Context
	end     context.CancelFunc
	streams chan struct{}
	done    sync.WaitGroup

	mu       sync.Mutex // protects what follows
	watching int        // streams of views that are open
	unwatch  context.CancelFunc
}

// Serve answers those who connect until the server is closed: the keeper's own user, root, and the members of a Unix
// group, -1 for none. The listener has to be that of a Unix socket, and is closed with it.
func Serve(l net.Listener, group int, k Keeper, epoch string) *Server {
	s := &Server{process: process{k.Plan.People, k.Info, k.End}, keeper: k, views: newViews(epoch),
		streams: make(chan struct{}, streamMost)}
	s.serve(l, group, s.handler(endpoints))
	return s
}

// process is what there is to know of whoever answers, keeper or standby.
type process struct {
	rules  people.Rules
	info   func() Info
	finish func()
}

func (s *Server) serve(l net.Listener, group int, h http.Handler) {
	s.ending, s.end = context.WithCancel(context.Background())
	s.http = http.Server{
		Handler: h, ReadHeaderTimeout: headLimit, IdleTimeout: idleLimit, MaxHeaderBytes: headMost,
		ErrorLog: slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug), ConnContext: withPeer,
	}
	s.done.Go(func() {
		// it ends with Close
		_ = s.http.Serve(guarded{l, group, func(err error) { slog.Warn("refused at the socket", "err", err) }})
	})
}

// Close ends all connections at once. Clients come back, to whoever listens then.
func (s *Server) Close() error {
	s.end()
	err := s.http.Close()
	s.done.Wait()
	return err
}

// Drain lets what is being answered end, for a while, before Close. Nobody is let in any more.
func (s *Server) Drain(limit time.Duration) {
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	_ = s.http.Shutdown(ctx) // what is left Close ends
}

// watch keeps the views up to date as long as anybody looks at them: until leave is called.
func (s *Server) watch() (leave func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.watching++; s.watching == 1 {
		var ctx context.Context
		ctx, s.unwatch = context.WithCancel(s.ending)
		snapshots := s.keeper.Snapshots(ctx)
		s.take(<-snapshots) // what is there is from when somebody watched last
		go s.follow(ctx, snapshots)
	}
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.watching--; s.watching == 0 {
			s.unwatch()
		}
	}
}

// take encodes a snapshot.
func (s *Server) take(snapshot keeper.Snapshot) {
	if err := s.views.take(snapshot); err != nil {
		slog.Error("a view cannot be told", "err", err)
	}
}

// follow encodes snapshots as they come. It ends with the server.
func (s *Server) follow(ctx context.Context, snapshots <-chan keeper.Snapshot) {
	for snapshot := range snapshots {
		s.take(snapshot)
	}
	if ctx.Err() == nil {
		s.views.end() // the keeper has ended
	}
}

// endpoint is one thing that can be asked for.
type endpoint struct {
	pattern string
	admits  admission
	do      func(*Server, http.ResponseWriter, *http.Request) error
}

// admission is for whom an endpoint is, of those whom the socket lets in.
type admission int

const (
	anybody  admission = iota // what is asked is judged where it is done
	watching                  // who may watch, by the plan's rules
	owner                     // the keeper's own user, and root
)

// admits is an error if an endpoint is not for whoever asks.
func (s *Server) admits(a admission, r *http.Request) error {
	who, groups := s.peerOf(r)
	switch {
	case a == watching && !s.rules.Has(who.Name, groups, people.Watch, ""):
		to, _ := s.rules.Of(people.Watch, "")
		return crossing.Refuse(crossing.NotAllowed{Right: people.Watch, Who: who, To: to})
	case a == owner && (who.Name == "" || who.Gate != "" || who.User != os.Geteuid() && who.User != 0):
		return &ownersError{}
	}
	return nil
}

// ownersError says that something is the owner's to do.
type ownersError struct{}

func (*ownersError) Error() string {
	return fmt.Sprintf("only user %d, whose keeper this is, and root take it over or end it", os.Geteuid())
}

// endpoints are all of them. docs/keeper.openapi.yaml has the same.
var endpoints = []endpoint{
	{"GET /v1/keeper", anybody, (*Server).which},
	{"GET /v1/view", watching, (*Server).view},
	{"GET /v1/views", watching, (*Server).stream},
	{"GET /v1/events", watching, (*Server).events},
	{"GET /v1/follow", watching, (*Server).followed},
	{"GET /v1/track", watching, (*Server).track},
	{"GET /v1/versions", watching, (*Server).versions},
	{"GET /v1/change", watching, (*Server).change},
	{"GET /v1/tryout", watching, (*Server).tryout},
	{"GET /v1/crossings", watching, (*Server).crossings},
	{"GET /v1/crossings/{number}", watching, (*Server).crossing},
	{"GET /v1/crossings/{number}/recording", watching, (*Server).recording},
	{"GET /v1/metrics", watching, (*Server).metrics},
	{"GET /v1/clients", watching, (*Server).clients},
	{"GET /v1/evidence", watching, (*Server).evidence},
	{"POST /v1/commands", anybody, (*Server).command},
	{"POST /v1/rehearsals", anybody, (*Server).rehearse},
	{"POST /v1/handover", owner, (*Server).handOver},
	{"POST /v1/end", owner, (*Server).ended},
}

func (s *Server) handler(endpoints []endpoint) *http.ServeMux {
	mux := http.NewServeMux()
	for _, r := range endpoints {
		mux.HandleFunc(r.pattern, func(w http.ResponseWriter, req *http.Request) {
			w.Header().Set(ProtocolHeader, strconv.Itoa(Protocol))
			err := spoken(req)
			if err == nil {
				err = s.admits(r.admits, req)
			}
			if err == nil {
				req.Body = http.MaxBytesReader(w, req.Body, bodyMost)
				err = r.do(s, w, req)
			}
			if err != nil {
				status, body := failure(err)
				if errors.Is(err, errProtocol) {
					status, body.Kind = http.StatusUpgradeRequired, kindProtocol
				}
				answer(w, status, body)
			}
		})
	}
	return mux
}

// errProtocol is a client that speaks another version.
var errProtocol = errors.New("another protocol")

// spoken is an error if a client speaks another version of the protocol. One that names none,
// such as a person with a general program, is taken to know what it does.
func spoken(r *http.Request) error {
	text := r.Header.Get(ProtocolHeader)
	if text == "" || text == strconv.Itoa(Protocol) {
		return nil
	}
	return &protocolError{text}
}

type protocolError struct{ theirs string }

func (e *protocolError) Error() string {
	return "this keeper speaks protocol " + strconv.Itoa(Protocol) + ", and you speak " + printable(e.theirs) +
		". The keeper can be replaced by your Vaiven while it works: vaiven keep PLAN --take-over"
}
func (e *protocolError) Is(target error) bool { return target == errProtocol }

func answer(w http.ResponseWriter, status int, value any) {
	w.Header().Set("Content-Type", "application/json")
	_ = http.NewResponseController(w).SetWriteDeadline(time.Now().Add(writeLimit))
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(value) // whoever has left learns of it by looking
}

// read reads a body, for which there is a time; what comes of it may take longer.
func read(w http.ResponseWriter, r *http.Request, value any) error {
	control := http.NewResponseController(w)
	_ = control.SetReadDeadline(time.Now().Add(bodyLimit))
	defer func() { _ = control.SetReadDeadline(time.Time{}) }()
	d := json.NewDecoder(r.Body)
	d.DisallowUnknownFields()
	if err := d.Decode(value); err != nil {
		return wrong("the body is not understood: %v", err)
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return wrong("the body has more than one value")
	}
	return nil
}

// person is who sends a request.
func person(r *http.Request) keeper.Person {
	return keeper.Person{
		Client: printable(r.Header.Get(ClientHeader)), By: printable(r.Header.Get(ByHeader)),
		From: printable(r.Header.Get(FromHeader)),
	}
}

// printable is a name as it may be shown.
func printable(text string) string {
	var list []rune
	for _, c := range text {
		if len(list) == nameMost {
			break
		}
		if unicode.IsPrint(c) {
			list = append(list, c)
		}
	}
	return string(list)
}

func (s *Server) which(w http.ResponseWriter, _ *http.Request) error {
	answer(w, http.StatusOK, s.info())
	return nil
}

func (s *Server) view(w http.ResponseWriter, r *http.Request) error {
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	select {
	case snapshot := <-s.keeper.Snapshots(ctx):
		answer(w, http.StatusOK, snapshot)
	case <-ctx.Done():
	}
	return nil
}

// streaming begins a stream of lines for somebody who watches. write is false when the client
// is gone or too slow.
func (s *Server) streaming(w http.ResponseWriter, r *http.Request) (write func(line any) bool, stop func(), err error) {
	select {
	case s.streams <- struct{}{}:
	default:
		return nil, nil, &busyError{"as many watch as can"}
	}
	control := http.NewResponseController(w)
	_ = control.SetReadDeadline(time.Time{})
	w.Header().Set("Content-Type", "application/x-ndjson")
	leave := func() {}
	if p := person(r); p.Client != "" {
		leave = s.keeper.Attend(p)
	}
	encoder := json.NewEncoder(w)
	return func(line any) bool {
			_ = control.SetWriteDeadline(time.Now().Add(writeLimit))
			var err error
			if line == nil {
				_, err = io.WriteString(w, "\n")
			} else {
				err = encoder.Encode(line)
			}
			return err == nil && control.Flush() == nil
		}, func() {
			leave()
			<-s.streams
		}, nil
}

type busyError struct{ why string }

func (e *busyError) Error() string        { return e.why }
func (e *busyError) Is(target error) bool { return target == ErrBusy }

func (s *Server) stream(w http.ResponseWriter, r *http.Request) error {
	seen, err := s.views.seen(r.URL.Query().Get("since"))
	if err != nil {
		return err
	}
	write, stop, err := s.streaming(w, r)
	if err != nil {
		return err
	}
	defer stop()
	leave := s.watch()
	defer leave()
	beat := time.NewTicker(beatEvery)
	defer beat.Stop()
	for {
		u, number, more := s.views.after(seen)
		if number > seen && !write(u) || more == nil {
			return nil
		}
		seen = number
		select {
		case <-more:
		case <-beat.C:
			if !write(nil) {
				return nil
			}
		case <-r.Context().Done():
			return nil
		case <-s.ending.Done():
			return nil
		}
	}
}

func (s *Server) events(w http.ResponseWriter, r *http.Request) error {
	since, err := sinceOf(r)
	if err != nil {
		return err
	}
	return s.tellEvents(w, r, since, func(context.Context, crossing.Event) error { return nil })
}

// followed tells a standby what is on record: what is not may come to nothing.
func (s *Server) followed(w http.ResponseWriter, r *http.Request) error {
	since, err := sinceOf(r)
	if err != nil {
		return err
	}
	leave, err := s.keeper.Followed(r.Context(), printable(r.Header.Get(FromHeader)))
	if err != nil {
		return &busyError{err.Error()}
	}
	defer leave()
	return s.tellEvents(w, r, since, func(ctx context.Context, e crossing.Event) error {
		return s.keeper.Kept(ctx, e.Seq)
	})
}

// sinceOf is after which event the events are asked for.
func sinceOf(r *http.Request) (uint64, error) {
	text := r.URL.Query().Get("since")
	if text == "" {
		return keeper.FromNow, nil
	}
	since, err := strconv.ParseUint(text, 10, 64)
	if err != nil {
		return 0, wrong("since=%q is no sequence number of an event", text)
	}
	return since, nil
}

// tellEvents sends events as they come, each when it may be told.
func (s *Server) tellEvents(w http.ResponseWriter, r *http.Request, since uint64,
	may func(context.Context, crossing.Event) error) error {
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	events, from := s.keeper.EventsFrom(ctx, since)
	w.Header().Set(SeqHeader, strconv.FormatUint(from, 10))
	write, stop, err := s.streaming(w, r)
	if err != nil {
		return err
	}
	defer stop()
	if !write(nil) { // so that the head is sent
		return nil
	}
	beat := time.NewTicker(beatEvery)
	defer beat.Stop()
	for {
		select {
		case e, ok := <-events:
			if !ok || may(ctx, e) != nil || !write(e) {
				return nil
			}
		case <-beat.C:
			if !write(nil) {
				return nil
			}
		case <-ctx.Done():
			return nil
		case <-s.ending.Done():
			return nil
		}
	}
}

// pointsTold is the track.
type pointsTold struct {
	Points []engine.Point `json:"points"` // oldest first
}

func (s *Server) track(w http.ResponseWriter, r *http.Request) error {
	var after time.Time
	if text := r.URL.Query().Get("after"); text != "" {
		var err error
		if after, err = time.Parse(time.RFC3339Nano, text); err != nil {
			return wrong("after=%q is no time such as 2026-11-26T14:02:00Z", text)
		}
	}
	points := s.keeper.Track(after)
	if points == nil {
		points = []engine.Point{}
	}
	answer(w, http.StatusOK, pointsTold{points})
	return nil
}

func (s *Server) versions(w http.ResponseWriter, r *http.Request) error {
	offers, err := s.keeper.Versions(r.Context())
	if err == nil {
		answer(w, http.StatusOK, offers)
	}
	return err
}

func (s *Server) change(w http.ResponseWriter, r *http.Request) error {
	share, err := strconv.Atoi(r.URL.Query().Get("share"))
	if err != nil || !split.Share(share).Valid() {
		return wrong("share=%q is no share on green in basis points, from 0 to %d", r.URL.Query().Get("share"),
			split.Whole)
	}
	c, err := s.keeper.Foresee(r.Context(), split.Share(share))
	if err == nil {
		answer(w, http.StatusOK, c)
	}
	return err
}

// tried is what split keys came to.
type tried struct {
	Report  tryout.Report `json:"report"`
	InForce string        `json:"in_force"` // the plan's key
}

func (s *Server) tryout(w http.ResponseWriter, r *http.Request) error {
	report, inForce, err := s.keeper.Tryout(r.Context())
	if err == nil {
		answer(w, http.StatusOK, tried{report, inForce})
	}
	return err
}

func (s *Server) clients(w http.ResponseWriter, r *http.Request) error {
	of, err := s.keeper.Clients(r.Context())
	if err == nil {
		answer(w, http.StatusOK, of)
	}
	return err
}

// stories is what guards have come to.
type stories struct {
	Guards []guard.Story `json:"guards"`
}

func (s *Server) evidence(w http.ResponseWriter, r *http.Request) error {
	list, err := s.keeper.Evidence(r.Context())
	if err == nil {
		answer(w, http.StatusOK, stories{list})
	}
	return err
}

func (s *Server) metrics(w http.ResponseWriter, r *http.Request) error {
	metrics.Handler(s.keeper.Plan.Service, s.keeper).ServeHTTP(w, r)
	return nil
}

func (s *Server) command(w http.ResponseWriter, r *http.Request) error {
	var c keeper.Command
	if err := read(w, r, &c); err != nil {
		return err
	}
	p := person(r)
	if c.Client, c.From = p.Client, p.From; c.By == "" {
		c.By = p.By
	}
	if c.By = printable(c.By); c.By == "" {
		return wrong("who asks for it is not said: \"by\" in the body, or the header %s", ByHeader)
	}
	c.Peer, c.Groups = s.peerOf(r)
	seq, err := s.keeper.Do(r.Context(), c)
	if err == nil {
		answer(w, http.StatusOK, done{seq})
	}
	return err
}

func (s *Server) rehearse(w http.ResponseWriter, r *http.Request) error {
	found, err := s.keeper.Rehearse(r.Context())
	if err == nil {
		answer(w, http.StatusOK, found)
	}
	return err
}

func (s *Server) handOver(w http.ResponseWriter, r *http.Request) error {
	m, err := s.keeper.HandOver(r.Context())
	if err == nil {
		answer(w, http.StatusOK, m)
	}
	return err
}

func (s *Server) ended(w http.ResponseWriter, _ *http.Request) error {
	answer(w, http.StatusOK, done{})
	s.finish()
	return nil
}
