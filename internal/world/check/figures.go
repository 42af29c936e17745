package check

import (
	"bytes"
	"context"
	"fmt"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/world/scrape"
)

// Figures asks an instance for its page, and gives the figures that stand on it, by [plan.Figure.String]: of
// those that are not there nothing, and of a histogram or summary its count. An error says why
// there is no page.
func (t Target) Figures(ctx context.Context, page plan.Page, wanted []plan.Figure,
	within time.Duration) (map[string]float64, error) {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	a, err := t.page(ctx, page.Path, map[string]string{"Accept": scrape.Accept}, scrape.Limit)
	if err != nil {
		return nil, err
	}
	if len(a.body) >= scrape.Limit {
		return nil, fmt.Errorf("%s has more than %d MiB", page.Path, scrape.Limit>>20)
	}
	told, err := scrape.Read(bytes.NewReader(a.body))
	if err != nil {
		return nil, fmt.Errorf("%s: %s", page.Path, t.Secrets.HideCut(err.Error()))
	}
	values := map[string]float64{}
	for _, f := range wanted {
		if v, found := told.Sum(f.Name, f.Labels); found {
			values[f.String()] = v
		}
	}
	return values, nil
}
