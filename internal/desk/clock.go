package desk

import (
	"context"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
)

// ClockInfo is how the clock stands by which records and ages are told.
type ClockInfo struct {
	Now    time.Time  `json:"now" doc:"As it is told"`
	Ahead  float64    `json:"ahead" doc:"Seconds that the clock of the process that answers is ahead of the database's"`
	Behind float64    `json:"behind" doc:"Seconds that the database's clock jumped back; the time that is told goes on"`
	Waits  bool       `json:"waits" doc:"Rules that act by age wait until somebody says that the clock is right"`
	Jumps  []JumpInfo `json:"jumps" doc:"Latest first"`
}

// JumpInfo is a jump of the database's clock.
type JumpInfo struct {
	ID      int64      `json:"id"`
	From    time.Time  `json:"from" doc:"Where it was, as it was told"`
	To      time.Time  `json:"to" doc:"Where it came to"`
	Since   time.Time  `json:"since" doc:"What was written from then on until the jump is in doubt: it is as old as the jump"`
	State   string     `json:"state" enum:"asked about,right,undone"`
	Decided *time.Time `json:"decided,omitempty"`
	By      string     `json:"by,omitempty"`
}

func jumpInfo(j catalog.Jump) JumpInfo {
	return JumpInfo{ID: j.ID, From: j.Until.UTC(), To: j.At.UTC(), Since: j.Since.UTC(), State: j.State.String(), Decided: j.Decided,
		By: j.By}
}

func (d *Desk) clockCalls(to *calls) {
	call(to, rule{oper: true}, "show-clock", "GET /clock", "service",
		"Say how the clock stands by which ages are judged, and where it jumped", d.showClock)
	call(to, rule{oper: true}, "clock-right", "POST /clock/jumps/{jump}/right", "service",
		"Say that the clock is right after a jump: rules that act by age go on", d.clockRight)
}

type clockOut struct{ Body ClockInfo }

func (d *Desk) showClock(ctx context.Context, _ *struct{}) (*clockOut, error) {
	c := d.store.Catalog
	list, err := c.Jumps(ctx)
	if err != nil {
		return nil, err
	}
	out := &clockOut{ClockInfo{Now: c.Now().UTC(), Ahead: c.Ahead().Seconds(), Behind: c.Behind().Seconds(), Waits: c.Doubtful(),
		Jumps: []JumpInfo{}}}
	for _, j := range list {
		out.Body.Jumps = append(out.Body.Jumps, jumpInfo(j))
	}
	return out, nil
}

func (d *Desk) clockRight(ctx context.Context, in *struct {
	Jump int64 `path:"jump"`
	Body struct {
		WrongSince string `json:"wrongSince,omitempty" maxLength:"64" doc:"A moment, in the time that was told then: what was written before it is as old as it seems. Otherwise all since the jump before is in doubt"`
	}
}) (*clockOut, error) {
	var since time.Time
	if s := in.Body.WrongSince; s != "" {
		var err error
		if since, err = moment(s); err != nil {
			return nil, fault.From(err).In("wrongSince")
		}
	}
	if _, err := d.store.Catalog.ClockRight(ctx, in.Jump, since, author(ctx)); err != nil {
		return nil, err
	}
	if err := d.store.Catalog.LookAtClock(ctx); err != nil {
		return nil, err
	}
	return d.showClock(ctx, nil)
}
