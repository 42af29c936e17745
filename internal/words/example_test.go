package words_test

import (
	"fmt"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/split"
	"vaiven/internal/words"
)

func ExampleQuestion() {
	q := crossing.Question{ID: 7, Side: split.Green, Is: crossing.AskLeg{Step: crossing.Step{Part: 50 * split.Percent}}}
	fmt.Println(words.Question(q, crossing.State{Target: split.Green}))
	// Output: go on to 50 % on green?
}
