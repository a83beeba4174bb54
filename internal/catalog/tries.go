package catalog

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/backoff"
	"spindle/internal/core/fault"
)

// Counted is something that tries to sign in are counted for.
type Counted struct {
	What  string // a kind and a name, for instance "person Tam"
	Free  int    // failures before the waits begin
	Sides int    // tries at a time
}

// tryPauses are those after failures to sign in.
var tryPauses = backoff.Growing{First: time.Second, Most: 15 * time.Minute}

const (
	tryTakes  = 30 * time.Second // a try that has not ended by then has died with its process
	triesKept = 24 * time.Hour
	triesMost = 100_000
)

func countedKey(what string) []byte {
	sum := sha256.Sum256([]byte(what))
	return sum[:]
}

// BeginTry reserves a try to sign in before anything is compared: it counts as
// failed until EndTry. All processes count together, by the database's clock, and
// a name that nobody has counts as one that somebody has. wait is how long to wait
// when there may be none now; then nothing was reserved.
func (c *Catalog) BeginTry(ctx context.Context, counted []Counted) (wait time.Duration, err error) {
	list := slices.Clone(counted)
	slices.SortFunc(list,
		func(a, b Counted) int { return bytes.Compare(countedKey(a.What), countedKey(b.What)) }) // locks in one order
	busy := errors.New("busy")
	err = c.inTx(ctx, func(tx *sqlx.Tx) error {
		for _, x := range list {
			var r struct {
				Failed   int             `db:"failed"`
				UnderWay int             `db:"under_way"`
				Wait     sql.NullFloat64 `db:"wait"`
				Died     bool            `db:"died"`
			}
			// A row that is there is locked by this, so that tries take turns.
			if err := tx.GetContext(ctx, &r, `insert into sign_in_tries as t (what, begun) values ($1, now())
				on conflict (what) do update set what = excluded.what
				returning failed, under_way, extract(epoch from until - clock_timestamp())::float8 as wait,
					begun < clock_timestamp() - $2::bigint * interval '1 ms' as died`,
				countedKey(x.What), tryTakes.Milliseconds()); err != nil {
				return err
			}
			if r.Died {
				r.UnderWay = 0
			}
			if r.Wait.Valid && r.Wait.Float64 > 0 {
				wait = max(wait, time.Duration(r.Wait.Float64*float64(time.Second)))
			}
			if r.UnderWay >= x.Sides {
				wait = max(wait, time.Second)
			}
			if wait > 0 {
				continue // say the longest
			}
			next := time.Duration(0)
			if r.Failed+1 >= x.Free {
				next = tryPauses.After(r.Failed + 1 - x.Free)
			}
			if _, err := tx.ExecContext(ctx, `update sign_in_tries set failed = $2, under_way = $3, begun = clock_timestamp(),
				until = case when $4::bigint > 0 then clock_timestamp() + $4 * interval '1 ms' end
					where what = $1`, countedKey(x.What), r.Failed+1, r.UnderWay+1, next.Milliseconds()); err != nil {
				return err
			}
		}
		if wait > 0 {
			return fault.New(fault.Refused, "busy", "wait").Because(busy)
		}
		return nil
	})
	if errors.Is(err, busy) {
		err = nil
	}
	return wait, err
}

// EndTry ends a try that BeginTry reserved. One that was good takes its own count
// back; of the first thing counted, which is who signs in, it forgets all failures.
func (c *Catalog) EndTry(ctx context.Context, counted []Counted, good bool) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		keys := make([][]byte, len(counted))
		for i, x := range counted {
			keys[i] = countedKey(x.What)
		}
		first := keys[0]
		slices.SortFunc(keys, bytes.Compare)
		for _, k := range keys {
			q := `update sign_in_tries set under_way = greatest(under_way - 1, 0) where what = $1`
			switch {
			case good && bytes.Equal(k, first):
				q = `delete from sign_in_tries where what = $1`
			case good:
				q = `update sign_in_tries set under_way = greatest(under_way - 1, 0), failed = greatest(failed - 1, 0), until = null
					where what = $1`
			}
			if _, err := tx.ExecContext(ctx, q, k); err != nil {
				return err
			}
		}
		return nil
	})
}

// ForgetTries lets somebody try to sign in again at once.
func (c *Catalog) ForgetTries(ctx context.Context, what string) error {
	_, err := c.db.ExecContext(ctx, `delete from sign_in_tries where what = $1`, countedKey(what))
	return mapError(err)
}

// TriesWait says until when there may be no try for something; nil when there may.
func (c *Catalog) TriesWait(ctx context.Context, what string) (*time.Time, error) {
	var until *time.Time
	err := c.db.GetContext(ctx, &until, `select until from sign_in_tries where what = $1 and until > now()`,
		countedKey(what))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return until, mapError(err)
}

// ForgetOld removes what has no more use: signatures too old to be sent again,
// tries of a day ago, the oldest of too many, devices that were not seen for half
// a year, lags of two weeks ago.
func (c *Catalog) ForgetOld(ctx context.Context) error {
	for _, q := range []string{
		`delete from signatures where until < now()`,
		`delete from devices where seen < now() - interval '180 days'`,
		`delete from sync_runs where ended < now() - interval '90 days'`,
		`delete from replication_lags where at < now() - interval '14 days'`,
	} {
		if _, err := c.db.ExecContext(ctx, q); err != nil {
			return mapError(err)
		}
	}
	_, err := c.db.ExecContext(ctx, `delete from sign_in_tries where begun < now() - $1::bigint * interval '1 ms'
		or begun <= (select begun from sign_in_tries
			order by begun desc offset $2 limit 1)`, triesKept.Milliseconds(), triesMost)
	return mapError(err)
}

// Device notes that somebody signed in from a device, or reports whether somebody
// did: the token is the SHA-256 of the one in its cookie.
func (c *Catalog) Device(ctx context.Context, token []byte, person, key *string) (bool, error) {
	r, err := c.db.ExecContext(ctx,
		`update devices set seen = now() where token = $1 and person is not distinct from $2 and key is not distinct from $3`,
		token, person, key)
	if err != nil {
		return false, mapError(err)
	}
	n, err := r.RowsAffected()
	return n > 0, mapError(err)
}

// PutDevice notes that somebody signed in from a device.
func (c *Catalog) PutDevice(ctx context.Context, token []byte, person, key *string) error {
	_, err := c.db.ExecContext(ctx, `insert into devices (token, person, key, seen) values ($1, $2, $3, now())
		on conflict (token) do update set person = excluded.person, key = excluded.key, seen = now()`, token, person, key)
	return mapError(err)
}

// UseSignature notes the signature of a call that changes something, for as long
// as it could be sent again. The error for one that was used has the code
// signature-used.
func (c *Catalog) UseSignature(ctx context.Context, signature []byte, until time.Time) error {
	r, err := c.db.ExecContext(ctx, `insert into signatures (signature, until) values ($1, $2) on conflict do nothing`,
		signature, until)
	if err != nil {
		return mapError(err)
	}
	if n, err := r.RowsAffected(); err != nil || n == 0 {
		return fault.New(fault.Refused, "signature-used",
			"this signature was used already, and a call that changes something counts once").In("authorization").
			Do("sign each call anew; two that are the same within a second need a header Spindle-Once with another text in each")
	}
	return nil
}
