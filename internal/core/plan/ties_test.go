package plan_test

import (
	"fmt"
	"slices"
	"testing"

	"vaiven/internal/core/plan"
	"vaiven/internal/front/cluster"
	"vaiven/internal/front/embedded"
	"vaiven/internal/front/haproxy"
	"vaiven/internal/front/nginx"
)

// What ties a plan to its machine is named, and only that: by what each front and stack needs.
func TestElsewhere(t *testing.T) {
	here := func(host string) bool { return host == "127.0.0.1" || host == "" }
	away := plan.Stack{Stands: []plan.Stand{{Kind: plan.StandAddress, Address: "10.1.0.7:8080"}}}
	mapped := haproxy.Settings{Address: "10.1.0.3:9999", Map: "/etc/haproxy/sailings.map"}
	logs := mapped
	logs.Log = "127.0.0.1:5140"
	for name, c := range map[string]struct {
		front  plan.Front
		stack  plan.Stack
		ties   []string
		unsure bool
	}{
		"a map and instances elsewhere": {plan.Front{Listen: "10.1.0.3:8000", Settings: &mapped}, away, nil, false},
		"its log is sent here": {plan.Front{Listen: "10.1.0.3:8000", Settings: &logs}, away,
			[]string{"the front (127.0.0.1:5140)"}, false},
		"all of it here": {plan.Front{Listen: "127.0.0.1:8000", Settings: &embedded.Settings{}},
			plan.Stack{Command: []string{"berth"}},
			[]string{"the front (127.0.0.1:8000)", "blue's instances (processes of this machine)",
				"green's instances (processes of this machine)"}, false},
		"weights by a socket": {plan.Front{Listen: "10.1.0.3:8000", Settings: &haproxy.Settings{Socket: "/run/h"}},
			away, []string{"the front (/run/h)"}, true},
		"nginx on another machine": {plan.Front{Listen: "10.1.0.3:8000", At: plan.Login{Host: "deploy@10.1.0.3"},
			Settings: &nginx.Settings{}}, away, nil, true},
		"nginx over SSH to this one": {plan.Front{Listen: "10.1.0.3:8000", At: plan.Login{Host: "deploy@127.0.0.1:22"},
			Settings: &nginx.Settings{}}, away, []string{"the front (deploy@127.0.0.1:22)"}, true},
		"a cluster": {plan.Front{Listen: "10.1.0.3:8000", Settings: &cluster.Settings{API: plan.API{File: "/kube"}}},
			plan.Stack{Cluster: plan.Cluster{On: true}}, nil, false},
		"containers": {plan.Front{Listen: "10.1.0.3:8000", Settings: &mapped},
			plan.Stack{Image: "sailings", Engine: "/run/docker.sock"},
			[]string{"blue's instances (/run/docker.sock)", "green's instances (/run/docker.sock)"}, false},
	} {
		p := &plan.Plan{Front: c.front, Parts: []plan.Part{{Name: "web", Stacks: [2]plan.Stack{c.stack, c.stack}}}}
		e := p.Elsewhere(here)
		var ties []string
		for _, t := range e.Ties {
			ties = append(ties, t.String())
		}
		if !slices.Equal(ties, c.ties) || (len(e.Unsure) > 0) != c.unsure {
			t.Errorf("%s: tied by %q, unsure of %q", name, ties, e.Unsure)
		}
	}
}

func ExamplePlan_Elsewhere() {
	pods := plan.Stack{Cluster: plan.Cluster{On: true}}
	p := &plan.Plan{
		Front: plan.Front{Settings: &cluster.Settings{API: plan.API{File: "/etc/kubernetes/sailings.conf"}},
			Listen: "sailings.lineavessa.example:443"},
		Parts:   []plan.Part{{Stacks: [2]plan.Stack{pods, pods}}},
		Secrets: map[string]plan.Secret{"token": {Env: "SAILINGS_TOKEN"}},
	}
	e := p.Elsewhere(func(host string) bool { return host == "localhost" })
	fmt.Println(e.Ties, e.Copies)
	// Output: [] [$SAILINGS_TOKEN /etc/kubernetes/sailings.conf]
}
