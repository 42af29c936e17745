package notice_test

import (
	"fmt"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/notice"
	"vaiven/internal/core/plan"
)

func ExampleDesk() {
	d := notice.NewDesk("sailings", []plan.Notice{{
		To:    []plan.Receiver{{Way: plan.ByMail, Address: "marit@linea-vessa.example"}},
		After: 10 * time.Minute,
		Also:  []plan.Receiver{{Way: plan.ByMail, Address: "ines@linea-vessa.example"}},
	}})
	at := time.Date(2026, 11, 29, 14, 0, 0, 0, time.UTC)
	for _, l := range d.Happened(crossing.Event{Seq: 7, At: at, What: crossing.Asked{}}) {
		fmt.Println(l.About, "to", l.To)
	}
	for _, l := range d.Due(at.Add(10 * time.Minute)) {
		fmt.Println(l.About, "to", l.To, "late:", l.Late)
	}
	// Output:
	// asks to marit@linea-vessa.example
	// asks to ines@linea-vessa.example late: true
}
