package catalog

import (
	"context"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"spindle/internal/core/fault"
)

// EntryKind says what a journal entry tells of.
type EntryKind int16

// The kinds of journal entries; their numbers stand in the database.
const (
	ObjectWritten     EntryKind = 1
	ObjectRemoved     EntryKind = 2 // nothing is left of it
	ObjectDeleted     EntryKind = 3 // a delete marker hides its versions
	VersionRemoved    EntryKind = 4 // for good
	ObjectAnnotated   EntryKind = 5 // metadata or tags, by a new revision
	ObjectRestored    EntryKind = 6 // an earlier version written again
	ObjectRenamed     EntryKind = 7 // written under the new key
	ObjectCopied      EntryKind = 8
	ObjectRenamedAway EntryKind = 9  // removed from the old key
	VersionMoved      EntryKind = 13 // its body, to another tier
	CopyAsked         EntryKind = 14 // a restored copy was asked for
	CopyRestored      EntryKind = 15 // the restored copy is there
	CopyMended        EntryKind = 16 // a copy on another volume was made anew from a good one
	BucketCreated     EntryKind = 10
	BucketChanged     EntryKind = 11
	BucketRemoved     EntryKind = 12
	DamageFound       EntryKind = 20
	DamageMended      EntryKind = 21
)

var entryKinds = map[EntryKind]string{ObjectWritten: "written", ObjectRemoved: "removed", ObjectDeleted: "deleted",
	VersionRemoved:  "version removed",
	ObjectAnnotated: "annotated", ObjectRestored: "restored", ObjectRenamed: "renamed", ObjectCopied: "copied",
	ObjectRenamedAway: "renamed away", VersionMoved: "moved",
	CopyAsked: "copy asked for", CopyRestored: "copy restored", CopyMended: "copy mended",
	BucketCreated: "bucket created", BucketChanged: "bucket changed", BucketRemoved: "bucket removed",
	DamageFound: "damage found", DamageMended: "damage mended"}

// ParseEntryKind reads what String gives. The error has the code journal-kind.
func ParseEntryKind(s string) (EntryKind, error) {
	var names []string
	for k, name := range entryKinds {
		if name == s {
			return k, nil
		}
		names = append(names, name)
	}
	slices.Sort(names)
	return 0, fault.New(fault.Invalid, "journal-kind", "there is no kind %q of journal entries", s).In("kind").
		Do("choose from: %s", strings.Join(names, ", "))
}

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

// Position gives the entry's place in the journal, for JournalQuery.
func (e JournalEntry) Position() string { return fmt.Sprintf("%d.%d", e.XID, e.Seq) }

// JournalQuery asks for entries of the journal.
type JournalQuery struct {
	Before  string // a position: entries that stand before it, latest first; "" for the end
	After   string // a position: entries that stand after it, in order, instead; "0.0" is the beginning
	Bucket  string // by its name; "": all
	Prefix  string // of keys; "": all
	Account string // of its buckets; "": all
	Present bool   // only of buckets that are there: one made under the name of another has no part in its past
	Kinds   []EntryKind
	Who     string    // as access.Subject.By gives it, or a person's name
	Since   time.Time // inclusive; zero: from the beginning
	Until   time.Time // exclusive; zero: to the end
	Limit   int       // entries of the page, at least 1
	Gaps    bool      // what is in gaps too, as readers need it that live of the journal
	Known   string    // only what was committed after this snapshot; "": all
}

// JournalPage is a page of entries.
type JournalPage struct {
	Entries []JournalEntry
	Next    string    // the position to go on from, in either direction; "" when there is no more
	UpTo    time.Time // everything that committed before this moment has been looked at, once there is no more
}

// journalBudget is how many entries a page looks at before it is given short.
const journalBudget = 50_000

// ParsePosition reads a position in the journal. The error has the code position.
func ParsePosition(s string) (xid string, seq int64, err error) {
	x, q, ok := strings.Cut(s, ".")
	if _, perr := strconv.ParseUint(x, 10, 64); perr == nil && ok {
		if seq, perr = strconv.ParseInt(q, 10, 64); perr == nil {
			return x, seq, nil
		}
	}
	return "", 0, fault.New(fault.Invalid, "position", "%q is no position in the journal", s).In("position").
		Do("take it from an entry, or leave it out")
}

