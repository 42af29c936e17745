package standin

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"
)

// What the stand-in takes from objects that real clusters do not.
const (
	// Listen is an annotation of a route: the address at which its gateway takes requests.
	Listen = "standin/listen"
	// serviceOf is the label by which endpoint slices say whose they are.
	serviceOf = "kubernetes.io/service-name"
)

// follow has controllers follow changes, and the data plane the controllers, each after the lag.
func (s *Server) follow(ctx context.Context) {
	pause := func() bool {
		select {
		case <-time.After(s.config.Lag):
			return true
		case <-ctx.Done():
			return false
		}
	}
	for {
		s.mu.Lock()
		more := s.more
		s.mu.Unlock()
		for _, act := range []func(){s.controlled, s.carried} {
			if !pause() {
				return
			}
			s.mu.Lock()
			if !s.ill.Deaf {
				act()
				if s.node != nil {
					s.node.take(ctx)
				}
			}
			s.mu.Unlock()
		}
		select {
		case <-more:
		case <-ctx.Done():
			return
		}
	}
}

// controlled has the controllers follow. The caller holds the lock.
func (s *Server) controlled() {
	s.deployed()
	s.slices()
}

// carried has the data plane go by what there is, and routes say so. The caller holds the lock.
func (s *Server) carried() {
	t := s.table()
	s.plane.set(t)
	s.accepted(t)
}

// slices has an endpoint slice for each service that selects pods, with those that are ready. The caller holds the
// lock.
func (s *Server) slices() {
	pods, services, list := kind("pods"), kind("services"), kind("endpointslices")
	for k, service := range s.objects[services] {
		wants := texts(service, "spec", "selector")
		if len(wants) == 0 {
			continue
		}
		endpoints := []any{}
		for _, pod := range s.list(pods, k.namespace, selector{}) {
			has := texts(pod, "metadata", "labels")
			for name, value := range wants {
				if has[name] != value {
					has = nil
				}
			}
			if ip := text(pod, "status", "podIP"); has != nil && ip != "" {
				endpoints = append(endpoints, object{
					"addresses": []any{ip}, "conditions": object{"ready": ready(pod), "serving": ready(pod),
						"terminating": false},
					"targetRef": object{"kind": "Pod", "name": text(pod, "metadata", "name"), "namespace": k.namespace},
				})
			}
		}
		ports := []any{}
		all, _ := at(service, "spec", "ports").([]any)
		for _, p := range all {
			port := at(p, "targetPort")
			if port == nil {
				port = at(p, "port")
			}
			ports = append(ports, object{"name": text(p, "name"), "protocol": "TCP", "port": port})
		}
		slice := object{
			"metadata":    object{"name": k.name + "-1", "namespace": k.namespace, "labels": object{serviceOf: k.name}},
			"addressType": "IPv4", "endpoints": endpoints, "ports": ports,
		}
		was := s.objects[list][keyOf(slice)]
		if was == nil || !same(was["endpoints"], slice["endpoints"]) || !same(was["ports"], slice["ports"]) {
			s.put(list, slice)
		}
	}
	for k, slice := range s.objects[list] { // of services that are gone
		if _, there := s.objects[services][key{k.namespace, texts(slice, "metadata", "labels")[serviceOf]}]; !there {
			s.take(list, k)
		}
	}
}

// ready reports whether a pod says that it is.
func ready(pod object) bool {
	list, _ := at(pod, "status", "conditions").([]any)
	return slices.ContainsFunc(list,
		func(c any) bool { return text(c, "type") == "Ready" && text(c, "status") == "True" })
}

// table is what the data plane goes by. The caller holds the lock.
func (s *Server) table() table {
	t := table{services: map[string]*service{}, routes: map[string]*route{}}
	backends := map[string][]string{}
	for k, slice := range s.objects[kind("endpointslices")] {
		name := k.namespace + "/" + texts(slice, "metadata", "labels")[serviceOf]
		ports, _ := slice["ports"].([]any)
		endpoints, _ := slice["endpoints"].([]any)
		for _, e := range endpoints {
			addresses, _ := at(e, "addresses").([]any)
			if is, _ := at(e, "conditions", "ready").(bool); !is || len(addresses) == 0 || len(ports) == 0 {
				continue
			}
			backends[name] = append(backends[name], fmt.Sprintf("%v:%v", addresses[0], at(ports[0], "port")))
		}
	}
	for k, o := range s.objects[kind("services")] {
		name := k.namespace + "/" + k.name
		t.services[name] = &service{backends: backends[name]}
		ports, _ := at(o, "spec", "ports").([]any)
		if ip := text(o, "spec", "clusterIP"); ip != "" && ip != "None" && len(ports) > 0 {
			t.services[name].listen = fmt.Sprintf("%s:%v", ip, at(ports[0], "port"))
		}
	}
	for k, o := range s.objects[kind("httproutes")] {
		r := &route{listen: texts(o, "metadata", "annotations")[Listen], generation: at(o, "metadata", "generation")}
		t.routes[k.namespace+"/"+k.name] = r
		rules, _ := at(o, "spec", "rules").([]any)
		for _, rule := range rules[:min(len(rules), 1)] {
			refs, _ := at(rule, "backendRefs").([]any)
			for _, ref := range refs {
				weight := 1.0
				if w, ok := at(ref, "weight").(float64); ok {
					weight = w
				}
				r.refs = append(r.refs, weighted{k.namespace + "/" + text(ref, "name"), int(weight)})
			}
		}
	}
	return t
}

// accepted has routes say that the data plane goes by them. The caller holds the lock.
func (s *Server) accepted(t table) {
	list := kind("httproutes")
	for k, o := range maps.Clone(s.objects[list]) {
		r := t.routes[k.namespace+"/"+k.name]
		if r == nil {
			continue
		}
		var parents []any
		refs, _ := at(o, "spec", "parentRefs").([]any)
		for _, ref := range refs {
			condition := func(what string) object {
				return object{"type": what, "status": "True", "reason": what, "message": "",
					"observedGeneration": r.generation, "lastTransitionTime": "2026-01-01T00:00:00Z"}
			}
			parents = append(parents,
				object{"parentRef": ref, "controllerName": "standin/gateway",
					"conditions": []any{condition("Accepted"), condition("ResolvedRefs")}})
		}
		if now := copied(o); !same(at(o, "status", "parents"), parents) {
			now["status"] = object{"parents": parents}
			s.put(list, now)
		}
	}
}
