package main

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"time"
)

// question is what Vaiven asks.
type question struct {
	Do        string
	Share     float64
	Side      string
	Instances []instance
	If        string `json:"if_revision"`
	Force     bool
}

type instance struct {
	Name    string `json:"name"`
	Address string `json:"address"`
	Version string `json:"version,omitempty"`
	Out     bool   `json:"out,omitempty"`
}

// member and pool are the pool's.
type member struct {
	Address string            `json:"address"`
	Weight  int               `json:"weight"`
	Labels  map[string]string `json:"labels,omitempty"`
}

type pool struct {
	ETag    string   `json:"etag"`
	Pending bool     `json:"pending"`
	Members []member `json:"members"`
}

var (
	errChanged = errors.New("somebody else has changed the pool")
	errBusy    = errors.New("the pool is busy")
	errNobody  = errors.New("nobody is there")
	client     = http.Client{Timeout: 5 * time.Second}
	api        string
)

func main() {
	flag.StringVar(&api, "api", "http://127.0.0.1:8081", "where the pool is changed")
	flag.Parse()
	var q question
	answer := any(map[string]any{})
	err := json.NewDecoder(os.Stdin).Decode(&q)
	if err == nil {
		answer, err = do(q)
	}
	if err != nil {
		answer = map[string]any{
			"error": err.Error(), "changed": errors.Is(err, errChanged), "nobody": errors.Is(err, errNobody),
			"unreachable": errors.As(err, new(*url.Error)),
		}
	}
	if err := json.NewEncoder(os.Stdout).Encode(answer); err != nil {
		os.Exit(1)
	}
}

func do(q question) (any, error) {
	switch q.Do {
	case "count":
		return count()
	case "foresee":
		return map[string]any{"share": q.Share,
			"steps": []string{fmt.Sprintf("PUT %s/pool: weights for %g %% on green", api, q.Share)},
			"notes": []string{"a change takes seconds to be in force"}}, nil
	}
	p, err := read()
	if err != nil {
		return nil, err
	}
	sides := sides(p)
	share, known := shareOf(p)
	switch q.Do {
	case "read":
		a := map[string]any{"revision": p.ETag, "pending": p.Pending, "counts": true, "blue": sides["blue"],
			"green": sides["green"]}
		if known {
			a["share"] = share
		}
		return a, nil
	case "set":
		return map[string]any{}, write(members(sides, q.Share), q.If)
	case "home": // in the place of whatever is under way
		other := map[string]string{"blue": "green", "green": "blue"}[q.Side]
		if len(sides[q.Side]) == 0 && len(sides[other]) > 0 && !q.Force {
			return nil, fmt.Errorf("%w: %s has no instances, and %s has", errNobody, q.Side, other)
		}
		if share = 0; q.Side == "green" {
			share = 100
		}
		return map[string]any{}, write(members(sides, share), "*")
	case "instances":
		sides[q.Side] = q.Instances
		if !known { // nobody gets anything: blue begins, and green waits
			share = 0
		}
		if len(sides["blue"]) == 0 && !known {
			return map[string]any{}, write(waiting(sides), q.If)
		}
		return map[string]any{}, write(members(sides, share), q.If)
	}
	return nil, fmt.Errorf("%q is nothing that this tool does", q.Do)
}

func read() (p pool, err error) {
	r, err := client.Get(api + "/pool")
	if err != nil {
		return p, err
	}
	defer r.Body.Close()
	return p, json.NewDecoder(r.Body).Decode(&p)
}

// write asks for a change, if the pool still is as it was read, and asks again when the pool is busy.
func write(members []member, as string) (err error) {
	for range 8 {
		if err = put(members, as); !errors.Is(err, errBusy) {
			return err
		}
		time.Sleep(100 * time.Millisecond)
	}
	return err
}

func put(members []member, as string) error {
	data, err := json.Marshal(pool{Members: members})
	if err != nil {
		return err
	}
	r, err := http.NewRequest(http.MethodPut, api+"/pool", bytes.NewReader(data))
	if err != nil {
		return err
	}
	r.Header.Set("If-Match", as)
	a, err := client.Do(r)
	if err != nil {
		return err
	}
	defer a.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(a.Body, 1024))
	switch a.StatusCode {
	case http.StatusAccepted:
		return nil
	case http.StatusPreconditionFailed:
		return errChanged
	case http.StatusServiceUnavailable, http.StatusConflict:
		return fmt.Errorf("%w: %s", errBusy, bytes.TrimSpace(text))
	}
	return fmt.Errorf("the pool says %s: %s", a.Status, bytes.TrimSpace(text))
}

func count() (any, error) {
	r, err := client.Get(api + "/counts")
	if err != nil {
		return nil, err
	}
	defer r.Body.Close()
	var counted map[string]any
	err = json.NewDecoder(r.Body).Decode(&counted)
	return map[string]any{"counted": counted}, err
}

// sides are the members by the side that their labels name, in their order.
func sides(p pool) map[string][]instance {
	list := map[string][]instance{"blue": {}, "green": {}}
	for _, m := range p.Members {
		side := m.Labels["side"]
		list[side] = append(list[side],
			instance{cmp.Or(m.Labels["name"], m.Address), m.Address, m.Labels["version"], m.Labels["out"] == "yes"})
	}
	return list
}

// shareOf is green's part of the weights in percent, and false if nobody has any.
func shareOf(p pool) (float64, bool) {
	sums := map[string]int{}
	for _, m := range p.Members {
		sums[m.Labels["side"]] += m.Weight
	}
	all := sums["blue"] + sums["green"]
	if all == 0 {
		return 0, false
	}
	return float64(sums["green"]) * 100 / float64(all), true
}

// members gives every instance its weight, so that the sums are as the shares to a hundredth of a percent.
func members(sides map[string][]instance, share float64) []member {
	part := map[string]int{"green": int(share*100 + 0.5)}
	part["blue"] = 10_000 - part["green"]
	takes := map[string]int{}
	for side, list := range sides {
		for _, i := range list {
			if !i.Out {
				takes[side]++
			}
		}
		if takes[side] == 0 {
			takes[side] = len(list) // out, and needed all the same
		}
	}
	var all []member
	for _, side := range []string{"blue", "green"} {
		other := map[string]string{"blue": "green", "green": "blue"}[side]
		in := 0
		for _, i := range sides[side] {
			in += map[bool]int{false: 1}[i.Out]
		}
		for _, i := range sides[side] {
			m := member{Address: i.Address,
				Labels: map[string]string{"side": side, "name": i.Name, "version": i.Version}}
			if i.Out {
				m.Labels["out"] = "yes"
			}
			if !i.Out || in == 0 {
				m.Weight = part[side] * max(takes[other], 1)
			}
			all = append(all, m)
		}
	}
	return all
}

// waiting are members that get nothing.
func waiting(sides map[string][]instance) []member {
	all := members(sides, 0)
	for n := range all {
		all[n].Weight = 0
	}
	return all
}
