package check

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math"
	"time"

	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"

	"vaiven/internal/plan"
)

// pageLimit bounds what is read of a page of figures, in bytes.
const pageLimit = 8 << 20

// Figures asks an instance for its page, and gives the figures that stand on it, by [plan.Figure.String]: of
// those that are not there nothing, and of a histogram or summary its count. An error says why
// there is no page.
func (t Target) Figures(ctx context.Context, page plan.Page, wanted []plan.Figure, within time.Duration) (map[string]float64, error) {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	a, err := t.page(ctx, page.Path, map[string]string{"Accept": string(expfmt.NewFormat(expfmt.TypeTextPlain))}, pageLimit)
	if err != nil {
		return nil, err
	}
	if len(a.body) >= pageLimit {
		return nil, fmt.Errorf("%s has more than %d MiB", page.Path, pageLimit>>20)
	}
	parser := expfmt.NewTextParser(model.UTF8Validation)
	families, err := parser.TextToMetricFamilies(bytes.NewReader(a.body))
	if err != nil {
		var at expfmt.ParseError
		if errors.As(err, &at) {
			return nil, fmt.Errorf("%s is no page of figures: line %d: %s", page.Path, at.Line, t.Secrets.HideCut(at.Msg))
		}
		return nil, fmt.Errorf("%s is no page of figures: %s", page.Path, t.Secrets.HideCut(err.Error()))
	}
	values := map[string]float64{}
	for _, f := range wanted {
		if v, found := sum(families[f.Name], f.Labels); found {
			values[f.String()] = v
		}
	}
	return values, nil
}

// sum adds up the samples that have the labels.
func sum(family *dto.MetricFamily, labels map[string]string) (total float64, found bool) {
	for _, m := range family.GetMetric() {
		has := 0
		for _, l := range m.GetLabel() {
			if want, ok := labels[l.GetName()]; ok && want == l.GetValue() {
				has++
			}
		}
		if v := value(m); has == len(labels) && !math.IsNaN(v) && !math.IsInf(v, 0) {
			total, found = total+v, true
		}
	}
	return total, found
}

func value(m *dto.Metric) float64 {
	switch {
	case m.Counter != nil:
		return m.Counter.GetValue()
	case m.Gauge != nil:
		return m.Gauge.GetValue()
	case m.Histogram != nil:
		return float64(m.Histogram.GetSampleCount())
	case m.Summary != nil:
		return float64(m.Summary.GetSampleCount())
	}
	return m.Untyped.GetValue()
}
