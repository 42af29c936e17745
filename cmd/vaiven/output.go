package main

import (
	"io"
	"reflect"

	"github.com/spf13/cobra"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/keeper/recording"
	"vaiven/internal/people/headless"
	"vaiven/internal/people/report"
	"vaiven/internal/people/script"
	"vaiven/internal/plan/tryout"
	"vaiven/internal/words"
)

// output is how a command says what it has found: in sentences, or with --json as values for scripts.
type output struct{ json bool }

// flag adds --json to a command that prints one value.
func (o *output) flag(cmd *cobra.Command) { o.lines(cmd, "print JSON") }

// lines adds it to one that prints several, each on a line; does says which.
func (o *output) lines(cmd *cobra.Command, does string) {
	cmd.Flags().BoolVar(&o.json, "json", false, does)
}

// print writes a value of one of the kinds in [printed], or says it in sentences. Shares are told of green and of the
// new side.
func (o output) print(w io.Writer, newSide split.Side, value any, say func(io.Writer) error) error {
	if !o.json {
		return say(w)
	}
	data, err := script.Marshal(kindOf(value), newSide, value)
	if err != nil {
		return err
	}
	_, err = w.Write(append(data, '\n'))
	return err
}

// printed are the kinds of values that commands print with --json, each by a value of its type.
var printed = map[string]any{
	"version": versionInfo{}, "plan": forecastJSON{}, "evidence": evidenceJSON{}, "mistakes": mistakesJSON{},
	"versions": versionsJSON{}, "instance": instanceJSON{}, "raised": raisedJSON{},
	"proof": proofJSON{}, "differences": differencesJSON{}, "event": crossing.Event{}, "summary": headless.Summary{},
	"shift": headless.Shifted{}, "change": front.Change{},
	"where": headless.Where{}, "pause": headless.Tally{}, "sent": headless.Sent{},
	"back": headless.Returned{}, "evacuated": headless.Evacuated{},
	"said": said{}, "taken over": takenOverJSON{},
	"rehearsal": wayback.Rehearsal{}, "retired": retiredJSON{}, "split": tryout.Report{},
	"crossing": crossingJSON{}, "act": words.Act{}, "moment": recording.Frame{},
	"record": report.Record{}, "fleet": fleetJSON{}, "notices": noticesJSON{},
	"fleet event": fleetEventJSON{}, "fleet summary": fleetSummaryJSON{},
}

// kindOf is the kind of a value. That of none of them is a mistake of the program.
func kindOf(value any) string {
	for kind, of := range printed {
		if reflect.TypeOf(of) == reflect.TypeOf(value) {
			return kind
		}
	}
	panic("no kind of output is a " + reflect.TypeOf(value).String())
}
