package source

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
)

// alerts asks Alertmanager which alerts fire that match, and are neither silenced nor inhibited. When each began is
// told by its clock, and given by ours.
func (s *Sources) alerts(ctx context.Context, rule plan.Guard, of Subject) reading.Figures {
	asked := time.Now()
	r := reading.Figures{At: asked}
	ctx, cancel := context.WithTimeout(ctx, s.plan.Alertmanager.Within)
	defer cancel()
	ask := url.Values{"active": {"true"}, "silenced": {"false"}, "inhibited": {"false"}, "unprocessed": {"false"}}
	for _, m := range rule.Alerts {
		ask.Add("filter", plan.Expand(string(m), of.values(s.service, inPromQL)))
	}
	list, theirs, err := s.fetchAlerts(ctx, ask)
	switch {
	case ctx.Err() != nil && err != nil:
		r.Failed = "no answer in time"
	case err != nil:
		var at *url.Error
		if errors.As(err, &at) {
			err = at.Err
		}
		r.Failed = err.Error()
	}
	for _, a := range list {
		since := a.Began
		if !theirs.IsZero() {
			since = asked.Add(a.Began.Sub(theirs))
		}
		r.Alerts = append(r.Alerts, reading.Alert{ID: a.Fingerprint + " " + a.Began.UTC().Format(time.RFC3339Nano),
			Name: a.Labels["alertname"], Since: since,
			Summary: s.secrets.HideCut(cmp.Or(a.Annotations["summary"], a.Annotations["description"]))})
	}
	return r
}

// fired is an alert as the API tells it (version 2).
type fired struct {
	Fingerprint string            `json:"fingerprint"`
	Began       time.Time         `json:"startsAt"`
	Labels      map[string]string `json:"labels"`
	Annotations map[string]string `json:"annotations"`
}

func (s *Sources) fetchAlerts(ctx context.Context, ask url.Values) (list []fired, now time.Time, err error) {
	where := strings.TrimSuffix(s.plan.Alertmanager.URL, "/") + "/api/v2/alerts?" + ask.Encode()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, where, nil)
	if err != nil {
		return nil, now, err
	}
	c := http.Client{Transport: &s.clients[alertmanager]}
	w, err := c.Do(r)
	if err != nil {
		return nil, now, err
	}
	defer w.Body.Close()
	if w.StatusCode != http.StatusOK {
		return nil, now, refused(w.StatusCode)
	}
	if err := json.NewDecoder(w.Body).Decode(&list); err != nil {
		return nil, now, fmt.Errorf("its answer is no list of alerts: %w", err)
	}
	now, _ = http.ParseTime(w.Header.Get("Date")) // zero if it does not say
	return list, now, nil
}
