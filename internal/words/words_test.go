package words

import (
	"slices"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
)

var state = crossing.State{Target: split.Green, Stage: crossing.Shifting, Share: 2500}

// says holds sentences to what they should be.
func says(t *testing.T, pairs map[string]string) {
	t.Helper()
	for want, got := range pairs {
		if got != want {
			t.Errorf("it says %q, not %q", got, want)
		}
	}
}

var (
	region = proof.Finding{Check: "differences", Instance: "green", Want: "none", Got: "1: environment REGION"}
	stuck  = raise.Stuck{Name: "green-2", Health: reading.Answering, Said: "status 503",
		Output: "waiting for the timetable"}
	order = reading.Order{Generation: 3, Side: split.Blue, By: "ada", Why: "the pier is closed"}
)

// Whether it is all right with several services is the first that is said of them.
func TestFleet(t *testing.T) {
	for want, c := range map[string]struct {
		all          int
		wrong, waits []string
	}{
		"6 services: all right":                              {6, nil, nil},
		"1 service: fares: it waits":                         {1, nil, []string{"fares"}},
		"6 services: fares: it waits; 5 all right":           {6, []string{"fares"}, nil},
		"6 services: a and b wait for a person; 4 all right": {6, nil, []string{"a", "b"}},
		"6 services: something is wrong with a, b and 2 more; c waits for a person; 1 all right": {6,
			[]string{"a", "b", "x", "y"}, []string{"c"}},
	} {
		if _, got := Fleet(c.all, c.wrong, c.waits, "it waits (for you)"); got != want {
			t.Errorf("it says %q, and not %q", got, want)
		}
	}
}

func TestWhoItWas(t *testing.T) {
	e := crossing.Event{By: "marit", Peer: crossing.Peer{User: 1004, Name: "deploy", Host: "quay2"},
		Said: "it looks wrong", What: crossing.Recovers{}}
	for want, by := range map[string]string{
		"the sides that get requests serve again, by uid 1004 (deploy) on quay2 (it looks wrong)": "marit",
		"the sides that get requests serve again (it looks wrong)":                                "deploy",
	} {
		e.By = by
		if got := Event(e, crossing.State{}); got != want {
			t.Errorf("by %s: %q, want %q", by, got, want)
		}
	}
}

func TestQuestions(t *testing.T) {
	says(t, map[string]string{
		"4.2.1 has the same build as blue now (7c1e): nothing has changed. Raise it all the same?": Question(
			crossing.Question{Side: split.Green, Is: crossing.AskSameBuild{Version: "4.2.1", Build: "7c1e"}}, state),
		"the proof failed. Try again? proof: " +
			Finding(region): Whole(crossing.Question{Is: crossing.AskProof{
			Trouble: crossing.Went(crossing.TroubleProof{First: region})}}, state),
		"accept these 2 findings and go on? " + Finding(region) +
			" (and 1 more)": Whole(crossing.Question{Is: crossing.AskFindings{Findings: []proof.Finding{region,
			region}}}, state),
		"green is proven. Start to shift?": Whole(crossing.Question{Side: split.Green,
			Is: crossing.AskStart{}}, state),
		"go on to 50 % on green?": Whole(crossing.Question{Side: split.Green,
			Is: crossing.AskLeg{Step: crossing.Step{Part: 5000}}}, state),
		"blue was kept for its time. Retire it?": Whole(crossing.Question{Side: split.Green,
			Is: crossing.AskRetire{}}, state),
		"the raise failed. Try again? raise: no room":                Whole(crossing.Question{Is: crossing.AskRaise{Trouble: crossing.Went(crossing.TroubleRaise{Said: "no room"})}}, state),
		"differences on green: want none, got 1: environment REGION": Finding(region),
	})
}

