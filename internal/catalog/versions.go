package catalog

import (
	"context"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

var anyVersion = `select * from (
	select ` + versionColumns + ` from heads h where bucket = $1 and key = $2
	union all select ` + versionColumns + ` from history h where bucket = $1 and key = $2) v `

func (c *Catalog) one(ctx context.Context, key object.Key, q string, in ...any) (*object.Version, error) {
	var row headRow
	err := c.db.GetContext(ctx, &row, q, in...)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, VersionMissing()
	}
	if err != nil {
		return nil, mapError(err)
	}
	return row.version(key)
}

// FindVersion gives a version of a key, which may be a delete marker. The error
// for none has the code version-missing.
func (c *Catalog) FindVersion(ctx context.Context, bucket int64, key object.Key, id object.VersionID) (*object.Version,
	error) {
	if id == object.Plain {
		return c.one(ctx, key, anyVersion+`where plain limit 1`, bucket, []byte(key.String()))
	}
	return c.one(ctx, key, anyVersion+`where number = $3 limit 1`, bucket, []byte(key.String()), int64(id))
}

// FindAsOf gives the version of a key that was current at a moment, with the
// metadata of that moment; a delete marker when it was deleted. The error for
// none has the code version-missing.
func (c *Catalog) FindAsOf(ctx context.Context, bucket int64, key object.Key, at time.Time) (*object.Version, error) {
	v, err := c.one(ctx, key, `select `+versionColumns+` from (select * from (select `+keyedColumns+` from heads h
		where bucket = $1 and key = $2 and created <= $3
			union all (select `+keyedColumns+` from history h where bucket = $1 and key = $2 and created <= $3
				order by number desc limit 1)) x order by number desc limit 1) h`,
		bucket, []byte(key.String()), at)
	if err != nil {
		return nil, err
	}
	return v, c.metadataAsOf(ctx, bucket, []*object.Version{v}, at)
}

// metadataAsOf sets versions back to the metadata they had at a moment.
func (c *Catalog) metadataAsOf(ctx context.Context, bucket int64, versions []*object.Version, at time.Time) error {
	by := map[int64]*object.Version{}
	var keys [][]byte
	var numbers []int64
	for _, v := range versions {
		if v != nil && v.Revision > 1 {
			by[v.Number] = v
			keys, numbers = append(keys, []byte(v.Key.String())), append(numbers, v.Number)
		}
	}
	if len(by) == 0 {
		return nil
	}
	var rows []revisionRow
	if err := c.db.SelectContext(ctx, &rows, `select r.* from unnest($2::bytea[], $3::bigint[]) q(k, n)
		cross join lateral (select number, revision, until, content_type, headers, metadata, tags, who, source from revisions
			where bucket = $1 and key = q.k and number = q.n and until > $4
				order by revision limit 1) r`, bucket, keys, numbers, at); err != nil {
		return mapError(err)
	}
	for _, r := range rows {
		v := by[r.Number]
		rev, err := r.revision()
		if err != nil {
			return err
		}
		v.Revision, v.Headers, v.Metadata, v.Tags = rev.Number, rev.Headers, rev.Metadata, rev.Tags
	}
	return nil
}

type revisionRow struct {
	Number      int64     `db:"number"`
	Revision    int       `db:"revision"`
	Until       time.Time `db:"until"`
	ContentType string    `db:"content_type"`
	Headers     []byte    `db:"headers"`
	Metadata    []byte    `db:"metadata"`
	Tags        []byte    `db:"tags"`
	Who         string    `db:"who"`
	Source      string    `db:"source"`
}

// Revision is what a version's metadata was before a change of it.
type Revision struct {
	Number   int       // of the revision
	Until    time.Time // when the change came
	Who      string    // who made the change
	Source   string
	Headers  object.Headers
	Metadata object.Metadata
	Tags     object.Tags
}

