package tui

import (
	"fmt"
	"slices"

	"charm.land/bubbles/v2/key"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/wayout"
	"vaiven/internal/keeper"
	"vaiven/internal/tui/frame"
)

// keyMap is every key of the screen. Keys that do nothing at the moment are
// disabled, and so are absent from the last line and from the help.
type keyMap struct {
	Start, Next, Approve             key.Binding
	Steer                            key.Binding // stands for the next four in the last line
	Left, Right, FineLeft, FineRight key.Binding
	Forward                          key.Binding // the ghost to the end of the route; Apply is the second key
	Apply, LetGo                     key.Binding
	Freeze, Back, Retire             key.Binding
	PutBack, Foresee                 key.Binding
	Wheel, Rehearse                  key.Binding
	Proof, Differences, Keys         key.Binding
	Leave                            key.Binding // a page, for the crossing
	Again, Whole                     key.Binding
	Around                           key.Binding // the cursor of a page
	Fold, PageUp, PageDown           key.Binding
	Help, Quit                       key.Binding
}

func newKeyMap() keyMap {
	bind := func(help, does string, keys ...string) key.Binding {
		return key.NewBinding(key.WithKeys(keys...), key.WithHelp(help, does))
	}
	return keyMap{
		Start:       bind("s", "start a crossing", "s"),
		Next:        bind("n", "next leg", "n"),
		Approve:     bind("a", "say yes", "a"),
		Steer:       bind("← →", "steer", "left", "right"),
		Left:        bind("←", "steer towards blue", "left"),
		Right:       bind("→", "steer towards green", "right"),
		FineLeft:    bind("shift ←", "steer finely", "shift+left"),
		FineRight:   bind("shift →", "steer finely", "shift+right"),
		Forward:     bind("f", "forward, all of it", "f"),
		Apply:       bind("enter", "apply", "enter"),
		LetGo:       bind("esc", "let go", "esc"),
		Freeze:      bind("space", "freeze", "space"),
		Back:        bind("b b", "roll back", "b", "ctrl+b"),
		PutBack:     bind("o", "put ours back", "o"),
		Foresee:     bind("w", "what it would do", "w"),
		Wheel:       bind("g g", "take the wheel", "g"),
		Rehearse:    bind("h", "rehearse home", "h"),
		Retire:      bind("x", "retire a side", "x"),
		Proof:       bind("p", "proof", "p"),
		Differences: bind("d", "differences", "d"),
		Keys:        bind("t", "try keys", "t"),
		Leave:       bind("esc", "crossing", "esc", "c"),
		Again:       bind("r", "this once more", "r"),
		Whole:       bind("R", "prove it all again", "R", "shift+r"),
		Around:      bind("↑ ↓ ← →", "choose", "up", "down", "left", "right"),
		Fold:        bind("m", "what was meant", "m"),
		PageUp:      bind("pgup", "scroll up", "pgup"),
		PageDown:    bind("pgdown", "scroll", "pgdown"),
		Help:        bind(frame.Help, "keys", frame.Help),
		Quit:        bind("q", "quit", "q", "ctrl+c"),
	}
}