func TestCauses(t *testing.T) {
	alarm := crossing.Alarm{Guard: "failing", Watch: plan.Failing, Level: 0.2, Baseline: 0.001, Sure: 0.9999}
	nobody := crossing.Serving{Known: true, Side: split.Blue, Instances: 3, Other: 2}
	says(t, map[string]string{
		"":                              Cause(crossing.Cause{}, state),
		"by hand":                       Cause(crossing.Because(crossing.ByHand{}), state),
		"it looks wrong":                Cause(crossing.Because(crossing.ByHand{Why: "it looks wrong"}), state),
		"the share was changed by hand": Cause(crossing.Because(crossing.Steered{}), state),
		"failing: 20 % against 0.1 %, worse, 99.99 % certain":                                        Cause(crossing.Because(crossing.ByGuard{Alarm: alarm}), state),
		"ada sent all traffic back to blue: the pier is closed":                                      Cause(crossing.Because(crossing.ByOrder{Order: order}), state),
		"somebody changed the front from 25 % on green to 40 % on green":                             Cause(crossing.Because(crossing.Foreign{From: 2500, To: 4000}), state),
		"the front did not take the new share: no answer":                                            Cause(crossing.Because(crossing.ByFront{Trouble: crossing.Went(crossing.TroubleFront{Said: "no answer"})}), state),
		"not rolled back: none of the 3 instances of blue is healthy, and 2 of green are":            Cause(crossing.Because(crossing.NobodyHome{Home: nobody}), state),
		"no: go on to 50 % on green?":                                                                Cause(crossing.Because(crossing.Declined{Question: crossing.Question{Side: split.Green, Is: crossing.AskLeg{Step: crossing.Step{Part: 5000}}}}), state),
		"nothing more goes to green: none of the 2 instances of green is healthy, and 3 of blue are": Cause(crossing.Because(crossing.NobodyLeft{Target: crossing.Serving{Known: true, Side: split.Green, Instances: 2, Other: 3}}), state),
		"somebody sent all traffic back at the front":                                                Cause(crossing.Because(crossing.FoundHome{}), state),
		"the proof found: " + Finding(region):                                                        Cause(crossing.Because(crossing.ByProof{Findings: []proof.Finding{region}}), state),
		"raise: not healthy within 20s: green-2 is up, not healthy (status 503), last output: \"waiting " +
			"for the timetable\"": Cause(crossing.Because(crossing.NotRaised{Trouble: crossing.Went(crossing.TroubleRaise{Limit: 20 * time.Second, Raise: raise.Verdict{Stuck: []raise.Stuck{stuck}}})}), state),
		"Vaiven was restarted: the front has 30 % on green, the logbook says 25 % on green, green runs 1 of 2": Cause(crossing.Because(crossing.FoundAgain{Found: crossing.Found{Share: 3000, Noted: 2500, Running: [2]int{0, 1}, Wanted: [2]int{0, 2}}}), state),
	})
	frozen := state
	frozen.Freezes = []crossing.Freezing{{ID: 1, Cause: crossing.Because(crossing.Steered{})},
		{ID: 2, Cause: crossing.Because(crossing.ByHand{})}}
	says(t, map[string]string{"2 reasons, the last: by hand": Frozen(frozen),
		"shift, 25 % on green, frozen: 2 reasons, the last: by hand": State(frozen), "nothing begun": State(crossing.State{})})
}

