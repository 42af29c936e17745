package scrape

import (
	"errors"
	"fmt"
	"io"
	"math"

	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
)

// Limit bounds what is read of a page, in bytes.
const Limit = 8 << 20

// Accept is what to ask for in a request's header of that name.
var Accept = string(expfmt.NewFormat(expfmt.TypeTextPlain))

// Page is what stands on one, by name.
type Page map[string]*dto.MetricFamily

// Read reads a page to its end. An error has the line where it is none.
func Read(r io.Reader) (Page, error) {
	parser := expfmt.NewTextParser(model.UTF8Validation)
	p, err := parser.TextToMetricFamilies(r)
	if err != nil {
		var at expfmt.ParseError
		if errors.As(err, &at) {
			return nil, fmt.Errorf("it is no page of figures: line %d: %s", at.Line, at.Msg)
		}
		return nil, fmt.Errorf("it is no page of figures: %w", err)
	}
	return p, nil
}

// Sum adds up the samples of a name that have the labels, of histograms and summaries their counts. It is false if
// there are none.
func (p Page) Sum(name string, labels map[string]string) (total float64, found bool) {
	for _, m := range p[name].GetMetric() {
		has := 0
		for _, l := range m.GetLabel() {
			if want, ok := labels[l.GetName()]; ok && want == l.GetValue() {
				has++
			}
		}
		if v := value(m); has == len(labels) && number(v) {
			total, found = total+v, true
		}
	}
	return total, found
}

// By adds up the samples of a name by the value of a label, "" for those without it. It is false if there are none.
func (p Page) By(name, label string) (totals map[string]float64, found bool) {
	totals = map[string]float64{}
	for _, m := range p[name].GetMetric() {
		of := ""
		for _, l := range m.GetLabel() {
			if l.GetName() == label {
				of = l.GetValue()
			}
		}
		if v := value(m); number(v) {
			totals[of] += v
			found = true
		}
	}
	return totals, found
}

func number(v float64) bool { return !math.IsNaN(v) && !math.IsInf(v, 0) }

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
