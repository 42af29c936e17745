package answers_test

import (
	"context"
	"fmt"
	"net/http/httptest"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/notice"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/answers"
)

// quiet is a keeper that asks nothing.
type quiet struct{}

func (quiet) TokenOf(string) (notice.Token, crossing.Question, error) {
	return notice.Token{}, crossing.Question{}, notice.ErrNoToken
}
func (quiet) Now() keeper.Snapshot                               { return keeper.Snapshot{} }
func (quiet) Do(context.Context, keeper.Command) (uint64, error) { return 0, nil }

func ExampleHandler() {
	w := httptest.NewRecorder()
	answers.Handler("sailings", quiet{}).ServeHTTP(w, httptest.NewRequest("GET", "/made-up", nil))
	fmt.Println(w.Code, w.Header().Get("Referrer-Policy"))
	// Output:
	// 200 no-referrer
}