func (r *revisionRow) revision() (rev Revision, err error) {
	rev = Revision{Number: r.Revision, Until: r.Until.UTC(), Who: r.Who, Source: r.Source}
	for from, into := range map[*[]byte]any{&r.Headers: &rev.Headers, &r.Metadata: &rev.Metadata, &r.Tags: &rev.Tags} {
		if *from != nil {
			if err := json.Unmarshal(*from, into); err != nil {
				return rev, err
			}
		}
	}
	rev.Headers.ContentType = r.ContentType
	return rev, nil
}

// PastVersion is a version in the history of a key.
type PastVersion struct {
	Version   *object.Version
	Replaced  time.Time      // zero for the latest
	Origin    *object.Origin // nil when it was simply written
	Revisions []Revision     // earlier metadata, first one first
}

// History is a page of a key's history.
type History struct {
	Versions []PastVersion // newest first
	More     bool
	Went     []object.Origin // where the key was renamed to, and when; on the first page
}

// History gives versions of a key, newest first, that are older than a number
// (0: from the newest). A key that never was has none.
func (c *Catalog) History(ctx context.Context, bucket int64, key object.Key, before int64, limit int) (*History,
	error) {
	if before == 0 {
		before = 1<<63 - 1
	}
	var rows []struct {
		headRow
		Replaced sql.NullTime `db:"replaced"`
	}
	raw := []byte(key.String())
	if err := c.db.SelectContext(ctx, &rows, `select `+versionColumns+`, replaced from (
		select `+keyedColumns+`, null::timestamptz as replaced from heads h where bucket = $1 and key = $2 and number < $3
		union all (select `+keyedColumns+`, replaced from history h where bucket = $1 and key = $2 and number < $3
			order by number desc limit $4)) h order by number desc limit $4`,
		bucket, raw, before, limit+1); err != nil {
		return nil, mapError(err)
	}
	h := &History{More: len(rows) > limit}
	if h.More {
		rows = rows[:limit]
	}
	h.Versions = make([]PastVersion, len(rows))
	at := map[int64]*PastVersion{}
	for i := range rows {
		v, err := rows[i].version(key)
		if err != nil {
			return nil, err
		}
		h.Versions[i].Version = v
		if rows[i].Replaced.Valid {
			h.Versions[i].Replaced = rows[i].Replaced.Time.UTC()
		}
		at[v.Number] = &h.Versions[i]
	}
	err := c.revisionsOf(ctx, bucket, raw, at)
	if err == nil {
		err = c.originsOf(ctx, bucket, raw, at)
	}
	if err == nil && before == 1<<63-1 {
		h.Went, err = c.went(ctx, bucket, raw)
	}
	return h, err
}

// revisionsOf adds the earlier metadata of versions of a key.
func (c *Catalog) revisionsOf(ctx context.Context, bucket int64, key []byte, at map[int64]*PastVersion) error {
	var revs []revisionRow
	if err := c.db.SelectContext(ctx, &revs, `select number, revision, until, content_type, headers, metadata, tags, who,
		source from revisions
		where bucket = $1 and key = $2 and number = any($3) order by number,
			revision limit 10000`, bucket, key, slices.Collect(maps.Keys(at))); err != nil {
		return mapError(err)
	}
	for _, r := range revs {
		rev, err := r.revision()
		if err != nil {
			return err
		}
		at[r.Number].Revisions = append(at[r.Number].Revisions, rev)
	}
	return nil
}

// lineageRow tells where a version came from, or went to.
type lineageRow struct {
	Number int64     `db:"number"`
	How    EntryKind `db:"how"`
	At     time.Time `db:"at"`
	Who    string    `db:"who"`
	Bucket string    `db:"bucket"`
	Key    []byte    `db:"key"`
	Other  int64     `db:"other"`
}

func (l *lineageRow) origin() object.Origin {
	return object.Origin{How: l.How.String(), Bucket: l.Bucket, Key: string(l.Key), ID: object.VersionID(l.Other),
		At: l.At.UTC(), Who: l.Who}
}