// Every kind of refusal, trouble, question, cause and event has a sentence of its own.
func TestNothingIsLeftWithoutWords(t *testing.T) {
	own := func(kind, text string) {
		if len(text) < 10 || strings.Contains(text, "%!") || text == kind || strings.Contains(text, "newer Vaiven") {
			t.Errorf("%s is said as %q", kind, text)
		}
	}
	for _, because := range crossing.Reasons.Zeroes() {
		own(because.Name(), Refusal(crossing.Refuse(because)))
	}
	for _, kind := range crossing.Troubles.Zeroes() {
		own(crossing.Troubles.Name(kind), Trouble(crossing.Went(kind)))
	}
	for _, kind := range crossing.Questions.Zeroes() {
		own(crossing.Questions.Name(kind), Question(crossing.Question{ID: 7, Is: kind}, state))
	}
	for _, kind := range crossing.Causes.Zeroes() {
		own(crossing.Causes.Name(kind), "because: "+Cause(crossing.Because(kind), state))
	}
	for _, kind := range crossing.Lacks.Zeroes() {
		own(crossing.Lacks.Name(kind), Lacks([]crossing.Lack{crossing.Lacking(kind)}, time.Time{}))
	}
	for _, kind := range wayback.Conditions.Zeroes() {
		name, text := Condition(wayback.Condition{Is: kind}, time.Time{})
		own(wayback.Conditions.Name(kind), name+": "+text)
	}
	facts := []crossing.Fact{
		crossing.Begun{Choices: []raise.Choice{{Version: "4.3.0"}}},
		crossing.Asked{Question: crossing.Question{Is: crossing.AskStart{}}},
		crossing.Answered{Question: crossing.Question{Is: crossing.AskStart{}}},
		crossing.Ordered{Task: crossing.Task{Do: crossing.TaskMove, Share: 500}},
		crossing.Raised{Instances: []string{"green-1"}}, crossing.Proved{},
		crossing.Accepted{Findings: []proof.Finding{region}},
		crossing.TookEffect{Share: 500}, crossing.Failed{Trouble: crossing.Went(crossing.TroubleFront{})},
		crossing.Frozen{Cause: crossing.Because(crossing.ByHand{})},
		crossing.Rerouted{Route: route.Route{{Part: 500, Dwell: time.Minute}, {Part: split.Whole}}},
		crossing.Resumed{Overruled: []crossing.Overruling{{Guard: "failing"}}}, crossing.Changed{From: 500},
		crossing.RollsBack{Cause: crossing.Because(crossing.ByHand{})}, crossing.SentBack{Order: order},
		crossing.Returned{}, crossing.Ended{Stage: crossing.Settled}, crossing.Stopping{Cut: 3}, crossing.Retired{},
		crossing.TakenUp{}, crossing.TookWheel{Wheel: crossing.Wheel{Client: "1", By: "marit"}},
		crossing.LeftWheel{Wheel: crossing.Wheel{Client: "1", By: "marit"}},
		crossing.Unknown{Newer: oneof.Newer{Called: "flown", Data: `{}`}},
		crossing.Noted{}, crossing.AcceptedTheirs{}, crossing.Ailed{Cause: crossing.Because(crossing.ByHand{})},
		crossing.Recovers{}, crossing.NotReturned{}, crossing.Restarted{Instance: "green-1"},
		crossing.Hooked{Moment: plan.WhenSettled}, crossing.BegunAnew{Aside: "log.db.1", Wrong: "malformed"},
		crossing.TermBegins{}, crossing.TermBegan{Number: 5}, crossing.Followed{From: "pier-2"}, crossing.TakenOver{},
		crossing.VersionArrived{Version: "4.4.0"}, crossing.Dropped{Version: "4.3.0", For: "4.4.0"},
		crossing.Built{Version: "4.4.0", Output: "builds/4.4.0.log"},
		crossing.WayBackIs{}, crossing.NoticesBegin{}, crossing.RetireDue{}, crossing.Expires{What: "the door's certificate"},
		crossing.NoticeSent{Letter: crossing.Letter{To: "marit@linea-vessa.example"}}, crossing.NoticeFailed{Failed: "550"},
		crossing.Compared{Baselines: []crossing.Baseline{{Guard: "failing"}}},
	}
	for _, of := range crossing.Facts.Zeroes() {
		if !slices.ContainsFunc(facts, func(f crossing.Fact) bool { return f.Kind() == of.Kind() }) {
			t.Errorf("%T is not looked at", of)
		}
	}
	for _, f := range facts {
		if text := Event(crossing.Event{What: f}, state); text == "" || strings.Contains(text, "%!") {
			t.Errorf("%T is told as %q", f, text)
		}
	}
	for _, do := range []crossing.TaskKind{crossing.TaskRaise, crossing.TaskProve, crossing.TaskMove, crossing.TaskHome,
		crossing.TaskRetire} {
		task := crossing.Task{ID: 1, Do: do, Side: split.Green, Choices: []raise.Choice{{Version: "4.3.0"}}}
		if Task(task) == "" || Task(task) == Task(crossing.Task{}) || ordered(task, state) == string(do) {
			t.Errorf("%s is %q, ordered as %q", do, Task(task), ordered(task, state))
		}
	}
}

