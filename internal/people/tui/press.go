package tui

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/people/tui/change"
	"vaiven/internal/people/tui/chooser"
	"vaiven/internal/people/tui/frame"
	"vaiven/internal/words"
)

// presses are the keys that have to be pressed twice, and when keys came.
type presses struct {
	armed   string    // "b" or "g" that was pressed once, "" for none
	at      time.Time // when
	printed time.Time // when the last key came that writes anything
	others  int       // keys but b that have come since without a gap of a hand: of pasted text there are many
	pending int       // number of the pair that waits for whether more characters come, 0 for none
	pairs   int
}

const (
	pressAgain = 2 * time.Second // between the two presses of a key that asks for two
	// no hand is quicker: what comes within it is pasted, sent by a program, or was held up on its way
	burst = 10 * time.Millisecond
	// other keys in a burst from which on it is pasted text: a hand's last key may be held up with the next
	text = 2
)

// came notes a key that writes something.
func (p presses) came(now time.Time, other bool) presses {
	if now.Sub(p.printed) >= burst {
		p.others = 0
	}
	if p.printed = now; other {
		p.others++
	}
	return p
}

// isText reports whether a key that comes now is one of pasted text.
func (p presses) isText(now time.Time) bool {
	return now.Sub(p.printed) < burst && p.others >= text
}

// pasted is said where b b came together with other characters.
var pasted = frame.Notice{Text: "not rolled back: b came together with other characters, as pasted text does. Press " +
	"b b again", Level: frame.Urgent}

// settled ends the wait for whether a pair of keys, sent quicker than any hand, stands alone.
type settled struct{ pair int }

// pressed handles a key. Rolling back comes first, in every view and mode.
func (r root) pressed(m tea.KeyPressMsg) (root, tea.Cmd) {
	name, upper := stroke(m)
	_, letters := r.mode.(typing)
	_, box := r.mode.(showing)
	_, past := r.mode.(looksBack)
	if name == "ctrl+r" || name == "b" && !letters {
		return r.backPressed(m)
	}
	if r.presses.pending > 0 && printed(m) && r.clock.ours.Sub(r.presses.at) < 2*burst {
		r.presses = presses{printed: r.clock.ours, others: text}
		return r.say(pasted), nil
	}
	if alone := r.clock.ours.Sub(r.presses.printed) >= burst; alone || !printed(m) {
		r.said = said{}
	}
	if printed(m) {
		r.presses = r.presses.came(r.clock.ours, true)
	}
	switch {
	case name == "ctrl+z":
		return r, tea.Suspend
	case name == "ctrl+c", name == "q" && !letters && !box && !past &&
		!m.IsRepeat: // of a box and the past, q closes it
		return r.quitPressed()
	case name == "g" && !letters && !past && r.canTakeWheel():
		return r.wheelPressed(m)
	}
	r.presses.armed = ""
	if upper && name == "k" {
		m = tea.KeyPressMsg(tea.Key{Code: 'K', Text: "K"})
	}
	return r.mode.press(r, m)
}

// again reports whether a key that has to be pressed twice has been, at a moment.
func (p presses) again(key string, now time.Time) bool {
	return p.armed == key && now.Sub(p.at) <= pressAgain
}

// backPressed rolls back at the second press, and says at the first what the second will do. A
// key that is held down is one press, where the terminal tells; what comes in a burst with
// other characters was pasted.
func (r root) backPressed(m tea.KeyPressMsg) (root, tea.Cmd) {
	now := r.clock.ours
	switch {
	case m.IsRepeat:
		return r, nil
	case printed(m) && r.presses.isText(now):
		r.presses = r.presses.came(now, false)
		r.presses.armed = ""
		return r.say(pasted), nil
	case !r.back().Enabled():
		return r.say(nothingToRollBack(r.snapshot)), nil
	case !r.presses.again("b", now):
		r.presses = r.presses.came(now, false)
		r.presses.armed, r.presses.at = "b", now
		return r, nil
	}
	gap := now.Sub(r.presses.at)
	r.presses.armed, r.presses.at = "", now
	if gap < burst && printed(m) { // sent by a program: it stands alone if nothing follows at once
		r.presses.pairs++
		r.presses.pending = r.presses.pairs
		pair := r.presses.pending
		return r, tea.Tick(2*burst, func(time.Time) tea.Msg { return settled{pair} })
	}
	return r.rollBack()
}

// settled rolls back for a pair that stood alone.
func (r root) settled(m settled) (root, tea.Cmd) {
	if m.pair != r.presses.pending {
		return r, nil
	}
	r.presses.pending = 0
	return r.rollBack()
}

