package figures

import (
	"encoding/json"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// kept is a series as it is written.
type kept struct {
	Steps   []keptStep           `json:"steps"`
	Last    []keptCount          `json:"last"`
	Lost    [2]int64             `json:"lost"`
	Own     int64                `json:"own,omitempty"`
	Stood   [2]time.Time         `json:"stood,omitzero"`
	Clients [2]reading.Clients   `json:"clients,omitzero"`
	Came    [2]int64             `json:"came,omitzero"`
	Share   split.Share          `json:"share"`
	Tells   reading.Capabilities `json:"tells"`
	Begun   bool                 `json:"begun"`
	Usual   [2]peak              `json:"usual,omitzero"`
	Waited  [2]peak              `json:"waited,omitzero"`
}

type keptStep struct {
	From  time.Time   `json:"from"`
	To    time.Time   `json:"to"`
	Share split.Share `json:"share"`
	Mixed bool        `json:"mixed,omitempty"`
	Sides [2]keptSide `json:"sides"`
	Own   int64       `json:"own,omitempty"`
}

type keptSide struct {
	Requests  int64              `json:"requests"`
	Failing   int64              `json:"failing,omitempty"`
	Lost      int64              `json:"lost,omitempty"`
	Left      int64              `json:"left,omitempty"`
	Cut       int64              `json:"cut,omitempty"`
	Probes    int64              `json:"probes,omitempty"`
	Led       int64              `json:"led,omitempty"`
	Took      time.Duration      `json:"took,omitempty"`
	Open      int64              `json:"open,omitempty"`
	Hanging   int64              `json:"hanging,omitempty"`
	Waiting   []int64            `json:"waiting,omitempty"`
	Clients   reading.Clients    `json:"clients,omitzero"`
	Latencies []hdrhistogram.Bar `json:"latencies,omitempty"`
}

type keptCount struct {
	Side  split.Side    `json:"side"`
	Count reading.Count `json:"count"`
}

// MarshalJSON writes the series for another program that goes on with it.
func (s Series) MarshalJSON() ([]byte, error) {
	k := kept{Lost: s.lost, Own: s.own, Stood: s.stood, Clients: s.clients, Came: s.came, Share: s.share,
		Tells: s.tells, Begun: s.begun, Usual: s.usual, Waited: s.waited}
	for _, st := range s.steps {
		w := keptStep{From: st.from, To: st.to, Share: st.share, Mixed: st.mixed, Own: st.own}
		for side, d := range st.sides {
			w.Sides[side] = keptSide{d.requests, d.failing, d.lost, d.left, d.cut, d.probes, d.led, d.took, d.open,
				d.hanging, d.waiting, d.clients.told(), d.latencies}
		}
		k.Steps = append(k.Steps, w)
	}
	for c, count := range s.last {
		k.Last = append(k.Last, keptCount{c.side, count})
	}
	return json.Marshal(k)
}

// UnmarshalJSON reads what MarshalJSON writes.
func (s *Series) UnmarshalJSON(data []byte) error {
	var k kept
	if err := json.Unmarshal(data, &k); err != nil {
		return err
	}
	*s = Series{lost: k.Lost, own: k.Own, stood: k.Stood, clients: k.Clients, came: k.Came,
		share: k.Share, tells: k.Tells,
		begun: k.Begun, usual: k.Usual, waited: k.Waited, last: map[counter]reading.Count{}}
	for _, w := range k.Steps {
		st := step{from: w.From, to: w.To, share: w.Share, mixed: w.Mixed, own: w.Own}
		for side, d := range w.Sides {
			st.sides[side] = sideStep{sums: sums{d.Requests, d.Failing, d.Lost, d.Left, d.Cut, d.Probes, d.Led, d.Took},
				open: d.Open, hanging: d.Hanging, waiting: d.Waiting, latencies: d.Latencies}
			if err := st.sides[side].meet(reading.Clients{}, d.Clients); err != nil {
				return err
			}
		}
		s.push(st)
	}
	for _, c := range k.Last {
		s.last[counter{c.Side, c.Count.Name, c.Count.Address}] = c.Count
	}
	return nil
}

// told is what was counted as a front tells it.
func (m met) told() reading.Clients {
	c := reading.Clients{Seen: m.came, Asked: m.asked, Good: m.good}
	if m.turned != nil {
		c.Turns = m.turned.Bytes()
	}
	return c
}
