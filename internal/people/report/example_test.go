package report_test

import (
	"fmt"

	"vaiven/internal/core/split"
	"vaiven/internal/people/report"
	"vaiven/internal/plan/tryout"
)

func ExampleSplit() {
	var tried tryout.Report
	err := report.Split("split.svg", tried, 25*split.Percent) // the format by the file's ending
	fmt.Println(err)
}
