package source

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/prometheus/client_golang/api"
	v1 "github.com/prometheus/client_golang/api/prometheus/v1"
	"github.com/prometheus/common/model"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
)

// mostSeries is how many series a query may have.
const mostSeries = 1000

// samples is what a question of one side came to.
type samples struct {
	series         model.Vector
	oldest, newest time.Time // by the server's clock; zero where its age is not known
	err            error
}

// measured asks Prometheus, about all sides as of the same moment of its clock. How old a figure is goes by that of its
// samples: a query over old ones has an answer of now.
func (s *Sources) measured(ctx context.Context, rule plan.Guard, of []Subject) reading.Figures {
	asked := time.Now()
	r := reading.Figures{At: asked}
	ctx, cancel := context.WithTimeout(ctx, s.plan.Prometheus.Within)
	defer cancel()
	c, err := api.NewClient(api.Config{Address: s.plan.Prometheus.URL, RoundTripper: &s.clients[prometheus]})
	if err != nil {
		r.Failed = err.Error()
		return r
	}
	ask := asker{v1.NewAPI(c)}
	now, err := ask.now(ctx)
	if err != nil {
		r.Failed = err.Error()
		return r
	}
	texts := []string{rule.Figure.Query.Text}
	if rule.Watch == plan.Rate {
		texts = []string{rule.Figure.Query.Bad, rule.Figure.Query.Of}
	}
	answers := make([][]samples, len(of))
	var all sync.WaitGroup
	for n, subject := range of {
		answers[n] = make([]samples, len(texts))
		for k, text := range texts {
			all.Go(func() {
				text = plan.Expand(text, subject.values(s.service, inPromQL))
				answers[n][k] = ask.at(ctx, text, now)
			})
		}
	}
	all.Wait()
	newest := now
	for n, subject := range of {
		list, latest := s.toldOf(rule, subject, answers[n], now, asked)
		r.Of = append(r.Of, list...)
		if !latest.IsZero() && latest.Before(newest) {
			newest = latest
		}
	}
	r.At = asked.Add(newest.Sub(now))
	return r
}

// toldOf is what was told of one side, each series for itself, and when its newest sample is of by the server's clock;
// zero where nothing was told.
func (s *Sources) toldOf(rule plan.Guard, of Subject, answers []samples, now, asked time.Time) (list []reading.Told,
	newest time.Time) {
	figure := rule.Figure.String()
	var oldest time.Time
	for k, a := range answers {
		err := a.err
		if err == nil && len(a.series) == 0 {
			err = errors.New("no sample")
			if rule.Watch == plan.Rate {
				err = fmt.Errorf("no sample of %q", []string{"bad", "of"}[k])
			}
		}
		for _, sample := range a.series {
			if v := float64(sample.Value); math.IsNaN(v) || math.IsInf(v, 0) {
				err = fmt.Errorf("%v is no figure", v)
			}
		}
		if err != nil {
			return []reading.Told{told(rule, of, of.named(""), nil, err)}, time.Time{}
		}
		if newest.IsZero() || a.newest.After(newest) {
			newest = a.newest
		}
		if oldest.IsZero() || !a.oldest.IsZero() && a.oldest.Before(oldest) {
			oldest = a.oldest
		}
		for _, sample := range a.series {
			name := of.named(labelled(sample.Metric))
			if rule.Watch == plan.Rate {
				name += []string{" bad", " of"}[k]
			}
			t := told(rule, of, name, nil, nil)
			t.Said, t.Values = "", map[string]float64{figure: float64(sample.Value)}
			if k == 1 { // what there is counts beside what is bad
				t.Values, t.Of = map[string]float64{figure: 0}, t.Values
			}
			list = append(list, t)
		}
	}
	switch age := now.Sub(newest); {
	case newest.IsZero():
		return []reading.Told{told(rule, of, of.named(""), nil, errors.New("no sample of the series that it asks for"))},
			time.Time{}
	case age > s.plan.Prometheus.Fresh:
		return []reading.Told{told(rule, of, of.named(""), nil, fmt.Errorf("its newest sample is %v old",
			age.Round(time.Second)))}, time.Time{}
	}
	for n := range list {
		list[n].Oldest = asked.Add(oldest.Sub(now))
	}
	return list, newest
}

// labelled is what tells a series from others, in one word.
func labelled(m model.Metric) string {
	if v, ok := m["instance"]; ok && len(m) <= 3 {
		return strings.ReplaceAll(string(v), " ", "_")
	}
	var labels []string
	for name, value := range m {
		if name != model.MetricNameLabel {
			labels = append(labels, string(name)+"="+strings.ReplaceAll(string(value), " ", "_"))
		}
	}
	slices.Sort(labels)
	return strings.Join(labels, ",")
}

// asker asks one server.
type asker struct{ api v1.API }

// now is the server's time.
func (a asker) now(ctx context.Context) (time.Time, error) {
	v, _, _, err := a.api.Query(ctx, "time()", time.Time{})
	if err != nil {
		return time.Time{}, plain(ctx, err)
	}
	now, ok := v.(*model.Scalar)
	if !ok {
		return time.Time{}, errors.New("it does not say what time it is there")
	}
	seconds, part := math.Modf(float64(now.Value))
	return time.Unix(int64(seconds), int64(part*1e9)), nil
}

// at is what a query came to as of a moment of the server, and of which time its samples are.
func (a asker) at(ctx context.Context, text string, now time.Time) (s samples) {
	q, err := ParseQuestion(text, false)
	if err != nil {
		return samples{err: err}
	}
	if s.series, s.err = a.vector(ctx, text, now); s.err != nil {
		return s
	}
	if len(s.series) > mostSeries {
		s.err = fmt.Errorf("%d series are too many: add them up, with sum()", len(s.series))
		return s
	}
	for _, selector := range q.Selectors {
		for _, which := range []string{"min", "max"} {
			var at model.Vector
			if at, s.err = a.vector(ctx, which+"(timestamp("+selector+"))", now); s.err != nil {
				return s
			}
			if len(at) == 0 {
				continue
			}
			t := time.UnixMilli(int64(float64(at[0].Value) * 1000))
			if which == "min" && (s.oldest.IsZero() || t.Before(s.oldest)) {
				s.oldest = t
			}
			if which == "max" && t.After(s.newest) {
				s.newest = t
			}
		}
	}
	return s
}

func (a asker) vector(ctx context.Context, text string, now time.Time) (model.Vector, error) {
	v, _, _, err := a.api.Query(ctx, text, now)
	switch v := v.(type) {
	case nil:
		return nil, plain(ctx, err)
	case model.Vector:
		return v, plain(ctx, err)
	case *model.Scalar:
		return model.Vector{{Value: v.Value, Timestamp: v.Timestamp}}, plain(ctx, err)
	}
	return nil, fmt.Errorf("%q gives no number of one moment", text)
}

// plain is an error of the API without what is of no use to people.
func plain(ctx context.Context, err error) error {
	var of *v1.Error
	var at *url.Error
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return errors.New("no answer in time")
	case errors.As(err, &at):
		return at.Err
	case errors.As(err, &of) && of.Type == v1.ErrClient:
		var status int
		if _, bad := fmt.Sscanf(of.Msg, "client error: %d", &status); bad == nil {
			return refused(status)
		}
	case errors.As(err, &of) && of.Type == v1.ErrServer:
		var status int
		if _, bad := fmt.Sscanf(of.Msg, "server error: %d", &status); bad == nil && status != http.StatusUnprocessableEntity {
			return refused(status)
		}
	}
	return err
}