// Journal gives a page of entries. A page may be short, even empty, with a Next
// to go on from: filters are looked for in a stretch of the journal at a time.
// Read forward, entries stand below the oldest transaction under way, so that
// none can be missed that commits late.
func (c *Catalog) Journal(ctx context.Context, q JournalQuery) (*JournalPage, error) {
	forward := q.After != ""
	xid, seq := "18446744073709551615", int64(1<<62)
	var err error
	if forward {
		xid, seq, err = ParsePosition(q.After)
	} else if q.Before != "" {
		xid, seq, err = ParsePosition(q.Before)
	}
	if err != nil {
		return nil, err
	}
	page := &JournalPage{Entries: []JournalEntry{}}
	seen := where(xid, seq)
	order := "desc"
	if forward {
		order = "asc"
		seen.and("(j.xid, j.seq) > ($1::xid8, $2) and j." + belowHorizon)
	} else {
		seen.and("(j.xid, j.seq) < ($1::xid8, $2)")
	}
	if !q.Gaps {
		seen.and(outsideGaps)
	}
	seen.when(q.Known != "", `not pg_visible_in_snapshot(j.xid, ?::pg_snapshot)`, q.Known)
	seen.when(!q.Since.IsZero(), `j.at >= ?`, q.Since).when(!q.Until.IsZero(), `j.at < ?`, q.Until)
	hit := q.conditions(seen.args)
	stretch := q.Limit
	if len(hit.terms) > 0 {
		stretch = max(stretch, journalBudget)
	}
	// The moment is taken before the snapshot: what the page has is complete up to it.
	if err := c.db.GetContext(ctx, &page.UpTo, `select complete_up_to()`); err != nil {
		return nil, mapError(err)
	}
	page.UpTo = page.UpTo.UTC()
	rows, err := c.db.QueryContext(ctx, `with stretch as materialized (
			select j.*, row_number() over (order by j.xid `+order+`, j.seq `+order+`) as place from journal j
			where `+seen.String()+` order by j.xid `+order+`, j.seq `+order+` limit `+hit.arg(stretch)+`
		), hit as (
			select * from stretch where `+hit.String()+` order by place limit `+hit.arg(q.Limit)+`
		)
		select h.xid::text, h.seq, h.at, h.kind, coalesce(b.name, ''), h.key, coalesce(h.number, 0), h.size, h.d_bytes,
			h.who, h.source, h.detail, true, h.place
		from hit h left join buckets b on b.id = h.bucket
		union all (select xid::text, seq, now(), 0, '', null, place, 0, 0, '', '', null, false, place from stretch
			order by place desc limit 1)
		order by 13 desc, 14`, hit.args...)
	if err != nil {
		return nil, mapError(err)
	}
	defer rows.Close()
	return page, page.read(rows, q, stretch)
}

// read reads the entries of a page, and from where to go on when a stretch was looked through.
func (p *JournalPage) read(rows *sql.Rows, q JournalQuery, stretch int) error {
	var last JournalEntry // that was looked at
	looked, forward := int64(0), q.After != ""
	for rows.Next() {
		var e JournalEntry
		hit, err := e.scan(rows)
		if err != nil {
			return mapError(err)
		}
		if hit {
			p.Entries = append(p.Entries, e)
		} else {
			last, looked = e, e.Number
		}
	}
	switch {
	case rows.Err() != nil:
		return mapError(rows.Err())
	case len(p.Entries) == q.Limit:
		p.Next = p.Entries[q.Limit-1].Position()
	case looked == int64(stretch) || forward && looked > 0:
		p.Next = last.Position()
	case forward:
		p.Next = q.After
	}
	return nil
}

// scan reads an entry; one that is no hit is the last that was looked at, with how many
// were as its number.
func (e *JournalEntry) scan(rows *sql.Rows) (hit bool, err error) {
	var x string
	var key, detail []byte
	if err := rows.Scan(&x, &e.Seq, &e.At, &e.Kind, &e.Bucket, &key, &e.Number, &e.Size, &e.Bytes, &e.Who, &e.Source,
		&detail, &hit, new(int64)); err != nil {
		return false, err
	}
	e.Key, e.At = string(key), e.At.UTC()
	if e.XID, err = strconv.ParseUint(x, 10, 64); err != nil || detail == nil {
		return hit, err
	}
	if err := json.Unmarshal(detail, &e.Detail); err != nil {
		return false, err
	}
	for _, end := range []string{"from", "to"} {
		if m, ok := e.Detail[end].(map[string]any); ok {
			raw, err := hex.DecodeString(fmt.Sprint(m["key"]))
			if err != nil {
				return false, err
			}
			m["key"] = string(raw)
		}
	}
	return hit, nil
}

