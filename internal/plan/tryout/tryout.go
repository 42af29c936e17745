package tryout

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"strings"

	"vaiven/internal/core/forecast"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/core/trial"
	"vaiven/internal/plan/planfile"
	"vaiven/internal/world/accesslog"
)

// Key is what a request is placed by.
type Key struct {
	plan.Key
	Field string // of a JSON log, or the number of a text behind the Combined format
	Clock bool   // the second in which the request was made
}

// Usual are the keys that are tried when none are named.
var Usual = []string{"random", "client", "client /24", "clock"}

// ParseKey reads a key of a plan, "clock" or "field NAME".
func ParseKey(text string) (Key, error) {
	if text == "clock" {
		return Key{Clock: true}, nil
	}
	if name, ok := strings.CutPrefix(text, "field "); ok && name != "" {
		return Key{Field: name}, nil
	}
	k, err := planfile.ParseKey(text)
	if err != nil {
		return Key{}, fmt.Errorf("%w, clock or field NAME", err)
	}
	return Key{Key: k}, nil
}

// String is the key as it is written.
func (k Key) String() string {
	switch {
	case k.Clock:
		return "clock"
	case k.Field != "":
		return "field " + k.Field
	}
	return k.Key.String()
}

// Report is what a log shows of all keys.
type Report struct {
	Log    string      `json:"log"`
	Lines  int64       `json:"lines"`  // that were requests
	Unread int64       `json:"unread"` // that were none
	Keys   []KeyReport `json:"keys"`
}

// KeyReport is what it shows of one.
type KeyReport struct {
	Key string `json:"key"`
	// Missing is how many requests lack it, and were placed by their client.
	Missing int64 `json:"missing,omitempty"`
	trial.Result
}

// ErrNoLog is wrapped when no line of a log is one of an access log.
var ErrNoLog = errors.New("not an access log")

// checkEvery is after how many lines it is looked whether the context has ended.
const checkEvery = 1 << 14

// Read tries keys on all requests of a log. The memory it takes does not grow with the
// log.
func Read(ctx context.Context, name string, log io.Reader, keys []Key, shares []split.Share) (Report, error) {
	tries := make([]*try, len(keys))
	for n, k := range keys {
		tries[n] = newTry(k, shares)
	}
	r, err := read(ctx, name, log, tries)
	if err != nil {
		return r, err
	}
	for _, t := range tries {
		r.Keys = append(r.Keys, KeyReport{Key: t.key.String(), Missing: t.missing, Result: t.trial.Result()})
	}
	return r, nil
}

// read has all requests of a log go through some tries.
func read(ctx context.Context, name string, log io.Reader, tries []*try) (Report, error) {
	r := Report{Log: name}
	var p accesslog.Parser
	var e accesslog.Entry
	err := accesslog.Lines(log, func(line []byte) error {
		if !p.Parse(line, &e) || len(e.Client) == 0 {
			r.Unread++
			return nil
		}
		r.Lines++
		client := uint64(split.PlaceOf(string(e.Client)))
		for _, t := range tries {
			t.add(&e, client)
		}
		if r.Lines%checkEvery == 0 {
			return ctx.Err()
		}
		return nil
	})
	if err != nil {
		return r, fmt.Errorf("read %s: %w", name, err)
	}
	if r.Lines == 0 && r.Unread > 0 {
		return r, fmt.Errorf("%s: %w: none of its %d lines is in the Common or Combined format, or JSON with a time "+
			"and a client", name, ErrNoLog, r.Unread)
	}
	return r, nil
}

// mostNetworks is of how many clients the network is remembered.
const mostNetworks = 1 << 16

// try is one key that is tried.
type try struct {
	key      Key
	trial    *trial.Trial
	chance   *rand.Rand
	names    []string // of the fields that may hold a cookie or header
	missing  int64
	networks map[uint64]split.Place // by client, as far as they are remembered
	second   int64                  // of the clock
	place    split.Place            // of that second
}

func newTry(k Key, shares []split.Share) *try {
	// the same each time it is read
	t := &try{key: k, networks: map[uint64]split.Place{}, trial: trial.New(shares), chance: rand.New(rand.NewPCG(4, 2))}
	low := strings.ToLower(strings.ReplaceAll(k.Name, "-", "_"))
	switch k.From {
	case plan.KeyCookie:
		t.names = []string{"cookie_" + k.Name, k.Name, "cookie." + k.Name}
	case plan.KeyHeader:
		t.names = []string{"http_" + low, k.Name, strings.ToLower(k.Name), low}
	}
	if k.Field != "" {
		t.names = []string{k.Field}
	}
	return t
}

func (t *try) add(e *accesslog.Entry, client uint64) {
	var place split.Place
	switch {
	case t.key.Clock:
		if s := e.Time.Unix(); s != t.second {
			t.second, t.place = s, split.PlaceOf(fmt.Sprint(s))
		}
		place = t.place
	case t.key.From == plan.KeyRandom:
		place = split.Place(t.chance.Uint64())
	case t.key.From == plan.KeyClient && t.key.Prefix > 0:
		var known bool
		if place, known = t.networks[client]; !known {
			place = split.PlaceOf(split.Network(string(e.Client), t.key.Prefix))
			if len(t.networks) == mostNetworks {
				clear(t.networks)
			}
			t.networks[client] = place
		}
	case t.key.From == plan.KeyClient:
		place = split.Place(client)
	default:
		value := t.value(e)
		if len(value) == 0 || string(value) == "-" {
			t.missing++
			place = split.Place(client)
			break
		}
		place = split.PlaceOf(string(value))
		client = uint64(place) // who it is, is what the key says
	}
	t.trial.Add(e.Time, place, client)
}

// value is what a request has for a cookie, a header or a field.
func (t *try) value(e *accesslog.Entry) []byte {
	for _, name := range t.names {
		if v := e.Field(name); v != nil {
			return v
		}
	}
	if t.key.From == plan.KeyHeader {
		switch strings.ToLower(t.key.Name) {
		case "user-agent":
			return e.Agent
		case "referer":
			return e.Referer
		}
	}
	return nil
}

// recent is how many bytes of a log clients are told from: what was asked long ago says little of now.
const recent = 32 << 20

// Clients is how many clients the end of a log tells of, and how much they ask.
func Clients(ctx context.Context, name string) (forecast.Clients, error) {
	log, err := os.Open(name)
	if err != nil {
		return forecast.Clients{}, err
	}
	defer log.Close()
	if info, err := log.Stat(); err == nil && info.Size() > recent {
		if _, err := log.Seek(-recent, io.SeekEnd); err != nil { // into the middle of a line, which is none then
			return forecast.Clients{}, err
		}
	}
	t := newTry(Key{Key: plan.Key{From: plan.KeyClient}}, nil)
	if _, err := read(ctx, name, log, []*try{t}); err != nil {
		return forecast.Clients{}, err
	}
	const most = 400
	of, span, asks := t.trial.Asking(most)
	return forecast.Clients{Of: of, Span: span.Seconds(), Asks: asks}, nil
}
