package dns

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/miekg/dns"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

// note is what stands beside a name: small, as it is a prerequisite of every change.
type note struct {
	stamp string        // another one with every change
	order reading.Order // without its reason: zones are public
	at    time.Time     // when it was written, as the times below by the clock of who wrote it
	eased time.Time     // no copy with a longer TTL than the present one is left
	until time.Time     // no copy of what was before is left
}

// form is the version of how notes are written.
const form = "1"

func (n note) text() string {
	v := url.Values{"vaiven": {form}, "stamp": {n.stamp}, "written": {moment(n.at)}}
	if n.order.Generation > 0 {
		v.Set("home", n.order.Side.String())
		v.Set("generation", strconv.FormatUint(n.order.Generation, 10))
		v.Set("at", moment(n.order.At))
		v.Set("by", clipped(n.order.By))
		if n.order.Closed {
			v.Set("closed", n.order.Side.Other().String())
		}
	}
	if n.order.Term > 0 {
		v.Set("term", strconv.FormatUint(n.order.Term, 10))
	}
	if !n.eased.IsZero() {
		v.Set("eased", moment(n.eased))
	}
	if !n.until.IsZero() {
		v.Set("until", moment(n.until))
	}
	return v.Encode()
}

// clipped is a text as long as a record has room for.
func clipped(text string) string {
	const most = 60
	return strings.ToValidUTF8(text[:min(len(text), most)], "")
}

func moment(t time.Time) string { return strconv.FormatInt(t.UnixMilli(), 10) }

func readNote(text string) (note, error) {
	v, err := url.ParseQuery(text)
	if err == nil && v.Get("vaiven") != form {
		err = fmt.Errorf("it is of another form (%q)", v.Get("vaiven"))
	}
	if err != nil {
		return note{}, err
	}
	var n note
	n.stamp = v.Get("stamp")
	for name, to := range map[string]*time.Time{"at": &n.order.At, "written": &n.at, "eased": &n.eased,
		"until": &n.until} {
		if text := v.Get(name); text != "" {
			ms, err := strconv.ParseInt(text, 10, 64)
			if err != nil {
				return note{}, err
			}
			*to = time.UnixMilli(ms).UTC()
		}
	}
	if text := v.Get("generation"); text != "" {
		if n.order.Generation, err = strconv.ParseUint(text, 10, 64); err != nil {
			return note{}, err
		}
		if n.order.Side, err = split.ParseSide(v.Get("home")); err != nil {
			return note{}, err
		}
		n.order.By, n.order.Closed = v.Get("by"), v.Get("closed") != ""
	}
	if text := v.Get("term"); text != "" {
		if n.order.Term, err = strconv.ParseUint(text, 10, 64); err != nil {
			return note{}, err
		}
	}
	return n, nil
}

// seen is which note was read last, and since when.
type seen struct {
	note
	since time.Time
	fresh bool // the one before it was read as well: it was written just then
}

// next is what is seen when a note is read at a time.
func (s seen) next(n note, now time.Time) seen {
	if s.stamp == n.stamp {
		return s
	}
	return seen{n, now, s.stamp != ""}
}

// lasts is until when something lasts that a note has a time of. The clock of who wrote it may be another one, or may
// have been set: who has seen it come goes by how long it was to last then, and nobody waits for longer than that
// from when it was first seen.
func (s seen) lasts(until time.Time) time.Time {
	left := until.Sub(s.at)
	if until.IsZero() || left <= 0 {
		return time.Time{}
	}
	if end := s.since.Add(left); s.fresh || end.Before(until) {
		return end
	}
	return until
}

// member is an instance of a side as a record has it.
func member(side split.Side, i reading.Server) string {
	v := url.Values{"side": {side.String()}, "name": {clipped(i.Name)}, "address": {i.Address},
		"version": {clipped(i.Version)}}
	if i.Out {
		v.Set("out", "yes")
	}
	return v.Encode()
}

func readMember(text string) (side split.Side, i reading.Server, err error) {
	v, err := url.ParseQuery(text)
	if err == nil {
		side, err = split.ParseSide(v.Get("side"))
	}
	return side, reading.Server{Name: v.Get("name"), Address: v.Get("address"), Version: v.Get("version"),
		Out: v.Get("out") == "yes"}, err
}

// members are both sides' instances in the order of their records.
func members(records []dns.RR) (known front.Known, err error) {
	for _, text := range texts(records) {
		side, i, err := readMember(text)
		if err != nil {
			return known, fmt.Errorf("%q is no instance: %w", text, err)
		}
		known[side] = append(known[side], i)
	}
	for _, side := range split.Sides {
		slices.SortFunc(known[side], func(a, b reading.Server) int {
			return cmp.Or(cmp.Compare(len(a.Name), len(b.Name)), strings.Compare(a.Name, b.Name),
				strings.Compare(a.Address, b.Address))
		})
	}
	return known, nil
}

// texts are those of TXT records, each in one piece.
func texts(records []dns.RR) []string {
	var list []string
	for _, rr := range records {
		if t, ok := rr.(*dns.TXT); ok {
			list = append(list, strings.Join(t.Txt, ""))
		}
	}
	return list
}

// txt is a record with a text of any length: a character string holds 255 bytes.
func txt(name, text string) dns.RR {
	t := &dns.TXT{Hdr: dns.RR_Header{Name: name, Rrtype: dns.TypeTXT, Class: dns.ClassINET}}
	for part := range slices.Chunk([]byte(text), 255) {
		t.Txt = append(t.Txt, string(part))
	}
	return t
}
