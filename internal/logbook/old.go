package logbook

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"sort"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/plan"
)

// The first logbooks kept what was asked for and reported, each with the effects that
// came of it; what happened had to be deduced. translate says it, event by event.

// oldEvent is one of theirs, with the fields of every kind.
type oldEvent struct {
	At    time.Time `json:"at"`
	By    string    `json:"by"`
	Event string    `json:"event"`

	Service     string         `json:"service"`
	Number      int            `json:"number"`
	Target      split.Side     `json:"target"`
	Version     string         `json:"version"`
	Build       string         `json:"build"`
	LiveVersion string         `json:"live_version"`
	LiveBuild   string         `json:"live_build"`
	Route       route.Route    `json:"route"`
	Keep        time.Duration  `json:"keep"`
	Then        plan.Then      `json:"then"`
	Hold        bool           `json:"hold"`
	Nobody      bool           `json:"nobody"`
	Built       time.Time      `json:"built"`
	Others      []raise.Choice `json:"others"`

	Share     split.Share              `json:"share"`
	Why       string                   `json:"why"`
	Instances []string                 `json:"instances"`
	Times     map[string]time.Duration `json:"times"`
	Pass      bool                     `json:"pass"`
	Proof     proof.Proof              `json:"proof"`
	Revision  uint64                   `json:"revision"`
	Took      time.Duration            `json:"took"`
	Did       []string                 `json:"did"`
	Side      split.Side               `json:"side"`
	Guard     string                   `json:"guard"`
	Action    plan.Action              `json:"action"`
	Found     string                   `json:"found"`
}

// oldEffect is what an event led to.
type oldEffect struct {
	Do    string      `json:"do"`
	Side  split.Side  `json:"side"`
	Share split.Share `json:"share"`
	Home  bool        `json:"home"`
}

// translation is a logbook on its way from the old form to the new one.
type translation struct {
	state  crossing.State
	events []crossing.Event
	at     time.Time
	by     string
	number int // of the crossing
}

func (t *translation) then(f crossing.Fact) {
	e := crossing.Event{Seq: t.state.Seq + 1, Crossing: t.number, At: t.at, By: t.by, What: f}
	t.events = append(t.events, e)
	t.state = crossing.Apply(t.state, e)
}

// translate replaces the tables of the second version by those of the third.
func translate(tx *sql.Tx) error {
	crossings, err := oldCrossings(tx)
	if err != nil {
		return err
	}
	acts, err := oldActs(tx)
	if err != nil {
		return err
	}
	_, err = tx.Exec(`DROP TABLE events; DROP TABLE acts; DELETE FROM crossings;
	CREATE TABLE events (
		seq      INTEGER PRIMARY KEY,
		crossing INTEGER NOT NULL, -- 0: outside of one
		at       TEXT NOT NULL,
		event    TEXT NOT NULL CHECK (json_valid(event))
	) STRICT;
	CREATE INDEX events_of ON events (crossing, seq);
	CREATE TABLE tried ( -- whether the book can be written
		one INTEGER PRIMARY KEY CHECK (one = 1),
		at  TEXT NOT NULL
	) STRICT;`)
	if err != nil {
		return err
	}
	t := &translation{}
	for _, c := range crossings {
		for len(acts) > 0 && len(c) > 0 && acts[0].At.Before(c[0].event.At) {
			acts = t.act(tx, acts)
		}
		t.events = nil
		for _, e := range c {
			t.at, t.by, t.number = e.event.At, e.event.By, e.number
			t.add(e.event, e.effects)
		}
		if len(t.events) == 0 {
			continue
		}
		if err := insert(tx, t.state, t.events); err != nil {
			return err
		}
	}
	for len(acts) > 0 {
		acts = t.act(tx, acts)
	}
	return nil
}

// act keeps an act, and returns the others.
func (t *translation) act(tx *sql.Tx, acts []crossing.Event) []crossing.Event {
	t.at, t.by, t.number, t.events = acts[0].At, acts[0].By, 0, nil
	t.then(acts[0].What)
	_ = insert(tx, crossing.State{}, t.events) // into a table that was just made
	return acts[1:]
}

