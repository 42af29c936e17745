package headless

import (
	"context"
	"fmt"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/situation"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/service"
	"vaiven/internal/words"
)

// Service is how one of several services stands.
type Service struct {
	Name     string
	File     string
	Versions [2]string // by side, "" where none is known
	Share    split.Share
	Known    bool // the share is
	Gravity  situation.Gravity
	Says     string  // in a few words
	Way      string  // back, "" where there is none to speak of
	Rate     float64 // requests a second, -1 where nobody counts
	Stage    crossing.Stage
	Heard    time.Time // when that was so
	Kept     bool      // a keeper says it
	Closed   string    // which side is closed, "" if none is
}

// FollowService tells how a service stands, whenever that changes: by its keeper, or by its front where none runs. It
// returns when the context ends.
func FollowService(ctx context.Context, r service.Reach, tell func(Service)) {
	for ctx.Err() == nil {
		if k, err := r.Open(ctx); err == nil {
			for s := range k.Snapshots(ctx) {
				tell(kept(r.Plan, s))
				if s.Trouble != "" && !s.Ready { // it has gone: the front says more
					break
				}
			}
			_ = k.Close()
		}
		if ctx.Err() != nil {
			return
		}
		tell(unkept(ctx, r.Plan))
		Pause(ctx, LookAgain)
	}
}

// LookAgain is how often a service without a keeper is looked at.
const LookAgain = 3 * time.Second

// WrongPlan is a service whose plan cannot be read.
func WrongPlan(file, why string) Service {
	return Service{Name: file, File: file, Gravity: situation.Wrong, Says: why, Rate: -1, Heard: time.Now()}
}

// kept is what a keeper says.
func kept(p *plan.Plan, s keeper.Snapshot) Service {
	is := situation.Of(s.View, situation.Seen{Trouble: s.Trouble, Heard: s.At}, s.At)
	r := Service{Name: p.Service, File: p.File, Share: s.Front.Split.Share, Known: true, Gravity: is.Gravity,
		Says: strings.TrimPrefix(words.Situation(is, s.View, "", s.At), "◇ "), Rate: s.Traffic.Rate,
		Stage: s.Crossing.Stage, Heard: s.At, Kept: true, Closed: words.Closed(s.Front.Order)}
	for side, v := range s.Sides {
		if len(v.Instances) > 0 {
			r.Versions[side] = v.Version
		}
	}
	if s.WayBack.State != "" {
		r.Way = "way back " + string(s.WayBack.State)
	}
	return r
}

// unkept is what the front says, and the logbook.
func unkept(ctx context.Context, p *plan.Plan) Service {
	ctx, cancel := context.WithTimeout(ctx, LookAgain)
	defer cancel()
	r := Service{Name: p.Service, File: p.File, Rate: -1, Heard: time.Now(), Says: "no keeper runs"}
	if info, err := service.AskRunning(ctx, p); err == nil && info.Standby != nil {
		k := standing(ctx, p, info)
		r.Says, r.Gravity = k.Says, k.Gravity
	} else if s, err := LeftAt(ctx, p); err == nil && s.Stage.UnderWay() {
		r.Gravity, r.Stage = situation.Waits, s.Stage
		r.Says = fmt.Sprintf("no keeper answers: crossing %d: %s", s.Number, words.State(s))
	}
	f, err := front.Driver(all.Open(p)).Read(ctx)
	if err != nil {
		r.Gravity, r.Says = situation.Wrong, err.Error()
		return r
	}
	r.Share, r.Known, r.Closed = f.Split.Share, true, words.Closed(f.Order)
	for side, of := range f.Sides {
		for _, i := range of.Instances {
			r.Versions[side] = i.Version
		}
	}
	return r
}
