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
		_, err = tx.ExecContext(ctx, `insert into journal_gaps (bucket, since, cleared) values ($1, clock_timestamp(), clock_timestamp())`, id)
	default:
		_, err = tx.ExecContext(ctx, `update journal_gaps set until = now() where bucket = $1 and until is null`, id)
	}
	return err
}

// Gaps gives what the journal of a bucket leaves out, latest first, 100 at the most.
func (c *Catalog) Gaps(ctx context.Context, id int64) ([]Gap, error) {
	gaps := []Gap{}
	err := c.db.SelectContext(ctx, &gaps, `select case when since = '-infinity' then '0001-01-01'::timestamptz else since end as since, until
		from journal_gaps g where bucket = $1 order by g.since desc limit 100`, id)
	return gaps, mapError(err)
}

// gapStep is how many entries are removed in a transaction.
const gapStep = 5_000

// ClearGaps removes what journals leave out and every follower has read, and says how many
// entries that were.
func (c *Catalog) ClearGaps(ctx context.Context) (gone int64, err error) {
	if _, err := c.db.ExecContext(ctx, `insert into journal_gaps (bucket, since, until, cleared)
		select id, '-infinity', now() - make_interval(days => journal_days), '-infinity' from buckets where journal_days > 0
		on conflict (bucket, since) do update set until = greatest(journal_gaps.until, excluded.until)`); err != nil {
		return 0, mapError(err)
	}
	var open []struct {
		Bucket int64  `db:"bucket"`
		Since  string `db:"since"`
	}
	if err := c.db.SelectContext(ctx, &open, `select bucket, since::text from journal_gaps where until is null or cleared < until`); err != nil {
		return 0, mapError(err)
	}
	for _, g := range open {
		n, err := c.clearGap(ctx, g.Bucket, g.Since)
		if gone += n; err != nil {
			return gone, mapError(err)
		}
	}
	return gone, nil
}

// clearGap goes through what has not been looked at of a gap. What a transaction may still
// add, or a follower has not read, is looked at again.
func (c *Catalog) clearGap(ctx context.Context, id int64, since string) (gone int64, err error) {
	for {
		var n int64
		if err := c.db.GetContext(ctx, &n, `with read as (
				select f.xid, f.seq from followers f where f.name not like 'lifecycle of %' or f.name = $3 order by 1, 2 limit 1),
			out_ as (select j.tableoid, j.ctid from journal j, journal_gaps g, read
				where g.bucket = $1 and g.since = $2::timestamptz and j.bucket = $1 and j.at >= greatest(g.since, g.cleared)
				and (g.until is null or j.at < g.until) and (j.key is not null or g.since = '-infinity') and (j.xid, j.seq) <= (read.xid, read.seq)
				limit $4),
			went as (delete from journal j using out_ where j.tableoid = out_.tableoid and j.ctid = out_.ctid returning 1)
			select count(*) from went`, id, since, followerOf(id), gapStep); err != nil {
			return gone, err
		}
		if gone += n; n < gapStep {
			break
		}
	}
	_, err = c.db.ExecContext(ctx, `update journal_gaps g set cleared = greatest(g.cleared, least(g.until, x.upto - interval '1 hour'))
		from (select min(f.upto) as upto from followers f where f.name not like 'lifecycle of %' or f.name = $3) x
		where g.bucket = $1 and g.since = $2::timestamptz`, id, since, followerOf(id))
	return gone, err
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
	err = c.db.GetContext(ctx, &s, `select count(*) as entries, coalesce(sum(pg_column_size(j.*) + 4) * $2::float8, 0)::bigint as bytes,
		min(j.at) as first from `+from+` where j.bucket = $1`, args...)
	s.Entries = int64(float64(s.Entries) / part)
	return s, mapError(err)
}

// JournalOlder counts the entries of a bucket from before a moment.
func (c *Catalog) JournalOlder(ctx context.Context, id int64, before time.Time) (n int64, err error) {
	err = c.db.GetContext(ctx, &n, `select count(*) from journal j where j.bucket = $1 and j.at < $2 and `+outsideGaps, id, before)
	return n, mapError(err)
}