// oldEntry is a line of the old table.
type oldEntry struct {
	number  int
	event   oldEvent
	effects []oldEffect
}

func oldCrossings(tx *sql.Tx) (list [][]oldEntry, err error) {
	rows, err := tx.Query(`SELECT crossing, event, effects FROM events ORDER BY crossing, seq`)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		var e oldEntry
		var event, effects []byte
		if err := rows.Scan(&e.number, &event, &effects); err != nil {
			return nil, err
		}
		if err := errors.Join(json.Unmarshal(event, &e.event), json.Unmarshal(effects, &e.effects)); err != nil {
			return nil, fmt.Errorf("crossing %d: %w", e.number, err)
		}
		if n := len(list); n > 0 && list[n-1][0].number == e.number {
			list[n-1] = append(list[n-1], e)
		} else {
			list = append(list, []oldEntry{e})
		}
	}
	return list, rows.Err()
}

func oldActs(tx *sql.Tx) (list []crossing.Event, err error) {
	rows, err := tx.Query(`SELECT at, "by", what, did, coalesce(ended, ''), outcome, failed FROM acts ORDER BY number`)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		var e crossing.Event
		var a crossing.Acted
		var at, ended string
		var did []byte
		if err := rows.Scan(&at, &e.By, &a.What, &did, &ended, &a.Outcome, &a.Failed); err != nil {
			return nil, err
		}
		var errAt, errEnded error
		e.At, errAt = time.Parse(time.RFC3339Nano, at)
		if ended != "" {
			a.Ended, errEnded = time.Parse(time.RFC3339Nano, ended)
		}
		if err := errors.Join(errAt, errEnded, json.Unmarshal(did, &a.Did)); err != nil {
			return nil, err
		}
		e.What = a
		list = append(list, e)
	}
	sort.SliceStable(list, func(i, j int) bool { return list[i].At.Before(list[j].At) })
	return list, rows.Err()
}

// add says what happened by an event and its effects.
func (t *translation) add(e oldEvent, effects []oldEffect) {
	s := &t.state
	home := split.Toward(s.Target, 0)
	goesHome := len(effects) > 0 && effects[0].Home
	switch e.Event {
	case "begun":
		t.begun(e)
		if len(effects) == 0 {
			t.ask(crossing.Question{Kind: crossing.AskSameBuild, Version: e.Version, Build: e.Build})
		}
	case "next asked", "go on asked", "steer asked", "put back asked", "accept asked":
		t.said(e)
	case "freeze asked":
		t.then(crossing.Frozen{Cause: crossing.Cause{Kind: crossing.ByHand}})
	case "prove asked":
	case "back asked":
		cause := crossing.Cause{Kind: crossing.ByHand, Why: e.Why}
		if goesHome {
			t.then(crossing.WentBack{Cause: cause})
		} else {
			t.then(crossing.Ended{Stage: crossing.CalledOff, Cause: cause})
		}
	case "retire asked":
		if s.Stage == crossing.Keep {
			t.then(crossing.Ended{Stage: crossing.Settled})
		}
	case "tick":
		t.ticked(effects)
	case "tripped":
		cause := crossing.Cause{Kind: crossing.ByGuard, Why: e.Guard + ": " + e.Why, Alarm: crossing.Alarm{Guard: e.Guard, Then: e.Action}}
		if e.Action == plan.RollBack {
			t.then(crossing.WentBack{Cause: cause})
		} else {
			t.then(crossing.Frozen{Cause: cause})
		}
	case "raised":
		t.then(crossing.Raised{Task: s.Task.ID, Instances: e.Instances, Times: e.Times})
	case "raise failed":
		trouble := crossing.Trouble{Kind: crossing.TroubleRaise, Said: e.Why}
		t.then(crossing.NotDone{Task: s.Task.ID, Trouble: trouble})
		t.failed(crossing.AskRaise, trouble)
	case "proved":
		t.proved(e, len(effects) > 0 && effects[0].Do == "apply")
	case "applied":
		if s.GoingBack && e.Share == home {
			t.then(crossing.AtHome{Task: s.Task.ID, Share: e.Share, Revision: e.Revision, Took: e.Took, Did: e.Did})
			t.then(crossing.Ended{Stage: crossing.RolledBack, Cause: s.Why})
			return
		}
		t.then(crossing.InForce{Task: s.Task.ID, Nearest: e.Share, Share: e.Share, Revision: e.Revision, Took: e.Took, Did: e.Did})
	case "apply failed":
		trouble := crossing.Trouble{Kind: crossing.TroubleFront, Said: e.Why}
		t.then(crossing.NotDone{Task: s.Task.ID, Trouble: trouble})
		if !s.GoingBack {
			t.then(crossing.Frozen{Cause: crossing.Cause{Kind: crossing.ByFront, Trouble: trouble}})
		}
	case "retired":
		t.then(crossing.Retired{Task: s.Task.ID, Side: e.Side})
	case "retire failed":
		t.then(crossing.NotDone{Task: s.Task.ID, Trouble: crossing.Trouble{Kind: crossing.TroubleRetire, Said: e.Why}})
	case "changed":
		t.changed(e, home)
	case "resumed":
		t.resumed(e, home)
	default:
		t.then(crossing.Unknown{Name: e.Event})
	}
	for _, f := range effects {
		t.ordered(f)
	}
}

