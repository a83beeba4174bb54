package catalog

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/lifecycle"
)

// JumpState is what became of a jump of the clock.
type JumpState int16

// What becomes of jumps.
const (
	JumpAsked  JumpState = 0
	JumpRight  JumpState = 1 // somebody said that the clock is right now
	JumpUndone JumpState = 2 // it went back again
)

var jumpStates = map[JumpState]string{JumpAsked: "asked about", JumpRight: "right", JumpUndone: "undone"}

// String names the state.
func (s JumpState) String() string { return jumpStates[s] }

// Jump is a jump of the database's clock.
type Jump struct {
	ID      int64      `db:"id"`
	Since   time.Time  `db:"since"` // what was written from then
	Until   time.Time  `db:"until"` // to then is in doubt, in the time that was told
	At      time.Time  `db:"at"`    // where the clock came to; before Until when it jumped back
	State   JumpState  `db:"state"`
	Decided *time.Time `db:"decided"`
	By      string     `db:"by"`
}

// noteJump notes a jump, unless another process did: all that was told since the one before is in doubt.
func (c *Catalog) noteJump(ctx context.Context, until, at time.Time) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		var since time.Time
		if err := tx.GetContext(ctx, &since, `select began from clock for update`); err != nil {
			return err
		}
		var known bool
		if err := tx.GetContext(ctx, &known, `select exists (select 1 from clock_jumps where state = 0
			and abs(extract(epoch from at - $1)) < 600)`, at); err != nil || known {
			return err
		}
		if _, err := tx.ExecContext(ctx, `insert into clock_jumps (since, until, at) values ($1, $2, $3)`, since, until,
			at); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `update clock set began = $1`, at)
		return err
	})
}

// noteBack notes that the clock jumped back, unless that is known: the time that was told goes on.
func (c *Catalog) noteBack(ctx context.Context, until, at time.Time) error {
	_, err := c.db.ExecContext(ctx, `insert into clock_jumps (since, until, at) select $1, $1, $2
		where not exists (select 1 from clock_jumps where state = 0 and at < until)`, until, at)
	return mapError(err)
}

// wentOn notes that the clock is where it should be after it had jumped back.
func (c *Catalog) wentOn(ctx context.Context) error {
	_, err := c.db.ExecContext(ctx, `update clock_jumps set state = 2 where state = 0 and at < until`)
	return mapError(err)
}

// undoJump has a jump ahead that is asked about be undone by one back, when it is as far.
func (c *Catalog) undoJump(ctx context.Context, off time.Duration) (undone bool, err error) {
	return c.changed(ctx, `with undone as (update clock_jumps set state = 2 where state = 0
			and abs(extract(epoch from at - until) + $1) < 600 returning since, until)
		update clock set began = undone.since, highest = undone.until from undone`, off.Seconds())
}

// Jumps gives the jumps of the clock, latest first.
func (c *Catalog) Jumps(ctx context.Context) (list []Jump, err error) {
	err = c.db.SelectContext(ctx, &list, `select * from clock_jumps order by id desc limit 100`)
	return list, mapError(err)
}

// ClockRight notes that the clock is right after a jump, and since when it was wrong; zero: as it was noted. The errors
// have the codes jump-missing, jump-decided and moment.
func (c *Catalog) ClockRight(ctx context.Context, id int64, wrongSince time.Time, by Author) (j Jump, err error) {
	err = c.inTx(ctx, func(tx *sqlx.Tx) error {
		err := tx.GetContext(ctx, &j, `select * from clock_jumps where id = $1 for update`, id)
		if errors.Is(err, sql.ErrNoRows) {
			return fault.New(fault.NotFound, "jump-missing", "there is no jump %d of the clock", id).In("jump").
				Do("see spindle clock show")
		}
		if err != nil {
			return err
		}
		if j.State != JumpAsked {
			return fault.New(fault.Conflict, "jump-decided", "the jump %d is not asked about: it is %s", id, j.State).In("jump")
		}
		if j.At.Before(j.Until) {
			return c.rightBack(ctx, tx, &j, by)
		}
		if wrongSince.IsZero() {
			wrongSince = j.Since
		}
		if wrongSince.After(j.Until) {
			return fault.New(fault.Invalid, "moment", "%s is after the jump", wrongSince.Format(time.RFC3339)).
				In("wrongSince").Do("give a moment before %s", j.Until.Format(time.RFC3339))
		}
		j.Since, j.State, j.Decided, j.By = wrongSince, JumpRight, &by.At, by.Who
		if _, err := tx.ExecContext(ctx, `update clock_jumps set since = $2, state = $3, decided = $4, by = $5 where id = $1`,
			id, j.Since, j.State, by.At, by.Who); err != nil {
			return err
		}
		return trail(ctx, tx, by, access.TrailSetting, "", "the clock",
			map[string]any{"the clock is right, wrong since": j.Since})
	})
	return j, err
}

// rightBack has the time be the database's again, which had jumped back from one that was wrong. What was written in
// it is younger than it seems, which removes nothing before its time.
func (c *Catalog) rightBack(ctx context.Context, tx *sqlx.Tx, j *Jump, by Author) error {
	j.State, j.Decided, j.By = JumpRight, &by.At, by.Who
	if _, err := tx.ExecContext(ctx, `update clock_jumps set state = $2, decided = $3, by = $4 where id = $1`, j.ID,
		j.State,
		by.At, by.Who); err != nil {
		return err
	}
	right := c.Now().Add(-c.Behind())
	if _, err := tx.ExecContext(ctx, `update clock set turn = turn + 1, highest = 'epoch', began = $1`,
		right); err != nil {
		return err
	}
	// What was in doubt before it jumped ahead is so still.
	if _, err := tx.ExecContext(ctx, `update clock_jumps set state = $1, at = $2, decided = $3, by = $4
		where state = 0 and at > until`, JumpRight, right, by.At, by.Who); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `update lifecycles set upto = least(upto, $1)`, right); err != nil {
		return err
	}
	return trail(ctx, tx, by, access.TrailSetting, "", "the clock",
		map[string]any{"the clock is right, though it went back": j.Until})
}

// Graces gives the stretches in which times were told that were wrong, for rules.
func (c *Catalog) Graces(ctx context.Context) (out []lifecycle.Jump, err error) {
	err = c.db.SelectContext(ctx, &out, `select since as "from", until as "to", at from clock_jumps
		where state = 1 and at > until order by id`)
	return out, mapError(err)
}