// originsOf adds to versions of a key where they came from.
func (c *Catalog) originsOf(ctx context.Context, bucket int64, key []byte, at map[int64]*PastVersion) error {
	var lines []lineageRow
	if err := c.db.SelectContext(ctx, &lines, `select l.to_number as number, l.how, l.at, l.who, coalesce(b.name,
		'') as bucket, l.from_key as key, l.from_number as other
		from lineage l left join buckets b on b.id = l.from_bucket where l.to_bucket = $1 and l.to_key = $2
			and l.to_number = any($3)`, bucket, key, slices.Collect(maps.Keys(at))); err != nil {
		return mapError(err)
	}
	for _, l := range lines {
		o := l.origin()
		at[l.Number].Origin = &o
	}
	return nil
}

// went tells where a key was renamed to, and when.
func (c *Catalog) went(ctx context.Context, bucket int64, key []byte) (out []object.Origin, err error) {
	var lines []lineageRow
	if err := c.db.SelectContext(ctx, &lines, `select l.from_number as number, l.how, l.at, l.who, coalesce(b.name,
		'') as bucket, l.to_key as key, l.to_number as other
		from lineage l left join buckets b on b.id = l.to_bucket where l.from_bucket = $1 and l.from_key = $2 and l.how = $3
			order by l.at desc limit 100`, bucket, key, int16(ObjectRenamed)); err != nil {
		return nil, mapError(err)
	}
	for _, l := range lines {
		out = append(out, l.origin())
	}
	return out, nil
}

// Versions asks for a page of all versions of a bucket's keys: keys in byte
// order, the versions of each newest first.
type Versions struct {
	Bucket      int64
	Prefix      string
	Delimiter   string // "": flat
	After       string // exclusive; a key or a folded prefix
	AfterNumber int64  // with After: begin with its versions older than this one; 0: with the next key
	Max         int
}

// Listed is a version in a listing of versions, or a folded prefix.
type Listed struct {
	Prefix  string
	Version *object.Version // nil for a prefix
	Latest  bool
}

const listedColumns = `key, number, revision, h.created, size, md5, parts, crc64, checksum_kind, checksum, tier,
	written_by, plain, marker`

// ListVersions gives a page and whether more follows. It costs what the page
// costs.
func (c *Catalog) ListVersions(ctx context.Context, l Versions) (page []Listed, more bool, err error) {
	until := endOf(l.Prefix)
	add := func(r *row) error {
		e, err := entryOf(&r.headRow)
		page = append(page, Listed{Version: e.Version, Latest: r.Latest})
		return err
	}
	if l.After != "" && l.AfterNumber > 0 {
		// What is left of the key where the page before ended.
		if err := c.rows(ctx, add, `select `+listedColumns+`, false as latest from history h where bucket = $1 and key = $2
			and number < $3 order by number desc limit $4`,
			l.Bucket, []byte(l.After), l.AfterNumber, l.Max+1); err != nil {
			return nil, false, err
		}
	}
	if l.Delimiter == "" {
		if want := l.Max + 1 - len(page); want > 0 {
			if err := c.rows(ctx, add, `select * from (
				(select `+listedColumns+`, true as latest from heads h where bucket = $1 and key >= $2 and key > $3
				and key < $4 order by key limit $5)
				union all (select `+listedColumns+`, false as latest from history h where bucket = $1 and key >= $2 and key > $3
				and key < $4
					order by key, number desc limit $5)) x order by key, number desc limit $5`,
				l.Bucket, []byte(l.Prefix), []byte(l.After), until, want); err != nil {
				return nil, false, err
			}
		}
		return inOrder(page, l.Max)
	}
	// Keys and folded prefixes first, then the versions of the keys.
	var names []struct {
		Name   []byte `db:"key"`
		Folded bool   `db:"folded"`
	}
	if err := c.db.SelectContext(ctx, &names, `select key, folded from list_folded($1, $2, $3, $4, $5, $6, true)`,
		l.Bucket, []byte(l.Prefix), []byte(l.Delimiter), []byte(l.After), until, l.Max+1); err != nil {
		return nil, false, mapError(err)
	}
	for len(names) > 0 && len(page) <= l.Max {
		var keys [][]byte
		for len(names) > 0 && len(keys) < 100 {
			if n := names[0]; n.Folded {
				page = append(page, Listed{Prefix: string(n.Name)})
			} else {
				keys = append(keys, n.Name)
			}
			names = names[1:]
		}
		if err := c.rows(ctx, add, `select v.* from unnest($2::bytea[]) with ordinality q(k, i) cross
			join lateral (
			select * from (select `+listedColumns+`, true as latest from heads h where bucket = $1 and key = q.k
			union all (select `+listedColumns+`, false as latest from history h where bucket = $1 and key = q.k
			order by number desc limit $3)) y order by number desc limit $3) v
			order by q.i, v.number desc limit $3`, l.Bucket, keys, l.Max+1); err != nil {
			return nil, false, err
		}
	}
	return inOrder(page, l.Max)
}