func (t *translation) begun(e oldEvent) {
	b := crossing.Begun{
		Service: e.Service, Number: e.Number, Target: e.Target, LiveVersion: e.LiveVersion, Route: e.Route, Keep: e.Keep, Then: e.Then, Hold: e.Hold,
		Share:   e.Share,
		Choices: append([]raise.Choice{{Part: "web", Version: e.Version, Build: e.Build, LiveBuild: e.LiveBuild, Built: e.Built}}, e.Others...),
	}
	if e.Nobody && len(b.Route) > 0 {
		b.Route, b.Keep = b.Route[len(b.Route)-1:], 0
	}
	t.then(b)
}

func (t *translation) ask(q crossing.Question) {
	q.Side = t.state.Target
	t.then(crossing.Asked{Question: q})
}

// said takes in a word that answered a question or ended a freeze.
func (t *translation) said(e oldEvent) {
	if q := t.state.Question; q.ID != 0 && (e.Event == "next asked" || e.Event == "accept asked") {
		t.then(crossing.Answered{Question: q})
		if q.Kind == crossing.AskFindings {
			t.then(crossing.Accepted{Findings: q.Findings})
		}
	}
	var ids []uint64
	for _, f := range t.state.Freezes {
		ids = append(ids, f.ID)
	}
	if len(ids) > 0 {
		t.then(crossing.WentOn{Freezes: ids})
	}
	if t.state.Foreign {
		t.then(crossing.TookTheirs{})
	}
	switch {
	case e.Event == "steer asked" && e.Share != t.state.Full():
		t.then(crossing.Frozen{Cause: crossing.Cause{Kind: crossing.Steered}})
	case e.Event == "accept asked" && t.state.Stage == crossing.Prove && t.state.Hold,
		e.Event == "go on asked" && t.state.Stage == crossing.Prove && t.state.Hold && t.state.Proven:
		t.ask(crossing.Question{Kind: crossing.AskStart})
	case e.Event == "next asked" && t.state.Stage == crossing.Keep:
		t.then(crossing.Ended{Stage: crossing.Settled})
	}
}

// ticked says what came of a leg or a keep that was over.
func (t *translation) ticked(effects []oldEffect) {
	switch {
	case t.state.Stage == crossing.Keep && (len(effects) > 0 || t.state.Then == plan.ThenLeave):
		t.then(crossing.Ended{Stage: crossing.Settled})
	case t.state.Stage == crossing.Keep:
		t.ask(crossing.Question{Kind: crossing.AskRetire})
	case t.state.Stage == crossing.Shift && len(effects) == 0:
		if n, ok := t.state.Next(); ok {
			t.ask(crossing.Question{Kind: crossing.AskLeg, Leg: n, Part: t.state.Route[n].Part})
		}
	}
}