func (r root) rollBack() (root, tea.Cmd) {
	r.mode, r.leaving = watching{}, false
	return r.send(keeper.Command{Act: crossing.Back{}})
}

// nothingToRollBack is why b b does nothing.
func nothingToRollBack(s keeper.Snapshot) frame.Notice {
	switch c := s.Crossing; {
	case s.At.IsZero():
		return frame.Notice{Text: "the keeper has said nothing yet, so it is not known what there is to roll back: " +
			"vaiven back PLAN in another terminal rolls back now", Level: frame.Urgent}
	case c.Stage.Over() && len(s.Sides[c.Target.Other()].Instances) == 0:
		return frame.Notice{Text: fmt.Sprintf("there is nothing to roll back to: %v has been retired",
			c.Target.Other())}
	}
	return frame.Notice{Text: "there is nothing to roll back: no crossing is under way"}
}

func (r root) canTakeWheel() bool {
	w := r.snapshot.Crossing.Wheel
	return w.Client != r.Identity && !w.Vacant()
}

// wheelPressed takes the wheel at the second press.
func (r root) wheelPressed(m tea.KeyPressMsg) (root, tea.Cmd) {
	switch {
	case m.IsRepeat:
	case r.presses.again("g", r.clock.ours):
		r.presses.armed = ""
		return r.send(keeper.Command{Act: crossing.TakeWheel{}})
	default:
		r.presses.armed, r.presses.at = "g", r.clock.ours
	}
	return r, nil
}

// quitPressed quits at once, or says what is still asked: a second press leaves it.
func (r root) quitPressed() (root, tea.Cmd) {
	if len(r.unanswered()) == 0 || r.leaving {
		return r, tea.Quit
	}
	r.leaving = true
	return r, nil
}

// forced asks for a second word before all requests go to a side that cannot serve.
func (r root) forced(home crossing.Serving) root {
	side := home.Side.String()
	r = r.say(frame.Notice{Text: "not sent: " + words.Serving(home), Level: frame.Urgent})
	return r.ask(fmt.Sprintf("%s. To send everything to %s all the same, type %s: ", words.Serving(home), side,
		side), func(r root, typed string) (root, tea.Cmd) {
		if typed != side {
			return r, nil
		}
		return r.send(keeper.Command{Act: crossing.Back{Force: true}})
	})
}

// name lets the person name something; Enter does it, if it is still what it was named for.
func (r root) name(i intent) (root, tea.Cmd) {
	i.since = r.clock.ours
	r.mode = i
	return r, nil
}

// act is a key that does something in the present state, on the page that is shown.
func (r root) act(m tea.KeyPressMsg) (root, tea.Cmd) {
	name, _ := stroke(m)
	if m.Code == 'K' {
		name = "K"
	}
	k := r.keys()
	is := func(b key.Binding) bool { return b.Enabled() && slices.Contains(b.Keys(), name) }
	s, c := r.snapshot, r.snapshot.Crossing
	for n, p := range pages {
		if name == p.key && !m.IsRepeat {
			return r.turn(n)
		}
	}
	switch f := r.frame(); {
	case name == "esc" && r.at != 0:
		return r.turn(0)
	case is(k.yes):
		return r.yes()
	case is(k.next):
		leg, _ := c.Next()
		share := c.LegShare(leg)
		return r.name(intent{
			command: keeper.Command{Act: crossing.Next{Leg: leg}},
			says:    func(r root) string { return words.To(share, r.snapshot.View) },
			holds: func(s keeper.Snapshot) bool {
				next, ok := s.Crossing.Next()
				return ok && next == leg && s.Crossing.Question.ID == 0 && !s.Crossing.GoingBack &&
					s.Crossing.Number == c.Number
			},
		})
	case is(k.freeze):
		return r.send(keeper.Command{Act: crossing.Freeze{}})
	case is(k.resume):
		newest := c.Freezes[len(c.Freezes)-1].ID
		return r.name(intent{
			command: keeper.Command{Act: crossing.Resume{}},
			says:    func(r root) string { return words.Resume(r.snapshot.View) },
			holds: func(s keeper.Snapshot) bool {
				f := s.Crossing.Freezes
				return len(f) > 0 && f[len(f)-1].ID == newest
			},
		})
	case is(k.putBack):
		return r.name(intent{
			command: keeper.Command{Act: crossing.PutBack{}},
			says:    func(r root) string { return words.To(r.snapshot.Crossing.Ours, r.snapshot.View) },
			holds:   func(s keeper.Snapshot) bool { return s.Crossing.Foreign && s.Crossing.Ours == c.Ours },
		})
	case is(k.start) && !m.IsRepeat:
		r.mode = choosing{list: chooser.New(r.theme)}
		return r, r.read(func(ctx context.Context, client keeper.Client) any {
			offers, err := client.Versions(ctx)
			return listed{offers, err}
		})
	case is(k.preview) && !m.IsRepeat:
		share := r.wanted()
		return r, r.read(func(ctx context.Context, client keeper.Client) any {
			made, err := client.Foresee(ctx, share)
			return foreseen{share, made, err}
		})
	case is(k.rehearse) && !m.IsRepeat:
		return r.say(frame.Notice{Text: "rehearsing the rollback: nothing is changed"}),
			r.read(func(ctx context.Context, client keeper.Client) any {
				came, err := client.Rehearse(ctx)
				return rehearsed{came, err}
			})
	case is(k.retire):
		ask := fmt.Sprintf("to %s, type the service's name (%s): ", k.retire.Help().Desc, s.Service)
		return r.ask(ask, func(r root, typed string) (root, tea.Cmd) {
			return r.send(keeper.Command{Act: crossing.Retire{Typed: typed}})
		}), nil
	case is(k.reasons):
		r.mode = showing{title: "why it stands still", lines: root.reasons}
	case is(k.help):
		r.mode = showing{title: "what the keys do now, and what the marks mean", lines: root.help}
	default:
		return r.toPage(f, name)
	}
	return r, nil
}