// inOrder brings versions and folded prefixes into the order of names.
func inOrder(page []Listed, most int) ([]Listed, bool, error) {
	slices.SortStableFunc(page, func(a, b Listed) int {
		if x, y := a.Name(), b.Name(); x != y {
			if x < y {
				return -1
			}
			return 1
		}
		return 0
	})
	if len(page) > most {
		return page[:most], true, nil
	}
	return page, false, nil
}

// Name gives the key or the prefix.
func (l Listed) Name() string {
	if l.Version != nil {
		return l.Version.Key.String()
	}
	return l.Prefix
}

// asOfBudget is how many keys a page as of a moment looks at before it is given
// short.
const asOfBudget = 20_000

// ListAsOf gives a page of a bucket as it stood at a moment. The page may be
// short although more follows: go on after next, until it is "".
func (c *Catalog) ListAsOf(ctx context.Context, l Listing, at time.Time) (page []Entry, next string, err error) {
	until := endOf(l.Prefix)
	var versions []*object.Version
	last := "" // as far as it looked
	err = c.rows(ctx, func(r *row) error {
		last = string(r.Name)
		if len(page) == l.Max {
			next = page[l.Max-1].Name()
			return nil
		}
		switch {
		case r.Folded:
			page, last = append(page, Entry{Prefix: last}), ""
		case r.Number.Valid:
			r.Key = r.Name
			e, err := entryOf(&r.headRow)
			page, versions, last = append(page, e), append(versions, e.Version), ""
			return err
		}
		return nil // without either it was removed between the two looks, unless it is where the budget ended
	}, `select f.key as name, f.folded, `+versionColumns+`
		from list_as_of($1, $2, $3, $4, $5, $6, $7, $8) with ordinality f(key, folded, wanted, i)
		left join lateral (select * from (select `+keyedColumns+` from heads h where bucket = $1 and key = f.key
		and number = f.wanted
			union all select `+keyedColumns+` from history h where bucket = $1 and key = f.key
				and number = f.wanted) x limit 1) h on true order by f.i`,
		l.Bucket, []byte(l.Prefix), []byte(l.Delimiter), []byte(l.After), until, at, l.Max+1, asOfBudget)
	if err != nil {
		return nil, "", err
	}
	if next == "" {
		next = last
	}
	if !l.Full {
		return page, next, nil
	}
	return page, next, c.metadataAsOf(ctx, l.Bucket, versions, at)
}

// BucketBefore reports whether a bucket was there at a moment: the error for
// none has the code bucket-later.
func BucketBefore(f BucketFacts, at time.Time) error {
	if at.Before(f.Created) {
		return fault.New(fault.NotFound, "bucket-later", "the bucket was created at %s, after the moment asked for",
			f.Created.UTC().Format(time.RFC3339)).
			In("as-of").Do("choose a later moment")
	}
	return nil
}

