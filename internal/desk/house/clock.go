package house

import (
	"context"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/desk/middle"
)

func jumpInfo(j catalog.Jump) api.JumpInfo {
	return api.JumpInfo{ID: j.ID, From: j.Until.UTC(), To: j.At.UTC(), Since: j.Since.UTC(), State: j.State.String(),
		Decided: j.Decided,
		By:      j.By}
}

func (d *Desk) clockCalls(to *middle.Calls) {
	middle.Call(to, middle.Rule{Oper: true}, "show-clock", "GET /clock", "service",
		"Say how the clock stands by which ages are judged, and where it jumped", d.showClock)
	middle.Call(to, middle.Rule{Oper: true}, "clock-right", "POST /clock/jumps/{jump}/right", "service",
		"Say that the clock is right after a jump: rules that act by age go on", d.clockRight)
}

type clockOut struct{ Body api.ClockInfo }

func (d *Desk) showClock(ctx context.Context, _ *struct{}) (*clockOut, error) {
	c := d.Store.Catalog
	list, err := c.Jumps(ctx)
	if err != nil {
		return nil, err
	}
	out := &clockOut{api.ClockInfo{Now: c.Now().UTC(), Ahead: c.Ahead().Seconds(), Behind: c.Behind().Seconds(),
		Waits: c.Doubtful(),
		Jumps: []api.JumpInfo{}}}
	for _, j := range list {
		out.Body.Jumps = append(out.Body.Jumps, jumpInfo(j))
	}
	return out, nil
}

func (d *Desk) clockRight(ctx context.Context, in *struct {
	Jump int64 `path:"jump"`
	Body api.ClockAsk
}) (*clockOut, error) {
	var since time.Time
	if s := in.Body.WrongSince; s != "" {
		var err error
		if since, err = middle.Moment(s); err != nil {
			return nil, fault.From(err).In("wrongSince")
		}
	}
	if _, err := d.Store.Catalog.ClockRight(ctx, in.Jump, since, middle.Author(ctx)); err != nil {
		return nil, err
	}
	if err := d.Store.Catalog.LookAtClock(ctx); err != nil {
		return nil, err
	}
	return d.showClock(ctx, nil)
}
