package keeper

import (
	"context"
	"errors"
	"slices"

	"vaiven/internal/core/forecast"

	"vaiven/internal/core/split"
	"vaiven/internal/plan/tryout"
	"vaiven/internal/world/accesslog"
)

// Tryout tries the usual keys, and the plan's, on the access log of the front, or on the
// one that the plan takes requests from.
func (k *Keeper) Tryout(ctx context.Context) (r tryout.Report, inForce string, err error) {
	inForce = k.Plan.Front.Key.String()
	name := k.Plan.AccessLog()
	if name == "" {
		return r, inForce, errors.New("the plan names no access log: add log to the front's system, or to " +
			"same-request. For any other log there is vaiven split LOG")
	}
	texts := slices.Clone(tryout.Usual)
	if !slices.Contains(texts, inForce) {
		texts = append([]string{inForce}, texts...)
	}
	var keys []tryout.Key
	for _, text := range texts {
		key, err := tryout.ParseKey(text)
		if err != nil {
			return r, inForce, err
		}
		keys = append(keys, key)
	}
	log, err := accesslog.Open(name, nil)
	if err != nil {
		return r, inForce, err
	}
	defer log.Close()
	r, err = tryout.Read(ctx, name, log, keys, k.legShares())
	return r, inForce, err
}

// Clients is what the plan's access log says of clients. See [Client].
func (k *Keeper) Clients(ctx context.Context) (forecast.Clients, error) {
	name := k.Plan.AccessLog()
	if name == "" {
		return forecast.Clients{}, nil
	}
	return tryout.Clients(ctx, name)
}

// legShares are the shares on green of the route's legs but for the last; half and half
// if there is no other.
func (k *Keeper) legShares() []split.Share {
	target := k.latest.Load().Live.Other()
	var list []split.Share
	for _, l := range k.Plan.Route {
		if l.Part < split.Whole {
			list = append(list, split.Toward(target, l.Part))
		}
	}
	if len(list) == 0 {
		list = []split.Share{split.Whole / 2}
	}
	return list
}