func TestWhatIsWatched(t *testing.T) {
	now := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
	compares := guard.Status{Watch: plan.Failing, Then: plan.RollBack, Margin: 0.005, Find: 0.01,
		Trial: evidence.Count{Of: 12}}
	with := func(s guard.Status, state guard.State, lack guard.Gap) guard.Status {
		s.State, s.Gap, s.Sure, s.More = state, lack, 0.78, 40*time.Second
		return s
	}
	counts := guard.Status{Watch: plan.Unhealthy, Then: plan.RollBack, State: guard.Tripped,
		Trial: evidence.Count{Bad: 1}, Missing: 1, Wanted: 3}
	says(t, map[string]string{
		"off":                           Guard(guard.Status{State: guard.Off}),
		"nothing to watch yet":          Guard(guard.Status{State: guard.Idle}),
		"too few answers yet, 12 of 20": Guard(with(compares, guard.Unknown, guard.TooFew)),
		"nothing to compare with: the live side answers nothing": Guard(with(compares, guard.Unknown,
			guard.NoBaseline)),
		"cannot watch: this front does not measure times": Guard(with(compares, guard.Unknown,
			guard.NotTimed)),
		"not known: it could not be read lately": Guard(with(compares, guard.Unknown,
			guard.NotRead)),
		"watching, 78 % certain, ~40s more": Guard(with(compares, guard.Watching, "")),
		"worse, 78 % certain":               Guard(with(compares, guard.Tripped, "")),
		"no fault found":                    Guard(with(compares, guard.Clear, "")),
		"no fault above 0.7 %": Guard(guard.Status{Watch: plan.Failing,
			State: guard.Clear, Find: 0.01, Excluded: 0.007}),
		"excluded above 5 %; above 1 % in ~4m": Guard(guard.Status{Watch: plan.Failing,
			State: guard.Clear, Find: 0.01, Excluded: 0.05, FindIn: 4 * time.Minute}),
		"excluded above 2 %, compared with " +
			now.Local().Format("15:04"): Guard(guard.Status{Watch: plan.Failing, State: guard.Clear, Find: 0.01,
			Excluded: 0.02, AsOf: now.Local()}),
		"not certain yet; above 1 % in ~4m": Guard(guard.Status{Watch: plan.Failing,
			State: guard.Clear, Find: 0.01, Excluded: 1, FindIn: 4 * time.Minute}),
		"worse by 2.1 to 38 points, 99.70 % certain": Guard(guard.Status{Watch: plan.Failing,
			State: guard.Tripped, Sure: 0.997, Range: evidence.Interval{Low: 0.021, High: 0.381}}),
		"green-2 grows by 31 MB a minute (28 MB to 34 MB), 99.20 % certain": Guard(guard.Status{Watch: plan.Grows,
			Figure: "held_bytes", Instance: "green-2", State: guard.Tripped, Sure: 0.992, Difference: 31e6,
			Range: evidence.Interval{Low: 28e6, High: 34e6}}),
		"watching, 70 % certain: is higher by 12": Guard(guard.Status{Watch: plan.Higher,
			Figure: "open", State: guard.Watching, Sure: 0.7, Difference: 12}),
		"none found: fewer by 2.5 % (-4 % to 9 %)": Guard(guard.Status{Watch: plan.Fewer,
			Figure: "booked_total", State: guard.Clear, Difference: 0.025,
			Range: evidence.Interval{Low: -0.04, High: 0.09}}),
		"not known: no instance tells it (status 503 at /metrics)": Guard(guard.Status{Watch: plan.Grows,
			State: guard.Unknown, Gap: guard.NotTold, Said: "status 503 at /metrics"}),
		"nothing to compare with: all requests go to one side": Guard(guard.Status{Watch: plan.Fewer,
			State: guard.Unknown, Gap: guard.NoneBeside}),
		"nothing to compare with: the live side does not tell it": Guard(guard.Status{Watch: plan.Grows,
			State: guard.Unknown, Gap: guard.NoBaseline}),
		"too little to say yet": Guard(guard.Status{Watch: plan.Grows,
			State: guard.Unknown, Gap: guard.TooFew}),
		"freezes above 10 MB/min": Limit(guard.Status{Watch: plan.Grows,
			Figure: "held_bytes", Then: plan.Freeze, Margin: 10e6}),
		"rolls back above 1.5 s": Limit(guard.Status{Watch: plan.Higher,
			Figure: "waited_seconds", Then: plan.RollBack, Margin: 1.5}),
		"freezes above 10 %": Limit(guard.Status{Watch: plan.Fewer,
			Figure: "booked_total", Then: plan.Freeze, Margin: 0.1}),
		"freezes above 5 %": Limit(guard.Status{Watch: plan.Higher,
			Figure: "used_ratio{disk=\"a\"}", Then: plan.Freeze, Margin: 0.05}),
		"memory grows: green-2 grows by 512 B a minute, 99.20 % certain": Alarm(crossing.Alarm{Guard: "memory grows",
			Watch: plan.Grows, Figure: "held_bytes", Instance: "green-2", Level: 512, Sure: 0.992}),
		"what is usual is not known yet: the live side has to answer more": Guard(guard.Status{Watch: plan.Slow,
			State: guard.Unknown, Gap: guard.NoBaseline}),
		"failing: a fault of 1 % is not excluded, one of 5 % is; door: a fault of 10 % is not excluded, at this " +
			"traffic it takes ~40m": Unsure([]crossing.Unsure{
			{Guard: "failing", Find: 0.01, Excluded: 0.05},
			{Guard: "door", Find: 0.1, Excluded: 1, In: 40 * time.Minute},
		}),
		"not told: clients stay on their sides, and the front does not count them": Split(engine.JudgeSplit(2500,
			plan.Front{Key: plan.Key{From: plan.KeyClient}}, reading.Capabilities{},
			evidence.Count{Bad: 2500, Of: 10_000}, [2]int64{}), "requests"),
		"as asked: 25.0 % ±1.7 of 10000 clients": Split(engine.JudgeSplit(2500,
			plan.Front{Key: plan.Key{From: plan.KeyClient}}, reading.Capabilities{Clients: true},
			evidence.Count{Bad: 2500, Of: 10_000}, [2]int64{}), "requests"),
		"1 of 3 instances are not there": Guard(counts),
		"rolls back if worse by 0.5 %":   Limit(compares),
		"freezes after 2": Limit(guard.Status{Watch: plan.Lost,
			Most: 2, Then: plan.Freeze}),
		"rolls back at the first": Limit(counts),
		"front: other.conf:12: unknown directive": WayBack(wayback.Judge(wayback.Facts{Healthy: 1, Instances: 1,
			FrontRead: true, Rehearsal: wayback.Rehearsal{Failed: "other.conf:12: unknown directive"}}), now),
		"blue healthy: 2 of 3": WayBack(wayback.Judge(wayback.Facts{Healthy: 2, Instances: 3,
			FrontRead: true}), now),
		"the front was not read for 12s (no answer)":      Lacks([]crossing.Lack{crossing.Lacking(crossing.LackFront{Unread: crossing.Unread{Since: now.Add(-12 * time.Second), Said: "no answer"}})}, now),
		"green's instances were not read since the start": Lacks([]crossing.Lack{crossing.Lacking(crossing.LackSide{OfSide: crossing.OfSide{Side: split.Green}})}, now),
		"as asked: 25.0 % ±1.7 of 10000 requests": Split(engine.JudgeSplit(2500,
			plan.Front{Key: plan.Key{From: plan.KeyRandom}}, reading.Capabilities{Both: true},
			evidence.Count{Bad: 2500, Of: 10_000}, [2]int64{}), "requests"),
	})
}

