package crossing

import (
	"testing"

	"vaiven/internal/core/people"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
)

// Who may do what, and what goes past a question without an answer.
func TestAllowed(t *testing.T) {
	legs := route.Route{{Part: 500}, {Part: 2500, Ask: true}, {Part: 5000}, {Part: split.Whole, Ask: true}}
	p := &plan.Plan{Route: legs, People: people.Rules{FourEyes: true, May: map[people.Right][]string{
		people.Begin: {"deploy", "mate"}, people.Steer: {"deploy", "mate"}, people.Approve: {"deploy", "mate"},
		people.Accept: {"mate"}, people.Retire: {"mate"}}, Asks: map[string][]string{"leg 4": {"ines"}}}}
	on := func(leg int, q QuestionKind) State {
		s := State{Stage: Shifting, Number: 1, Target: split.Green, Route: legs, Leg: leg, Share: legs[leg].Part,
			BegunPeer: Peer{User: 1, Name: "deploy", Host: "quay2"}}
		if q != nil {
			s.Question = Question{ID: 9, Is: q}
		}
		return s
	}
	leg := func(n int) AskLeg { return AskLeg{Step{Leg: n}} }
	without := route.Route{{Part: 500}, {Part: split.Whole}}
	for _, c := range []struct {
		name string
		who  string
		s    State
		act  Act
		want string // the reason's name, "" if they may
	}{
		{"begins", "deploy", State{}, Begin{}, ""},
		{"begins without the right", "ines", State{}, Begin{}, "not allowed"},
		{"begins by the plan's own legs", "deploy", State{}, Begin{Route: legs}, ""},
		{"begins by legs that do not ask", "deploy", State{}, Begin{Route: without}, "four eyes"},
		{"begins by force", "mate", State{}, Begin{SameBuild: true}, "not allowed"},
		{"begins at once", "mate", State{}, Begin{AtOnce: true}, "not allowed"},
		{"approves what they began", "deploy", on(0, leg(1)), Yes{9}, "four eyes"},
		{"approves what another began", "mate", on(0, leg(1)), Yes{9}, ""},
		{"approves what only another may", "mate", on(2, leg(3)), Yes{9}, "not allowed"},
		{"approves what only they may", "ines", on(2, leg(3)), Yes{9}, ""},
		{"declines", "nobody", on(0, leg(1)), No{9}, ""},
		{"tries once more what they began", "deploy", on(0, AskProof{}), Yes{9}, ""},
		{"accepts without the right", "deploy", on(0, AskFindings{Findings: []proof.Finding{{}}}), Yes{9}, "not allowed"},
		{"accepts", "mate", on(0, AskFindings{Findings: []proof.Finding{{}}}), Yes{9}, ""},
		{"raises the same build", "mate", on(0, AskSameBuild{}), Yes{9}, "not allowed"},
		{"goes on to a leg that asks nothing", "deploy", on(1, nil), Next{2}, ""},
		{"goes on past a question of a leg", "deploy", on(0, nil), Next{1}, "four eyes"},
		{"steers up to before a question", "deploy", on(0, nil), Steer{2400}, ""},
		{"steers to where is asked", "deploy", on(0, nil), Steer{2500}, "four eyes"},
		{"steers past two questions", "mate", on(0, nil), Steer{split.Whole}, "not allowed"},
		{"steers back", "deploy", on(2, nil), Steer{0}, ""},
		{"steers past the open question", "deploy", on(0, AskUnsure{}), Steer{600}, "four eyes"},
		{"shifts as it steers", "deploy", on(0, nil), Shift{Share: 2500}, "four eyes"},
		{"shifts past a route", "mate", State{}, Shift{Share: 2500}, "not allowed"},
		{"takes a question out", "deploy", on(0, nil), Reroute{without}, "four eyes"},
		{"takes a question out that is another's", "mate", on(2, nil),
			Reroute{append(legs[:3:3], route.Leg{Part: split.Whole})}, "not allowed"},
		{"leaves what is asked", "deploy", on(0, nil), Reroute{legs}, ""},
		{"asks before it goes further", "deploy", on(0, nil),
			Reroute{route.Route{{Part: 500}, {Part: 3000, Ask: true}, {Part: split.Whole, Ask: true}}}, ""},
		{"freezes", "mate", on(0, nil), Freeze{}, ""},
		{"freezes without the right", "ines", on(0, nil), Freeze{}, "not allowed"},
		{"rolls back", "nobody", on(0, nil), Back{Force: true}, ""},
		{"retires", "mate", on(3, nil), Retire{}, ""},
		{"retires without the right", "deploy", on(3, nil), Retire{}, "not allowed"},
		{"lets go", "nobody", on(0, nil), LeaveWheel{}, ""},
		{"is not known", "", on(0, leg(1)), Yes{9}, "not allowed"},
	} {
		m := Moment{By: "mate"} // what they say
		if c.who != "" {
			m.Peer = Peer{User: len(c.who), Name: c.who, Host: "quay2"}
		}
		if c.who == "deploy" {
			m.Peer.User = 1
		}
		err, got := Allowed(p, c.s, m, c.act), ""
		if r, ok := err.(*Refusal); ok {
			got = r.Because.Name()
		}
		if got != c.want {
			t.Errorf("%s %s: %q, not %q", c.who, c.name, got, c.want)
		}
	}
	for _, act := range Acts { // without rules everybody may
		if err := Allowed(&plan.Plan{Route: legs}, on(0, leg(1)), Moment{}, act); err != nil {
			t.Errorf("%T without rules: %v", act, err)
		}
	}
	apart := &plan.Plan{Route: legs, People: people.Rules{FourEyes: true}} // without any other rule
	m := Moment{Peer: Peer{User: 1, Name: "deploy", Host: "quay2"}}
	if err := Allowed(apart, on(0, leg(1)), m, Yes{9}); err == nil {
		t.Error("four eyes alone are none")
	}
}