// turn shows another page, or the first one again.
func (r root) turn(to int) (root, tea.Cmd) {
	if to == r.at {
		to = 0
	}
	r.at, r.mode = to, watching{}
	opened, ok := r.pages[to].(frame.Opener)
	if !ok {
		return r, nil
	}
	return r.open(opened)
}

// open opens the page that is looked at.
func (r root) open(p frame.Opener) (root, tea.Cmd) {
	r.openedAt = r.clock.ours
	page, wish := p.Open(r.frame())
	return r.wishes(page, wish)
}

// toPage gives a key to the page, if it has a use for it.
func (r root) toPage(f frame.Frame, name string) (root, tea.Cmd) {
	for _, b := range r.pages[r.at].Keys(f) {
		if b.Enabled() && slices.Contains(b.Keys(), name) {
			page, wish := r.pages[r.at].Press(f, name)
			return r.wishes(page, wish)
		}
	}
	if r.needsWheel(name) {
		refusal := crossing.Refuse(crossing.NotAtWheel{Wheel: r.snapshot.Crossing.Wheel})
		return r.say(frame.Notice{Text: words.Refusal(refusal), Level: frame.Soon}), nil
	}
	return r, nil
}

// owns reports whether the page that is shown has a use for a key.
func (r root) owns(name string) bool {
	return slices.ContainsFunc(r.pages[r.at].Keys(r.frame()),
		func(b key.Binding) bool { return b.Enabled() && slices.Contains(b.Keys(), name) })
}

// needsWheel reports whether a key would do something if nobody else had the wheel.
func (r root) needsWheel(name string) bool {
	if !r.canTakeWheel() {
		return false
	}
	mine := r
	mine.Identity = r.snapshot.Crossing.Wheel.Client
	return slices.ContainsFunc(mine.bindings(),
		func(b key.Binding) bool { return b.Enabled() && slices.Contains(b.Keys(), name) })
}

// wishes keeps a page, and does what it asks for.
func (r root) wishes(page frame.Page, wish frame.Wish) (root, tea.Cmd) {
	r.pages = slices.Clone(r.pages)
	r.pages[r.at] = page
	switch {
	case wish.Do.Act != nil:
		return r.send(wish.Do)
	case wish.Read != nil:
		return r, r.read(wish.Read)
	case wish.Copy != nil:
		return r, r.copied(wish.Copy)
	case wish.Legs != nil:
		r.legs = wish.Legs
		return r.say(frame.Notice{Text: "the next crossing that is started here goes by " + words.Legs(r.legs)}), nil
	case wish.Name != nil:
		return r.name(r.ghost(*wish.Name))
	case wish.Find:
		r.mode = finding{input: frame.Input(r.theme)}
	case len(wish.Past) > 0:
		return r.recall(wish.Past)
	}
	return r, nil
}

// ghost is a share that a person names on the track.
func (r root) ghost(share split.Share) intent {
	number := r.snapshot.Crossing.Number
	return intent{
		command: keeper.Command{Act: crossing.Steer{Share: share}}, ghost: true,
		says: func(r root) string {
			for _, w := range r.snapshot.WaysOut {
				if w.Share == share {
					return words.WayOut(w, r.snapshot.Crossing.Target)
				}
			}
			text := words.To(share, r.snapshot.View)
			if outlook := words.Outlook(share, r.snapshot.View); outlook != "" {
				text += ". " + strings.ToUpper(outlook[:1]) + outlook[1:]
			}
			return text
		},
		holds: func(s keeper.Snapshot) bool {
			return s.Crossing.Number == number && s.Crossing.Stage.UnderWay() && !s.Crossing.GoingBack
		},
	}
}

