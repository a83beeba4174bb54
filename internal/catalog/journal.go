package catalog

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"spindle/internal/core/fault"
)

// EntryKind says what a journal entry tells of.
type EntryKind int16

// The kinds of journal entries; their numbers stand in the database.
const (
	ObjectWritten EntryKind = 1
	ObjectRemoved EntryKind = 2
	BucketCreated EntryKind = 10
	BucketChanged EntryKind = 11
	BucketRemoved EntryKind = 12
	DamageFound   EntryKind = 20
	DamageMended  EntryKind = 21
)

var entryKinds = map[EntryKind]string{ObjectWritten: "written", ObjectRemoved: "removed", BucketCreated: "bucket created",
	BucketChanged: "bucket changed", BucketRemoved: "bucket removed", DamageFound: "damage found", DamageMended: "damage mended"}

func (k EntryKind) String() string { return entryKinds[k] }

// JournalEntry is one change.
type JournalEntry struct {
	XID    uint64
	Seq    int64
	At     time.Time
	Kind   EntryKind
	Bucket string
	Key    string
	Number int64
	Size   int64
	Bytes  int64 // what it added to the bucket's current bytes
	Who    string
	Source string
	Detail map[string]any
}

// Position gives the entry's place in the journal, for JournalBefore.
func (e JournalEntry) Position() string { return fmt.Sprintf("%d.%d", e.XID, e.Seq) }

// JournalBefore gives a page of entries, latest first, that stand before a
// position (of JournalEntry.Position; "" for the end). Bucket "" means all.
func (c *Catalog) JournalBefore(ctx context.Context, position, bucket string, limit int) ([]JournalEntry, error) {
	xid, seq := "18446744073709551615", int64(1<<62)
	if position != "" {
		x, s, ok := strings.Cut(position, ".")
		if _, err := strconv.ParseUint(x, 10, 64); err != nil || !ok {
			return nil, fault.New(fault.Invalid, "position", "this is no position in the journal").In("before")
		}
		n, err := strconv.ParseInt(s, 10, 64)
		if err != nil {
			return nil, fault.New(fault.Invalid, "position", "this is no position in the journal").In("before")
		}
		xid, seq = x, n
	}
	rows, err := c.db.QueryContext(ctx, `select j.xid::text, j.seq, j.at, j.kind, coalesce(b.name, ''), j.key, coalesce(j.number, 0), j.size, j.d_bytes, j.who, j.source, j.detail
		from journal j left join buckets b on b.id = j.bucket
		where (j.xid, j.seq) < ($1::xid8, $2) and ($3 = '' or j.bucket in (select id from buckets where name = $3))
		order by j.xid desc, j.seq desc limit $4`, xid, seq, bucket, limit)
	if err != nil {
		return nil, mapError(err)
	}
	defer rows.Close()
	var out []JournalEntry
	for rows.Next() {
		var e JournalEntry
		var x string
		var key, detail []byte
		if err := rows.Scan(&x, &e.Seq, &e.At, &e.Kind, &e.Bucket, &key, &e.Number, &e.Size, &e.Bytes, &e.Who, &e.Source, &detail); err != nil {
			return nil, mapError(err)
		}
		if e.XID, err = strconv.ParseUint(x, 10, 64); err != nil {
			return nil, err
		}
		e.Key, e.At = string(key), e.At.UTC()
		if detail != nil {
			if err := json.Unmarshal(detail, &e.Detail); err != nil {
				return nil, err
			}
		}
		out = append(out, e)
	}
	return out, mapError(rows.Err())
}

// RollUp moves the usage follower on by at most limit entries and says how
// many it read. It holds one short transaction.
func (c *Catalog) RollUp(ctx context.Context, limit int) (int, error) {
	var n int
	err := c.db.GetContext(ctx, &n, `select roll_up_usage($1)`, limit)
	return n, mapError(err)
}

// CompleteUpTo gives the moment up to which the usage follower has read.
func (c *Catalog) CompleteUpTo(ctx context.Context) (time.Time, error) {
	var t time.Time
	err := c.db.GetContext(ctx, &t, `select upto from followers where name = 'usage'`)
	return t.UTC(), mapError(err)
}

// Day is what one day added to a bucket, or to all.
type Day struct {
	Day     time.Time `db:"day"`
	Bucket  string    `db:"bucket"`
	Written int64     `db:"written"`
	Removed int64     `db:"removed"`
	Usage
}

// Days gives what each day since a day added, by bucket that still exists.
func (c *Catalog) Days(ctx context.Context, since time.Time, bucket string) ([]Day, error) {
	var days []Day
	err := c.db.SelectContext(ctx, &days, `select u.day, b.name as bucket, u.written, u.removed, u.objects, u.bytes, u.prev, u.prev_bytes
		from usage_days u join buckets b on b.id = u.bucket and b.removed is null where u.day >= $1 and ($2 = '' or b.name = $2) order by u.day, b.name`, since, bucket)
	return days, mapError(err)
}
