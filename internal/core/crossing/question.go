package crossing

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"vaiven/internal/core/oneof"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/split"
)

// Question is something that a person is asked. An answer names its ID.
type Question struct {
	ID   uint64 // sequence number of the event that asked it
	At   time.Time
	Side split.Side // that it is about
	Is   QuestionKind
}

// QuestionKind is one of the types below, which [Questions] lists: they are named by what a yes does.
type QuestionKind interface{ question() string }

// Questions are all kinds of question that there are.
var Questions = oneof.New[QuestionKind]("kind", QuestionKind.question,
	func(n oneof.Newer) QuestionKind { return Newer{n} },
	AskSameBuild{}, AskRaise{}, AskProof{}, AskFindings{}, AskStart{}, AskLeg{}, AskLoad{}, AskUnsure{}, AskTogether{},
	AskRetire{})

type (
	// AskSameBuild raises what the live side runs already.
	AskSameBuild struct {
		Version string `json:"version"`
		Build   string `json:"build"`
	}
	// AskRaise raises once more.
	AskRaise struct {
		Trouble Trouble `json:"trouble"`
	}
	// AskProof proves once more.
	AskProof struct {
		Trouble Trouble `json:"trouble"`
	}
	// AskFindings accepts what the proof found.
	AskFindings struct {
		Findings []proof.Finding `json:"findings"`
	}
	// AskStart begins to shift.
	AskStart struct{}
	// AskLeg goes on to a leg.
	AskLeg struct{ Step }
	// AskLoad goes on to a leg that takes more than the limit of the target's capacity.
	AskLoad struct{ Step }
	// AskUnsure goes on to a leg though the one before could not exclude the fault to find.
	AskUnsure struct {
		Step
		Unsure []Unsure `json:"unsure"`
	}
	// AskTogether ends the keep of one that stays only if the others of a fleet arrive as well.
	AskTogether struct {
		Fleet string `json:"fleet"`
	}
	// AskRetire retires the old side.
	AskRetire struct{}
)

// Step is a leg that is asked about.
type Step struct {
	Leg  int         `json:"leg"`
	Part split.Share `json:"part"`           // of the traffic, the target's
	Load float64     `json:"load,omitempty"` // the part of the target's capacity that it takes; 0 if not known
}

func (s Step) step() Step { return s }

// The names of the kinds are part of the logbook's format.
func (AskSameBuild) question() string { return "same build" }
func (AskRaise) question() string     { return "raise" }
func (AskProof) question() string     { return "proof" }
func (AskFindings) question() string  { return "findings" }
func (AskStart) question() string     { return "start" }
func (AskLeg) question() string       { return "leg" }
func (AskLoad) question() string      { return "load" }
func (AskUnsure) question() string    { return "unsure" }
func (AskTogether) question() string  { return "together" }
func (AskRetire) question() string    { return "retire" }
func (n Newer) question() string      { return n.Called }

// Kind is the name of what is asked, "" if nothing is.
func (q Question) Kind() string { return Questions.Name(q.Is) }

// Name is what is asked as people say it beforehand: the kind, and of a leg its number from 1, such as "leg 2".
func (q Question) Name() string {
	if leg, ok := q.Is.(AskLeg); ok {
		return legName(leg.Leg)
	}
	return q.Kind()
}

// askable is what can be said yes to beforehand, by its name. Findings and builds have words of their own.
var askable = []string{"start", "leg N", "load", "unsure", "retire", "raise", "proof"}

// ParseAsk reads the name of a question, as [Question.Name] writes it; the error names those that there are.
func ParseAsk(text string) (string, error) {
	name := strings.Join(strings.Fields(text), " ")
	number, leg := strings.CutPrefix(name, "leg ")
	switch n, err := strconv.Atoi(number); {
	case leg && (err != nil || n < 1), !leg && !slices.Contains(askable, name):
		return "", fmt.Errorf("%q is nothing that is asked: want %s", name, strings.Join(askable, ", "))
	}
	return name, nil
}

func legName(leg int) string { return fmt.Sprintf("leg %d", leg+1) }

// Value is what is asked.
func (q Question) Value() any { return q.Is }

// Types are all kinds of question.
func (q Question) Types() map[string]reflect.Type { return Questions.Types() }

// Step is the leg that is asked about, if one is.
func (q Question) Step() (Step, bool) {
	s, ok := q.Is.(interface{ step() Step })
	if !ok {
		return Step{}, false
	}
	return s.step(), true
}

// Findings are those that a person is asked to accept.
func (q Question) Findings() []proof.Finding {
	f, _ := q.Is.(AskFindings)
	return f.Findings
}

// Head is what all questions have.
func (q Question) Head() any { return questionHead{q.ID, q.At, q.Side} }

type questionHead struct {
	ID   uint64     `json:"id"`
	At   time.Time  `json:"at,omitzero"`
	Side split.Side `json:"side"`
}

// MarshalJSON writes one flat object.
func (q Question) MarshalJSON() ([]byte, error) { return Questions.Write(q.Is, q.Head()) }

// UnmarshalJSON reads what MarshalJSON writes.
func (q *Question) UnmarshalJSON(data []byte) error {
	var h questionHead
	if err := json.Unmarshal(data, &h); err != nil {
		return err
	}
	is, err := Questions.Read(data)
	*q = Question{h.ID, h.At, h.Side, is}
	return err
}

// String is the question in few words, for tests and the program's log.
func (q Question) String() string {
	text := q.Kind()
	if s, of := q.Step(); of {
		text += fmt.Sprintf(" %d, %v", s.Leg+1, s.Part)
	}
	if list := q.Findings(); len(list) > 0 {
		text += fmt.Sprintf(" (%d)", len(list))
	}
	return fmt.Sprintf("%s? #%d", text, q.ID)
}