func TestFigures(t *testing.T) {
	says(t, map[string]string{
		"12 %": Percent(0.12), "0.5 %": Percent(0.005), "1.2 %": Percent(0.012), "0 %": Percent(0),
		"over 99.99 %": Sure(0.99999), "99.50 %": Sure(0.995), "80 %": Sure(0.8),
		"3.0 ms": Milliseconds(3 * time.Millisecond), "40 ms": Milliseconds(40 * time.Millisecond),
	})
}

// What stands beside the way back fits into its 22 cells, with its age.
func TestWhatTheWayBackShows(t *testing.T) {
	now := time.Date(2026, 6, 1, 10, 0, 0, 0, time.UTC)
	ms := func(n float64) time.Duration { return time.Duration(n * float64(time.Millisecond)) }
	front := func(least, middle, most time.Duration) wayback.Condition {
		return wayback.Condition{Is: wayback.Front{Read: true,
			Rehearsal: wayback.Rehearsal{At: now.Add(-12 * time.Second)},
			Takes:     wayback.Spread{Of: 4, Least: least, Middle: middle, Most: most}}}
	}
	for _, c := range []struct {
		condition wayback.Condition
		want      string
	}{
		{front(ms(0.6), ms(1.6), ms(2.6)), "2 ms (0.6–3), 12s ago"},
		{front(ms(26), ms(28), ms(36)), "28 ms (26–36), 12s ago"},
		{wayback.Condition{Is: wayback.Carries{Capacity: 1000, Rate: 400, Peak: 400, Headroom: 1.5}},
			"150 % spare capacity"},
		{wayback.Condition{Is: wayback.Carries{Capacity: 1000, Rate: 400, Peak: 500, Headroom: 1.5}},
			"150 % free, peak 100 %"},
		{wayback.Condition{Is: wayback.Carries{Capacity: 1000, Rate: 2000, Peak: 2000, Headroom: -0.5}},
			"50 % too small"},
	} {
		if _, got := Condition(c.condition, now); got != c.want {
			t.Errorf("%q, not %q", got, c.want)
		}
	}
}