// yes names what a yes to the open question does, and shows all that is accepted by it.
func (r root) yes() (root, tea.Cmd) {
	q := r.snapshot.Crossing.Question
	i := intent{
		command: keeper.Command{Act: crossing.Yes{Question: q.ID}}, level: frame.Soon,
		says:  func(r root) string { return words.Yes(r.snapshot.View) },
		holds: func(s keeper.Snapshot) bool { return s.Crossing.Question.ID == q.ID },
	}
	if len(q.Findings()) > 0 {
		i.title, i.lines = "a yes accepts all of this", root.accepted
	}
	return r.name(i)
}

// keys are the keys of all pages, as the state has a use for them.
type keys struct {
	start, next, yes, freeze, resume, putBack, preview, rehearse, retire, reasons, help key.Binding
}

func (r root) keys() keys {
	s, c := r.snapshot, r.snapshot.Crossing
	under := c.Stage.UnderWay()
	moving := under && !c.GoingBack
	leg, further := c.Next()
	bind := func(on bool, name, does string, keys ...string) key.Binding {
		b := frame.Bind(name, does, keys...)
		b.SetEnabled(on)
		return b
	}
	heldUp := slices.ContainsFunc(c.Freezes, func(f crossing.Freezing) bool {
		return !crossing.OfPerson(f.Cause)
	})
	k := keys{
		start: bind(!under, "s", "start a crossing", "s"),
		yes:   bind(moving && c.Question.ID != 0, "a", words.YesKey(c), "a"),
		next: bind(moving && c.Question.ID == 0 && c.Stage == crossing.Shifting && further && !c.Foreign &&
			!heldUp && s.Front.Error == "" && s.Front.Fresh(r.frame().Now), "n", "now", "n"),
		freeze:   bind(moving && !c.Frozen(), "space", "freeze", "space"),
		resume:   bind(moving && c.Frozen(), "space", "resume", "space"),
		putBack:  bind(moving && c.Foreign, "o", fmt.Sprintf("put back %v", c.Ours.Of(c.Target)), "o"),
		preview:  bind(!s.Front.At.IsZero() && !r.owns("w"), "w", "preview the change", "w"),
		rehearse: bind(s.WayBack.State != "" && !r.owns("h"), "h", "rehearse rollback", "h"),
		reasons:  bind(len(words.Reasons(s.View, s.At)) > 1 && !r.owns("i"), "i", "all reasons", "i"),
		help:     bind(true, frame.Help, "keys", frame.Help),
	}
	if further && len(c.Route) > 0 {
		k.next.SetHelp("n", c.Route[leg].Part.String()+" now")
	}
	if c.Foreign {
		k.resume.SetHelp("space", fmt.Sprintf("accept %v", c.Part()))
	}
	side := s.Live.Other()
	if c.Stage == crossing.Keeping {
		side = c.Target.Other()
	}
	stands := len(s.Sides[side].Instances) > 0
	if r.canTakeWheel() {
		for _, b := range []*key.Binding{&k.start, &k.yes, &k.next, &k.freeze, &k.resume, &k.putBack} {
			b.SetEnabled(false)
		}
		stands = false
	}
	k.retire = bind(!c.Retiring() && stands && (c.Stage == crossing.Keeping || c.Stage.Over()), "x",
		"retire "+side.String(), "x")
	return k
}

// back is the key that rolls back.
func (r root) back() key.Binding {
	s, c := r.snapshot, r.snapshot.Crossing
	stands := len(s.Sides[c.Target.Other()].Instances) > 0 // somebody to go back to, also after the end
	b := frame.Bind("b b", "roll back", "b", "ctrl+r")
	if c.Stage.UnderWay() && !c.Moved {
		b.SetHelp("b b", "call off")
	}
	b.SetEnabled(c.Stage.UnderWay() ||
		c.Stage.Over() && stands && (s.Front.Split.Share != c.Home() || s.Front.Error != ""))
	return b
}

// foreseen is what the front would do for a share.
type foreseen struct {
	share split.Share
	made  change.Change
	err   error
}

func (f foreseen) show(r root) root {
	if f.err != nil {
		return r.say(frame.Notice{Text: fmt.Sprintf("preview of %v on green: %v", f.share, f.err), Level: frame.Soon})
	}
	if _, idle := r.mode.(watching); idle {
		r.mode = showing{title: change.Title(f.made),
			lines: func(r root) []frame.Line { return change.Lines(r.theme, f.made, r.w-8) }}
	}
	return r
}