func (t *translation) failed(again crossing.QuestionKind, trouble crossing.Trouble) {
	if t.state.Hold {
		t.ask(crossing.Question{Kind: again, Trouble: trouble})
		return
	}
	t.then(crossing.Ended{Stage: crossing.CalledOff, Cause: crossing.Cause{Kind: crossing.Failed, Trouble: trouble}})
}

func (t *translation) proved(e oldEvent, moves bool) {
	t.then(crossing.Proved{Task: t.state.Task.ID, Proof: e.Proof, Pass: e.Pass})
	first := t.state.Stage == crossing.Prove
	switch {
	case t.state.Proven && first && !moves && !t.state.Frozen():
		t.ask(crossing.Question{Kind: crossing.AskStart})
	case t.state.Proven:
	default:
		var found []proof.Finding
		asks := true
		for _, r := range e.Proof.Open(t.state.Accepted) {
			found, asks = append(found, r.Finding()), asks && r.Ask
		}
		switch {
		case asks && len(found) > 0:
			if !first {
				t.then(crossing.Frozen{Cause: crossing.Cause{Kind: crossing.ByProof, Findings: found}})
			}
			t.ask(crossing.Question{Kind: crossing.AskFindings, Findings: found})
			return
		}
		trouble := crossing.Trouble{Kind: crossing.TroubleProof}
		if r, ok := e.Proof.Failed(); ok {
			trouble.First = r.Finding()
		}
		if !first {
			t.then(crossing.Frozen{Cause: crossing.Cause{Kind: crossing.ByProof, Trouble: trouble}})
			return
		}
		t.failed(crossing.AskProof, trouble)
	}
}

func (t *translation) changed(e oldEvent, home split.Share) {
	s := &t.state
	from := s.Share
	switch {
	case s.Stage.Over() || s.GoingBack:
		t.then(crossing.Changed{From: from, Share: e.Share})
	case e.Share == home && s.Moved:
		t.then(crossing.Changed{From: from, Share: e.Share})
		t.then(crossing.Ended{Stage: crossing.RolledBack, Cause: crossing.Cause{Kind: crossing.FoundHome}})
	default:
		t.then(crossing.Changed{From: from, Share: e.Share, Foreign: true})
		t.then(crossing.Frozen{Cause: crossing.Cause{Kind: crossing.Foreign, From: from, To: e.Share}})
	}
}

func (t *translation) resumed(e oldEvent, home split.Share) {
	s := &t.state
	noted, moved := s.Share, s.Moved
	t.then(crossing.TakenUp{Found: crossing.Found{Share: e.Share, Noted: noted, Known: true}})
	switch {
	case s.Stage.Over():
	case s.GoingBack && s.Share == home:
		t.then(crossing.Ended{Stage: crossing.RolledBack, Cause: s.Why})
	case s.GoingBack:
	case moved && s.Share == home && noted != home:
		t.then(crossing.Ended{Stage: crossing.RolledBack, Cause: crossing.Cause{Kind: crossing.FoundHome}})
	default:
		t.then(crossing.Frozen{Cause: crossing.Cause{Kind: crossing.FoundAgain, Why: e.Found}})
	}
}

// ordered says what an effect asks for.
func (t *translation) ordered(f oldEffect) {
	s := &t.state
	task := crossing.Task{Side: f.Side}
	switch f.Do {
	case "raise":
		task.Do, task.Choices = crossing.StandUp, s.Choices
	case "prove":
		task.Do = crossing.Check
	case "retire":
		task.Do = crossing.Retire
	case "apply":
		if f.Home {
			task.Do, task.Side = crossing.GoHome, s.Target.Other()
			break
		}
		task.Do, task.Side, task.Share, task.Leg = crossing.Move, 0, f.Share, -1
		for n, l := range s.Route {
			if split.Toward(s.Target, l.Part) == f.Share {
				task.Leg = n
			}
		}
	}
	t.then(crossing.Ordered{Task: task})
}
