package main

import (
	"math"
	"slices"
	"testing"
	"time"

	"vaiven/internal/core/forecast"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
)

// What is forecast of clients that stay is what guards do.
func TestTheForecastOfClientsHolds(t *testing.T) {
	legs := route.Route{{Part: 2500, Dwell: 20 * time.Minute}, {Part: split.Whole}}
	for _, c := range []cell{
		{rate: 100, base: 0.001, fault: forecast.Fault, legs: legs, clients: crowd{of: 1000}},
		{rate: 100, base: 0.001, fault: forecast.Fault, legs: legs, clients: crowd{of: 100}},
		{rate: 100, base: 0.01, fault: forecast.Fault, legs: legs, clients: crowd{of: 3000}},
		{rate: 20, base: 0.001, fault: forecast.Fault, legs: legs, clients: crowd{of: 400}},
	} {
		asks := c.rate * 5 / float64(c.clients.of)
		traffic := forecast.Traffic{Rate: c.rate, Failing: c.base, Clients: float64(c.clients.of),
			Asking: float64(c.clients.of) * (1 - math.Exp(-asks))}
		total := legs.Forecast(keep, 0).Total
		by := forecast.Guarding{Margin: margin, Level: guard.Level(rules, alpha), Blocks: int(total / every),
			Together: true}
		said := traffic.Find(2500, split.Green, by)
		took := play(c, 24)
		slices.Sort(took)
		middle := took[len(took)/2]
		if after := said.After.Seconds(); after < middle/2-5 || after > 2*middle+5 {
			t.Errorf("%d clients at %.0f /s: found after %.0f s, and %.0f s were forecast", c.clients.of, c.rate,
				middle, after)
		}
		rosy := traffic
		rosy.Clients, rosy.Asking = 0, 0
		t.Logf("%d clients: %.0f s, forecast %.0f s (%.0f to %v), by requests %.0f s", c.clients.of, middle,
			said.After.Seconds(), said.After.Seconds(), said.Late, rosy.Find(2500, split.Green, by).After.Seconds())
	}
}

// In a sample of each kind of crossing without a fault no guard alarms: make evidence plays more of them.
func TestNoAlarmOnSideThatIsNoWorse(t *testing.T) {
	for _, c := range slices.Concat(crowds()[:7], clumps(), colds()[3:]) {
		for n, at := range play(c, 4) {
			if !math.IsInf(at, 1) {
				t.Errorf("%s: an alarm after %.0f s of crossing %d", c.name, at, n)
			}
		}
	}
}

// Where rates wander by themselves hardly anything is rolled back for it, and what is far beyond that is.
func TestRatesThatWander(t *testing.T) {
	c := wandering()[6]
	c.rolls = true
	for n, at := range play(c, 4) {
		if !math.IsInf(at, 1) {
			t.Errorf("%s: rolled back after %.0f s of crossing %d", c.name, at, n)
		}
	}
	c.fault = 0.3
	for n, at := range play(c, 2) {
		if at > 120 {
			t.Errorf("30 %% that fail were rolled back after %.0f s of crossing %d", at, n)
		}
	}
}

// What instances tell is played as in the table, a few times each.
func TestFiguresThatAreTold(t *testing.T) {
	for _, c := range tellings() {
		for n, at := range each(2, c.run) {
			if found := at <= c.after.Seconds(); c.bad != found || !c.bad && !math.IsInf(at, 1) {
				t.Errorf("%s: an alarm after %.0f s in crossing %d", c.name, at, n)
			}
		}
	}
}

// Beside a control group a side that starts cold is not taken for a worse one, which it is beside those that are warm;
// and one that is worse is.
func TestBesideControl(t *testing.T) {
	warm, control := colds()[1], colds()[4]
	stopped := 0
	for _, at := range play(warm, 6) {
		if !math.IsInf(at, 1) {
			stopped++
		}
	}
	if stopped < 4 {
		t.Errorf("%d of 6 cold sides were stopped beside warm ones: there is nothing that a control group is for", stopped)
	}
	control.fault, control.from = 0.05, time.Minute
	for n, at := range play(control, 6) {
		if at < 60 || at > 600 {
			t.Errorf("a fault of 5 %% after a minute was found after %.0f s in crossing %d", at, n)
		}
	}
}