// A log that a person reads is told how it stands, at once when that changes in kind.
func TestProgress(t *testing.T) {
	now := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
	v := engine.View{At: now, Typical: 55 * time.Second,
		Crossing: crossing.State{Stage: crossing.Raising, Target: split.Green, Since: now.Add(-41 * time.Second)}}
	v.Front.At, v.Front.Every = now, time.Second
	v.Sides[split.Green].Healthy, v.Sides[split.Green].Wanted = 2, 3
	kind, text := Progress(v, "", 0, now)
	later, _ := Progress(v, "", 0, now.Add(7*time.Second))
	says(t, map[string]string{"raising: 2 of 3 up, 41s, usually 55s": text, kind: later})
	if _, text := Progress(v, "the logbook cannot be written: no space left on device", 0, now); !strings.Contains(text,
		"no space left") {
		t.Errorf("with a full disk it says %q", text)
	}
	v.Crossing.Question = crossing.Question{ID: 1, Is: crossing.AskRaise{}}
	if _, text := Progress(v, "", 0, now); text != "" {
		t.Errorf("while a question stands, which the event tells, it says %q", text)
	}
	v.Crossing = crossing.State{Stage: crossing.Shifting, Target: split.Blue, Share: 7500,
		Route: []route.Leg{{Part: 2500}, {Part: split.Whole}}}
	v.Front.Split.Share = 7500
	v.Lacks = []crossing.Lack{crossing.Lacking(crossing.LackAnswers{OfGuard: crossing.OfGuard{Guard: "failing"},
		Have: 3, Need: 50})}
	if _, text := Progress(v, "", 0, now); text != "leg paused: failing has 3 of 50 answers" {
		t.Errorf("while it waits for answers it says %q", text)
	}
	says(t, map[string]string{"25 % on blue (new)": onNew(7500, crossing.State{Number: 1, Target: split.Blue})})
}

// Trying a raise again starts what has ended, and waits for what runs.
func TestRaiseAgain(t *testing.T) {
	v := engine.View{Crossing: crossing.State{Target: split.Green}}
	side := &v.Sides[split.Green]
	with := func(wanted int, running ...bool) {
		side.Wanted, side.Instances = wanted, nil
		for _, r := range running {
			side.Instances = append(side.Instances, reading.Condition{Instance: reading.Instance{Running: r}})
		}
	}
	got := map[string]string{}
	with(3, true, true, false)
	got["start 1 again, and wait for the 2 that run"] = RaiseAgain(v)
	with(3, true, true)
	got["start 1 again, and wait for the 2 that run "] = RaiseAgain(v) + " "
	with(2, true, true)
	got["wait for the 2 that run; none is started again"] = RaiseAgain(v)
	with(2, false)
	got["start all 2 again"] = RaiseAgain(v)
	side.Stands = true
	got["look at green's instances again; nothing is started"] = RaiseAgain(v)
	says(t, got)
}

// A queue divides messages, and a name is remembered: a yes says until when.
func TestWhatAFrontCarries(t *testing.T) {
	v := engine.View{Live: split.Blue, Crossing: crossing.State{Stage: crossing.Shifting, Target: split.Green},
		Traffic: forecast.Traffic{Rate: 40}}
	v.Sides[split.Green].Queue = &reading.Queue{}
	v.Front.Remembers = time.Minute
	says(t, map[string]string{
		"50 % on green (new side), 20 of 40 messages/s, and up to 1m until all who ask know": To(5000, v),
		"messages": Carried(v), "requests": Carried(engine.View{}),
	})
}