// Purge removes all versions and delete markers of some keys, for good, and says what went.
// Keys of which a version is retained stay as they are: it names them.
func (c *Catalog) Purge(ctx context.Context, bucket int64, keys []string, by Author) (Usage, []string, error) {
	raw := make([][]byte, len(keys))
	for i, k := range keys {
		raw[i] = []byte(k)
	}
	var row struct {
		Usage
		Stay string `db:"stay"` // in hex, with spaces between them
	}
	err := retry(ctx, func(int) error {
		return c.inTx(ctx, func(tx *sqlx.Tx) error {
			return tx.GetContext(ctx, &row, `select objects, bytes, prev, prev_bytes, markers,
				array_to_string(array(select encode(k, 'hex') from unnest(stay) k order by k), ' ') as stay
				from purge_keys($1, $2, $3, $4, $5)`, bucket, raw, by.At, by.Who, by.Source)
		})
	})
	if err != nil {
		return Usage{}, nil, err
	}
	var stay []string
	for text := range strings.FieldsSeq(row.Stay) {
		k, err := hex.DecodeString(text)
		if err != nil {
			return Usage{}, nil, err
		}
		stay = append(stay, string(k))
	}
	return row.Usage, stay, nil
}

// Keys gives keys beneath a prefix after one, those whose current version is a
// delete marker too.
func (c *Catalog) Keys(ctx context.Context, bucket int64, prefix, after string, limit int) ([]string, error) {
	until := endOf(prefix)
	var raw [][]byte
	err := c.db.SelectContext(ctx, &raw,
		`select key from heads where bucket = $1 and key >= $2 and key > $3 and key < $4 order by key
			limit $5`,
		bucket, []byte(prefix), []byte(after), until, limit)
	keys := make([]string, len(raw))
	for i, k := range raw {
		keys[i] = string(k)
	}
	return keys, mapError(err)
}

// CountAll gives what lies beneath a prefix, previous versions and delete
// markers too. It reads them all: for rehearsals.
func (c *Catalog) CountAll(ctx context.Context, bucket int64, prefix string) (Usage, error) {
	until := endOf(prefix)
	var u Usage
	err := c.db.GetContext(ctx, &u, `select h.objects, h.bytes, p.prev, p.prev_bytes, h.markers + p.markers as markers from
		(select count(*) filter (where not marker) as objects, coalesce(sum(size), 0)::bigint as bytes,
			count(*) filter (where marker) as markers from heads
			where bucket = $1 and key >= $2 and key < $3) h,
		(select count(*) filter (where not marker) as prev, coalesce(sum(size), 0)::bigint as prev_bytes,
			count(*) filter (where marker) as markers from history
			where bucket = $1 and key >= $2 and key < $3) p`, bucket, []byte(prefix), until)
	return u, mapError(err)
}

// Taken gives those of keys that have an object, in byte order.
func (c *Catalog) Taken(ctx context.Context, bucket int64, keys []string) ([]string, error) {
	raw := make([][]byte, len(keys))
	for i, k := range keys {
		raw[i] = []byte(k)
	}
	var found [][]byte
	err := c.db.SelectContext(ctx, &found,
		`select h.key from unnest($2::bytea[]) k cross join lateral (select key from heads where bucket = $1 and key = k
			and not marker limit 1) h order by 1`, bucket, raw)
	out := make([]string, len(found))
	for i, k := range found {
		out[i] = string(k)
	}
	return out, mapError(err)
}

// CountKeys gives the number and bytes of the current objects of some keys.
func (c *Catalog) CountKeys(ctx context.Context, bucket int64, keys []string) (objects, bytes int64, err error) {
	raw := make([][]byte, len(keys))
	for i, k := range keys {
		raw[i] = []byte(k)
	}
	err = c.db.QueryRowxContext(ctx, `select count(*), coalesce(sum(h.size), 0)::bigint from (select distinct k
		from unnest($2::bytea[]) k) k
		cross join lateral (select size from heads where bucket = $1 and key = k.k
			and not marker limit 1) h`, bucket, raw).Scan(&objects, &bytes)
	return objects, bytes, mapError(err)
}