// fit enables the keys that the state has a use for, and names them after what
// they would do.
func (k keyMap) fit(v keeper.Snapshot, steering bool, at page, me string) keyMap {
	s, live := v.Crossing, v.Live
	mine := s.Wheel.Client == me
	under := s.Stage.UnderWay()
	moving := under && !s.GoingBack
	canSteer := moving && (s.Proven || s.Moved) && at == onCrossing
	_, further := s.Next()
	k.Start.SetEnabled(!under)
	k.Approve.SetEnabled(moving && s.Question.ID != 0)
	k.Next.SetEnabled(moving && s.Question.ID == 0 && s.Stage == crossing.Shift && further && !s.Foreign)
	for _, b := range []*key.Binding{&k.Steer, &k.Left, &k.Right, &k.FineLeft, &k.FineRight} {
		b.SetEnabled(canSteer)
	}
	k.Forward.SetEnabled(canSteer && slices.ContainsFunc(v.WaysOut, func(w wayout.Way) bool { return w.Do == wayout.Forward }))
	k.Apply.SetEnabled(steering)
	k.LetGo.SetEnabled(steering)
	k.Freeze.SetEnabled(moving)
	if s.Frozen() {
		k.Freeze.SetHelp("space", "go on")
	}
	k.Wheel.SetEnabled(!mine && !s.Wheel.Vacant())
	k.Rehearse.SetEnabled(at == onCrossing && v.WayBack.State != "")
	k.PutBack.SetEnabled(moving && s.Foreign)
	if s.Foreign {
		k.Freeze.SetHelp("space", "take theirs")
		k.PutBack.SetHelp("o", fmt.Sprintf("put ours back, %v", s.Ours))
	}
	k.Foresee.SetEnabled(at == onCrossing && !v.Front.At.IsZero())
	stands := len(v.Sides[s.Target.Other()].Instances) > 0 // somebody to go back to, also after the end
	k.Back.SetEnabled(under || s.Stage.Over() && stands && (v.Front.Split.Share != s.Home() || v.Front.Error != ""))
	if under && !s.Moved {
		k.Back.SetHelp("b b", "call off")
	}
	k.Retire.SetEnabled(at == onCrossing && !s.Retiring() && (s.Stage == crossing.Keep || s.Stage.Over()))
	spare := live.Other()
	if under {
		spare = s.Target
	}
	toProve := len(v.Sides[spare].Instances) > 0 && !v.Proving
	k.Again.SetEnabled(at != onCrossing && toProve || at == onKeys)
	if at == onKeys {
		k.Keys.SetHelp("t", "back to the crossing")
		k.Again.SetHelp("r", "read it again")
	}
	k.Whole.SetEnabled(at == onProof && toProve)
	k.Around.SetEnabled(at == onProof || at == onDifferences)
	for _, b := range []*key.Binding{&k.Leave, &k.PageUp, &k.PageDown} {
		b.SetEnabled(at != onCrossing)
	}
	k.Fold.SetEnabled(at == onDifferences)
	if at == onProof {
		k.Proof.SetHelp("p", "back to the crossing")
	}
	if at == onDifferences {
		k.Differences.SetHelp("d", "back to the crossing")
		k.Again.SetHelp("r", "compare again")
	}
	side := live.Other()
	if s.Stage == crossing.Keep {
		side = s.Target.Other()
	}
	k.Retire.SetHelp("x", "retire "+side.String())
	return k
}

// ShortHelp is the last line's order: what is most likely wanted first.
func (k keyMap) ShortHelp() []key.Binding {
	return []key.Binding{
		k.Apply, k.LetGo, k.Wheel, k.Forward, k.Approve, k.Start, k.PutBack, k.Back, k.Again, k.Whole, k.Fold, k.Next, k.Freeze, k.Steer, k.Around,
		k.Proof, k.Differences, k.Foresee, k.Keys, k.Rehearse, k.Retire, k.Help, k.Quit,
	}
}

// FullHelp is the help overlay's columns.
func (k keyMap) FullHelp() [][]key.Binding {
	return [][]key.Binding{
		{k.Start, k.Approve, k.Next, k.Freeze, k.PutBack, k.Back, k.Wheel, k.Rehearse, k.Retire},
		{k.Forward, k.Left, k.Right, k.FineLeft, k.FineRight, k.Apply, k.LetGo, k.Foresee},
		{k.Proof, k.Differences, k.Keys, k.Again, k.Whole, k.Fold, k.Around, k.PageDown, k.Leave, k.Help, k.Quit},
	}
}

// hints are the enabled keys for the last line.
func hints(bindings []key.Binding) []frame.Hint {
	var list []frame.Hint
	for _, b := range bindings {
		if b.Enabled() {
			list = append(list, frame.Hint{Key: b.Help().Key, Does: b.Help().Desc})
		}
	}
	return list
}