// conditions gives what entries of a stretch must have, in a statement with args
// already.
func (q *JournalQuery) conditions(args []any) *conditions {
	w := where(args...)
	switch {
	case q.Present && q.Bucket != "":
		w.and(`bucket in (select id from buckets where name = ? and removed is null)`, q.Bucket)
	case q.Present:
		w.and(`bucket in (select id from buckets where removed is null)`)
	case q.Bucket != "":
		w.and(`bucket in (select id from buckets where name = ?)`, q.Bucket)
	}
	kinds := make([]int16, len(q.Kinds))
	for i, k := range q.Kinds {
		kinds[i] = int16(k)
	}
	return w.beneath("key", q.Prefix).when(len(kinds) > 0, `kind = any(?)`, kinds).
		when(q.Who != "", `who in (?, 'person ' || ?)`, q.Who, q.Who).
		when(q.Account != "", `bucket in (select k.id from buckets k join accounts a on a.id = k.account where a.name = ?)`,
			q.Account)
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

// Days gives what each day since a day added, by bucket that still exists, in the order of days;
// account and bucket filter when they are not "". What was added before stands as one day before
// it, worked out from what is there: the past is not read. A zero since gives all.
func (c *Catalog) Days(ctx context.Context, since time.Time, account, bucket string) ([]Day, error) {
	return c.days(ctx, `b.name`, since, account, bucket)
}

// DaySums is Days of all buckets together: a row for each day, without names.
func (c *Catalog) DaySums(ctx context.Context, since time.Time, account string) ([]Day, error) {
	return c.days(ctx, `''::text`, since, account, "")
}

func (c *Catalog) days(ctx context.Context, name string, since time.Time, account, bucket string) ([]Day, error) {
	q := where().and(`b.removed is null`).when(bucket != "", `b.name = ?`, bucket).
		when(account != "", `a.name = ?`, account)
	const sums = `sum(u.written)::bigint as written, sum(u.removed)::bigint as removed, sum(u.objects)::bigint as objects,
		sum(u.bytes)::bigint as bytes, sum(u.prev)::bigint as prev, sum(u.prev_bytes)::bigint as prev_bytes`
	day := since.UTC().Format(time.DateOnly)
	if since.IsZero() {
		day = "-infinity"
	}
	from := ` join buckets b on b.id = u.bucket join accounts a on a.id = b.account where ` + q.String()
	statement := `with recent as materialized (select * from usage_days where day >= '` + day + `'::date)
		select u.day, ` + name + ` as bucket, ` + sums + ` from recent u` + from + ` group by 1, 2`
	if !since.IsZero() {
		statement += ` union all select '` + day + `'::date - 1, ` + name + `, ` + sums + ` from (
			select n.bucket, 0 as written, 0 as removed, n.objects - coalesce(r.objects, 0) as objects,
				n.bytes - coalesce(r.bytes, 0) as bytes, n.prev - coalesce(r.prev, 0) as prev,
				n.prev_bytes - coalesce(r.prev_bytes, 0) as prev_bytes
			from usage_now n left join (select bucket, sum(objects) as objects, sum(bytes) as bytes, sum(prev) as prev,
				sum(prev_bytes) as prev_bytes from recent group by bucket) r on r.bucket = n.bucket) u` + from + ` group by 1, 2
			having sum(u.objects) <> 0 or sum(u.bytes) <> 0 or sum(u.prev_bytes) <> 0`
	}
	var days []Day
	err := c.db.SelectContext(ctx, &days, statement+` order by 1, 2`, q.args...)
	return days, mapError(err)
}

// Changed gives what was added since a day, by bucket that still exists.
func (c *Catalog) Changed(ctx context.Context, since time.Time, account string) ([]Day, error) {
	q := where().and(`b.removed is null`).and(`u.day >= ?`, since).when(account != "", `a.name = ?`, account)
	var days []Day
	err := c.db.SelectContext(ctx, &days, `select max(u.day) as day, b.name as bucket, sum(u.written)::bigint as written,
		sum(u.removed)::bigint as removed, sum(u.objects)::bigint as objects, sum(u.bytes)::bigint as bytes,
		sum(u.prev)::bigint as prev, sum(u.prev_bytes)::bigint as prev_bytes
		from usage_days u join buckets b on b.id = u.bucket join accounts a on a.id = b.account
		where `+q.String()+` group by b.name order by b.name`, q.args...)
	return days, mapError(err)
}
