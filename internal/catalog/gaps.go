package catalog

import (
	"context"
	"database/sql"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/bucket"
)

// Gap is a time of which the journal of a bucket has no changes of objects.
type Gap struct {
	Since time.Time  `db:"since"` // the zero time: from the beginning
	Until *time.Time `db:"until"` // nil: it goes on
}

// outsideGaps asks that an entry that the statement calls j is not left out. Changes of
// settings are in the journal while it is paused, too.
const outsideGaps = `not exists (select 1 from journal_gaps g where g.bucket = j.bucket and j.at >= g.since
	and (g.until is null or j.at < g.until) and (j.key is not null or g.since = '-infinity'))`

// pauseJournal begins or ends a gap, where settings say so.
func pauseJournal(ctx context.Context, tx *sqlx.Tx, id int64, before, after bucket.Journal) (err error) {
	switch {
	case after.Paused == before.Paused:
	case after.Paused:
		_, err = tx.ExecContext(ctx, `insert into journal_gaps (bucket, since, cleared)
			values ($1, clock_timestamp(), clock_timestamp())`, id)
	default:
		_, err = tx.ExecContext(ctx, `update journal_gaps set until = now() where bucket = $1 and until is null`, id)
	}
	return err
}

// Gaps gives what the journal of a bucket leaves out, latest first, 100 at the most.
func (c *Catalog) Gaps(ctx context.Context, id int64) ([]Gap, error) {
	gaps := []Gap{}
	err := c.db.SelectContext(ctx, &gaps, `select case when since = '-infinity' then '0001-01-01'::timestamptz
		else since end as since, until
		from journal_gaps g where bucket = $1 order by g.since desc limit 100`, id)
	return gaps, mapError(err)
}

// gapStep is how much of a gap is cleared in a transaction.
const gapStep = 6 * time.Hour

// ClearGaps removes what journals leave out and every follower has read, and says how many
// entries that were.
func (c *Catalog) ClearGaps(ctx context.Context) (gone int64, err error) {
	if _, err := c.db.ExecContext(ctx, `insert into journal_gaps (bucket, since, until, cleared)
		select id, '-infinity', now() - make_interval(days => journal_days), '-infinity' from buckets where journal_days > 0
		on conflict (bucket, since) do update set until = greatest(journal_gaps.until, excluded.until)`); err != nil {
		return 0, mapError(err)
	}
	var open []openGap
	if err := c.db.SelectContext(ctx, &open, `select g.bucket, g.since::text, greatest(g.since, g.cleared,
		coalesce(m.first, (select min(at) from journal), g.until)) as begin, g.until,
		least(coalesce(g.until, now()), f.upto - interval '1 hour') as safe
		from journal_gaps g, (select (min(to_date(substring(c.relname
		from 9), 'YYYY_MM'))::timestamp at time zone 'UTC') as first
			from pg_inherits i join pg_class c on c.oid = i.inhrelid where i.inhparent = 'journal'::regclass
			and c.relname ~ '^journal_\d{4}_\d{2}$') m,
		lateral (select min(upto) as upto from followers where name not like 'lifecycle of %'
		or name = 'lifecycle of ' || g.bucket) f
		where g.until is null or g.cleared < g.until`); err != nil {
		return 0, mapError(err)
	}
	for i := range open {
		n, err := c.clearGap(ctx, &open[i])
		if gone += n; err != nil {
			return gone, mapError(err)
		}
	}
	return gone, nil
}

// openGap is a gap of which entries may be left.
type openGap struct {
	Bucket int64      `db:"bucket"`
	Since  string     `db:"since"`
	Begin  time.Time  `db:"begin"` // nothing older is left
	Until  *time.Time `db:"until"`
	Safe   time.Time  `db:"safe"` // older ones every follower has read, and no transaction adds any
}

// clearGap goes through what is left of a gap. What a transaction may still add, or a follower
// has not read, is looked at again by the next call.
func (c *Catalog) clearGap(ctx context.Context, g *openGap) (gone int64, err error) {
	at := g.Begin
	for at.Before(g.Safe) {
		to := at.Add(gapStep)
		if to.After(g.Safe) {
			to = g.Safe
		}
		n, err := c.clearSpan(ctx, g, at, &to)
		if gone += n; err != nil {
			return gone, err
		}
		at = to
		if _, err := c.db.ExecContext(ctx, `update journal_gaps set cleared = greatest(cleared, $3) where bucket = $1
			and since = $2::timestamptz`, g.Bucket, g.Since, at); err != nil {
			return gone, err
		}
	}
	n, err := c.clearSpan(ctx, g, at, g.Until)
	return gone + n, err
}

// clearSpan removes what every follower has read of a stretch of a gap. The places are
// compared so that no index answers for them: the stretch is the smaller part.
func (c *Catalog) clearSpan(ctx context.Context, g *openGap, from time.Time, to *time.Time) (int64, error) {
	r, err := c.db.ExecContext(ctx, `delete from journal where bucket = $1 and at >= $2
		and at < coalesce($3::timestamptz, 'infinity'::timestamptz)
		and (key is not null or $4::timestamptz = '-infinity')
		and not ((xid, seq) > (select f.xid, f.seq from followers f where f.name not like 'lifecycle of %' or f.name = $5
			order by f.xid, f.seq limit 1))`, g.Bucket, from, to, g.Since, followerOf(g.Bucket))
	if err != nil {
		return 0, err
	}
	return r.RowsAffected()
}

// JournalSize is what the journal of a bucket has.
type JournalSize struct {
	Entries int64        `db:"entries"`
	Bytes   int64        `db:"bytes"` // of the disk
	First   sql.NullTime `db:"first"`
	About   bool         `db:"-"` // it was worked out from a part
}

// exactPages is how many pages of a journal are read to say what it has; of a longer one a
// part is, by chance.
const exactPages = 20_000

// JournalSize says what the journal of a bucket has and occupies.
func (c *Catalog) JournalSize(ctx context.Context, id int64) (s JournalSize, err error) {
	var whole struct {
		Pages float64 `db:"pages"`
		Share float64 `db:"share"` // of tables with their indexes, to the tables alone
	}
	if err := c.db.GetContext(ctx, &whole, `select sum(pg_relation_size(inhrelid) / 8192)::float8 as pages,
		coalesce(sum(pg_total_relation_size(inhrelid))::float8 / nullif(sum(pg_relation_size(inhrelid)), 0), 1) as share
		from pg_inherits where inhparent = 'journal'::regclass`); err != nil {
		return s, mapError(err)
	}
	part, from := 1.0, `journal j`
	if whole.Pages > exactPages {
		part, s.About = exactPages/whole.Pages, true
		from = `journal j tablesample system ($3)`
	}
	args := []any{id, whole.Share / part}
	if s.About {
		args = append(args, 100*part)
	}
	// A row has a pointer of 4 bytes in its page beside itself.
	err = c.db.GetContext(ctx, &s, `select count(*) as entries, coalesce(sum(pg_column_size(j.*) + 4) * $2::float8,
		0)::bigint as bytes,
		min(j.at) as first from `+from+` where j.bucket = $1`, args...)
	s.Entries = int64(float64(s.Entries) / part)
	return s, mapError(err)
}

// JournalOlder counts the entries of a bucket from before a moment.
func (c *Catalog) JournalOlder(ctx context.Context, id int64, before time.Time) (n int64, err error) {
	err = c.db.GetContext(ctx, &n, `select count(*) from journal j where j.bucket = $1 and j.at < $2 and `+outsideGaps, id,
		before)
	return n, mapError(err)
}
