package catalog

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/access"
	"spindle/internal/core/fault"
)

// TrailEntry is something that was done to access, or refused.
type TrailEntry struct {
	ID      int64
	At      time.Time
	Kind    string
	Account string
	Who     string
	Source  string
	Subject string
	Times   int
	Detail  map[string]any
}

const putTrail = `insert into trail (at, kind, account, who, source, subject, times, detail)
	values ($1, $2, $3, $4, $5, $6, $7, $8::jsonb)`

func trail(ctx context.Context, tx *sqlx.Tx, by Author, kind, account, subject string, detail map[string]any) error {
	return putEntry(ctx, tx, TrailEntry{At: by.At, Kind: kind, Account: account, Who: by.Who, Source: by.Source,
		Subject: subject, Detail: detail})
}

func putEntry(ctx context.Context, tx *sqlx.Tx, e TrailEntry) error {
	d, err := json.Marshal(plainDetail(e.Detail))
	if err == nil {
		_, err = tx.ExecContext(ctx, putTrail, e.At.UTC(), e.Kind, e.Account, plainText(e.Who), e.Source,
			plainText(e.Subject), max(1, e.Times), string(d))
	}
	return err
}

// plainDetail is plainText for all texts of a detail.
func plainDetail(d map[string]any) map[string]any {
	out := map[string]any{}
	for k, v := range d {
		switch v := v.(type) {
		case string:
			out[k] = plainText(v)
		case []string:
			list := []string{}
			for _, s := range v {
				list = append(list, plainText(s))
			}
			out[k] = list
		case map[string]any:
			out[k] = plainDetail(v)
		default:
			out[k] = v
		}
	}
	return out
}

// plainText makes text of any bytes that PostgreSQL can keep.
func plainText(s string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "\uFFFD")
}

// PutTrail writes entries of the trail that no change goes with.
func (c *Catalog) PutTrail(ctx context.Context, entries ...TrailEntry) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		for _, e := range entries {
			if err := putEntry(ctx, tx, e); err != nil {
				return err
			}
		}
		return nil
	})
}

// TrailQuery asks for entries of the trail, latest first.
type TrailQuery struct {
	Before  int64  // an entry's id; 0 for the latest
	Account string // "": all accounts'
	Kinds   []string
	Who     string
	Subject string // the beginning of it
	Since   time.Time
	Until   time.Time
	Limit   int
}

// Trail gives a page of the trail.
func (c *Catalog) Trail(ctx context.Context, q TrailQuery) ([]TrailEntry, error) {
	for _, k := range q.Kinds {
		if !slices.Contains(access.TrailKinds, k) {
			return nil, fault.New(fault.Invalid, "trail-kind", "there is no kind %q of entries in the trail", k).In("kind").
				Do("choose from: %s", strings.Join(access.TrailKinds, ", "))
		}
	}
	w := where().when(q.Before != 0, `id < ?`, q.Before).when(q.Account != "", `account = ?`, q.Account).
		when(len(q.Kinds) > 0, `kind = any(?)`, q.Kinds).when(q.Who != "", `who in (?, 'person ' || ?)`, q.Who, q.Who).
		when(q.Subject != "", `starts_with(subject, ?)`, q.Subject).
		when(!q.Since.IsZero(), `at >= ?`, q.Since).when(!q.Until.IsZero(), `at < ?`, q.Until)
	rows, err := c.db.QueryContext(ctx, `select id, at, kind, account, who, source, subject, times, detail from trail
		where `+w.String()+` order by id desc limit `+w.arg(q.Limit), w.args...)
	if err != nil {
		return nil, mapError(err)
	}
	defer rows.Close()
	out := []TrailEntry{}
	for rows.Next() {
		var e TrailEntry
		var d []byte
		if err := rows.Scan(&e.ID, &e.At, &e.Kind, &e.Account, &e.Who, &e.Source, &e.Subject, &e.Times, &d); err != nil {
			return nil, mapError(err)
		}
		e.At = e.At.UTC()
		if err := json.Unmarshal(d, &e.Detail); err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, mapError(rows.Err())
}

// ForgetTrail removes what the trail has from before a moment.
func (c *Catalog) ForgetTrail(ctx context.Context, before time.Time) (int64, error) {
	r, err := c.db.ExecContext(ctx, `delete from trail where at < $1`, before)
	if err != nil {
		return 0, mapError(err)
	}
	return r.RowsAffected()
}
