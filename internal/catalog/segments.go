package catalog

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/census"
	"spindle/internal/core/columns"
	"spindle/internal/core/object"
	"spindle/internal/core/tier"
)

// Sizes of the index, which tests make smaller.
var (
	segmentMost       = columns.Most // objects of a segment
	runSmall    int64 = 4096         // objects of the smallest kind of run
)

// segment is a segment of the index of find, without its columns.
type segment struct {
	ID      int64  `db:"id"`
	Run     int64  `db:"run"`
	Objects int    `db:"objects"`
	First   []byte `db:"first"`
	Last    []byte `db:"last"`
	Hidden  []byte `db:"hidden"`
}

const segmentColumns = `s.id, s.run, s.objects, s.first, s.last, s.hidden`

// FindIndex says how the index of a bucket is.
type FindIndex struct {
	Bucket   string     `db:"name"`
	Account  string     `db:"account"`
	Ready    bool       `db:"ready"`
	Objects  int64      `db:"objects"` // that stand in it; some twice, until they are put together
	Hidden   int64      `db:"-"`
	Segments int        `db:"segments"`
	Bytes    int64      `db:"bytes"`
	Merging  bool       `db:"merging"`
	Began    time.Time  `db:"began"`
	Built    *time.Time `db:"built"`
}

// FindIndexes gives the indexes of an account's buckets, "" for all, by name of the bucket.
func (c *Catalog) FindIndexes(ctx context.Context, account string) (list []FindIndex, err error) {
	err = c.db.SelectContext(ctx, &list, `select b.name, a.name as account, i.ready, i.merging is not null as merging,
		i.began, i.built,
		coalesce(sum(s.objects), 0)::bigint as objects, count(s.id) as segments, coalesce(sum(s.bytes), 0)::bigint as bytes
		from find_indexes i join buckets b on b.id = i.bucket join accounts a on a.id = b.account
		left join find_segments s on s.bucket = i.bucket where $1 = '' or a.name = $1 group by 1, 2, 3, 4, 5, 6
		order by 1`, account)
	return list, mapError(err)
}

// FindLag gives how many entries of the journal, of an account's buckets or ("") of all, the
// index has not read, up to a bound.
func (c *Catalog) FindLag(ctx context.Context, account string, most int) (n int, err error) {
	err = c.db.GetContext(ctx, &n, `select count(*) from (select 1 from followers f cross join lateral (select 1
		from journal j
		where (j.xid, j.seq) > (f.xid, f.seq) and ($2 = '' or j.bucket in (select b.id from buckets b
			join accounts a on a.id = b.account where a.name = $2)) limit $1) x where f.name = 'find') y`, most, account)
	return n, mapError(err)
}

// RebuildFind has the index of a bucket built anew. Until it is, find looks at objects.
func (c *Catalog) RebuildFind(ctx context.Context, bucket int64) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `delete from find_indexes where bucket = $1`, bucket); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `insert into find_indexes (bucket, run) values ($1, nextval('find_runs'))`, bucket)
		return err
	})
}

// EnrolFind begins indexes of buckets that have so many objects, and lets go of those whose
// bucket is gone.
func (c *Catalog) EnrolFind(ctx context.Context, least int64) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `delete from find_indexes i where not exists (select 1 from buckets b
			where b.id = i.bucket and b.removed is null)`); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `insert into find_indexes (bucket, run) select b.id, nextval('find_runs') from buckets b
			join usage_now u on u.bucket = b.id where b.removed is null and u.objects >= $1 and not exists (select 1
			from find_indexes i where i.bucket = b.id)
			on conflict do nothing`, least)
		return err
	})
}

const rowColumns = `h.key, h.number, h.plain, true, h.marker, h.size, h.created, h.content_type, h.tier, h.md5, h.parts,
	h.crc64, h.body_file,
	h.written_by, h.metadata, h.tags`

// rowsOf gives the rows of some keys, in the order of keys, without those that have no
// object.
func rowsOf(ctx context.Context, q sqlx.QueryerContext, tiers tier.Set, bucket int64, keys [][]byte,
	f func(*census.Row) error) error {
	rows, err := q.QueryxContext(ctx, `select `+rowColumns+` from heads h where h.bucket = $1 and h.key = any($2)
		and not h.marker
		order by h.key`, bucket, keys)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var r census.Row
		var at int16
		var file int64
		var kind *string
		if err := rows.Scan(&r.Key, &r.Number, &r.Plain, &r.Current, &r.Marker, &r.Size, &r.Changed, &kind, &at, &r.MD5,
			&r.Parts,
			&r.CRC64, &file, &r.Writer, &r.Metadata, &r.Tags); err != nil {
			return err
		}
		if kind != nil {
			r.Type = *kind
		}
		r.Tier, r.Sealed = tiers.Name(at), object.BodyRef{File: file}.Sealed()
		if err := f(&r); err != nil {
			return err
		}
	}
	return rows.Err()
}

// FollowFind has the index read at most limit entries of the journal on, and says how many
// it read: what they name is a new run of each bucket that has an index.
func (c *Catalog) FollowFind(ctx context.Context, tiers tier.Set, limit int) (int, error) {
	return c.Follow(ctx, "find", limit, func(ctx context.Context, tx *sqlx.Tx, s Stretch) error {
		var changed []struct {
			Bucket int64  `db:"bucket"`
			Key    []byte `db:"key"`
		}
		if err := tx.SelectContext(ctx, &changed, `select distinct j.bucket, j.key from journal j
			join find_indexes i on i.bucket = j.bucket
			where (j.xid, j.seq) > ($1::xid8, $2) and (j.xid, j.seq) <= ($3::xid8, $4) and j.key is not null
			order by j.bucket, j.key`,
			s.From.XID, s.From.Seq, s.To.XID, s.To.Seq); err != nil {
			return err
		}
		for len(changed) > 0 {
			n := 0
			var keys [][]byte
			for n < len(changed) && changed[n].Bucket == changed[0].Bucket {
				keys = append(keys, changed[n].Key)
				n++
			}
			if err := c.addRun(ctx, tx, tiers, changed[0].Bucket, keys); err != nil {
				return err
			}
			changed = changed[n:]
		}
		return nil
	})
}

// addRun writes a run of what some keys are now, and hides them in older ones.
func (c *Catalog) addRun(ctx context.Context, tx *sqlx.Tx, tiers tier.Set, bucket int64, keys [][]byte) error {
	var run int64
	if err := tx.GetContext(ctx, &run, `select nextval('find_runs')`); err != nil {
		return err
	}
	for part := range slices.Chunk(keys, segmentMost) {
		list, err := build(ctx, tx, tiers, bucket, part, true)
		if err != nil {
			return err
		}
		if err := keepSegments(ctx, tx, bucket, run, true, list); err != nil {
			return err
		}
	}
	older, err := segmentsOf(ctx, tx, `s.bucket = $1 and s.live and s.run < $2`, bucket, run)
	if err != nil {
		return err
	}
	return c.hide(ctx, tx, older, keys)
}

// build makes segments of what some keys are; none when nothing is left. Where gone is
// asked for keys without an object stand in them too.
func build(ctx context.Context, q sqlx.QueryerContext, tiers tier.Set, bucket int64, keys [][]byte,
	gone bool) (list []*columns.Segment, err error) {
	b := columns.NewBuilder()
	cut := func(least bool) {
		if b.Full() || least && b.Len() > 0 {
			list = append(list, b.Segment())
			b = columns.NewBuilder()
		}
	}
	i := 0
	missing := func(until []byte) {
		for ; i < len(keys) && (until == nil || bytes.Compare(keys[i], until) < 0); i++ {
			if gone {
				b.AddGone(string(keys[i]))
				cut(false)
			}
		}
	}
	if err := rowsOf(ctx, q, tiers, bucket, keys, func(r *census.Row) error {
		missing(r.Key)
		i++
		err := b.Add(r)
		cut(false)
		return err
	}); err != nil {
		return nil, err
	}
	missing(nil)
	cut(true)
	return list, nil
}

func keepSegments(ctx context.Context, tx *sqlx.Tx, bucket, run int64, live bool, list []*columns.Segment) error {
	for _, s := range list {
		if err := keepSegment(ctx, tx, bucket, run, live, s); err != nil {
			return err
		}
	}
	return nil
}

func segmentsOf(ctx context.Context, q selecting, where string, args ...any) (list []segment, err error) {
	err = q.SelectContext(ctx, &list, `select `+segmentColumns+` from find_segments s where `+where+` order by s.first`,
		args...)
	return list, err
}

// keepSegment writes a segment down; nil is none.
func keepSegment(ctx context.Context, tx *sqlx.Tx, bucket, run int64, live bool, s *columns.Segment) error {
	if s == nil {
		return nil
	}
	var names []string
	var heads, bodies [][]byte
	var size int64
	for name, x := range s.Columns {
		names, heads, bodies = append(names, name), append(heads, x.Head), append(bodies, append([]byte{}, x.Body...))
		size += int64(len(name) + len(x.Head) + len(x.Body))
	}
	var id int64
	if err := tx.GetContext(ctx, &id, `insert into find_segments (bucket, run, live, objects, first, last, bytes)
		values ($1, $2, $3, $4, $5, $6, $7) returning id`, bucket, run, live, s.Objects, []byte(s.First), []byte(s.Last), size); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `insert into find_columns (segment, name, head, body) select $1, *
		from unnest($2::text[], $3::bytea[], $4::bytea[])`,
		id, names, heads, bodies)
	return err
}

// hide has segments not be believed of some keys, which are in order.
func (c *Catalog) hide(ctx context.Context, tx *sqlx.Tx, segments []segment, keys [][]byte) error {
	for i := range segments {
		s := &segments[i]
		from, _ := slices.BinarySearchFunc(keys, s.First, bytes.Compare)
		to, is := slices.BinarySearchFunc(keys, s.Last, bytes.Compare)
		if is {
			to++
		}
		if from == to {
			continue
		}
		hidden, err := columns.Unpack(s.Hidden)
		if err != nil {
			return err
		}
		set, err := c.places(ctx, tx, s, keys[from:to])
		if err != nil {
			return err
		}
		if set.Count() == 0 {
			continue
		}
		hidden.Or(set)
		if _, err := tx.ExecContext(ctx, `update find_segments set hidden = $2 where id = $1`, s.ID,
			hidden.Pack()); err != nil {
			return err
		}
	}
	return nil
}

// places gives the ordinals of some keys in a segment.
func (c *Catalog) places(ctx context.Context, q selecting, s *segment, keys [][]byte) (*columns.Bits, error) {
	heads, err := c.columns.heads(ctx, q, []segment{*s}, []string{columns.KeyColumn})
	if err != nil {
		return nil, err
	}
	set := &columns.Bits{}
	h := heads[s.ID].Heads[columns.KeyColumn]
	if h == nil {
		return set, nil
	}
	var wants []piece
	for _, k := range keys {
		p := h.Between(string(k), string(k))
		if n := len(wants); p.Bytes > 0 && (n == 0 || wants[n-1].From != p.From) {
			wants = append(wants, piece{segment: s.ID, column: columns.KeyColumn, Chunks: p})
		}
	}
	if err := readPieces(ctx, q, wants); err != nil {
		return nil, err
	}
	for _, w := range wants {
		if err := h.Keys(w.Chunks, w.data, func(i int, key []byte) {
			if _, is := slices.BinarySearchFunc(keys, key, bytes.Compare); is {
				set.Set(i)
			}
		}); err != nil {
			return nil, err
		}
	}
	return set, nil
}

// indexing is an index on which there is work.
type indexing struct {
	Bucket  int64  `db:"bucket"`
	Ready   bool   `db:"ready"`
	Place   []byte `db:"place"`
	Run     int64  `db:"run"`
	Merging []byte `db:"merging"` // as JSON
	Merged  []byte `db:"merged"`
}

// WorkOnFind does one step of what there is to do on indexes: it builds a segment, or puts
// runs together. It says whether there was anything to do.
func (c *Catalog) WorkOnFind(ctx context.Context, tiers tier.Set) (did bool, err error) {
	var list []indexing
	if err := c.db.SelectContext(ctx, &list, `select i.bucket, i.ready, i.place, i.run,
		to_json(i.merging)::text::bytea as merging, i.merged from find_indexes i
		order by i.ready, i.merging is null, i.bucket`); err != nil {
		return false, mapError(err)
	}
	for i := range list {
		x := &list[i]
		switch {
		case !x.Ready:
			return true, mapError(c.buildStep(ctx, tiers, x))
		case x.Merging != nil:
			return true, mapError(c.mergeStep(ctx, tiers, x))
		}
		if runs, err := c.toMerge(ctx, x.Bucket); err != nil || len(runs) > 0 {
			if err != nil {
				return false, err
			}
			_, err = c.changed(ctx, `update find_indexes set merging = $2, merged = '' where bucket = $1`, x.Bucket, runs)
			return true, err
		}
	}
	return false, nil
}

const (
	runsMost = 8 // of about a size, before they are put together
)

// toMerge gives runs of a bucket, the newest of it, that are to be put together.
func (c *Catalog) toMerge(ctx context.Context, bucket int64) ([]int64, error) {
	var runs []struct {
		Run     int64 `db:"run"`
		Objects int64 `db:"objects"`
	}
	if err := c.db.SelectContext(ctx, &runs, `select run, sum(objects)::bigint as objects from find_segments
		where bucket = $1 and live
		group by run order by run desc`, bucket); err != nil {
		return nil, mapError(err)
	}
	const largest = 1 << 40 // objects
	for size := runSmall; len(runs) >= runsMost && size <= largest; size *= runsMost {
		var out []int64
		alike := 0 // those that are smaller by a kind count as one
		for _, r := range runs {
			if r.Objects > size {
				break
			}
			out = append(out, r.Run)
			if size == runSmall || r.Objects > size/runsMost {
				alike++
			} else {
				alike = max(alike, 1)
			}
		}
		if alike >= runsMost {
			return out, nil
		}
	}
	return nil, nil
}

// buildStep builds the next segment of an index that is new.
func (c *Catalog) buildStep(ctx context.Context, tiers tier.Set, x *indexing) error {
	conn, err := c.db.DB.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	b := columns.NewBuilder()
	r := &SnapshotReader{conn: conn, names: map[int16]string{}}
	var last []byte
	enough := errors.New("the segment is full")
	if err := r.Rows(ctx, &CensusAsk{Bucket: x.Bucket, Slice: Slice{From: after(x.Place)}, Metadata: true, Tags: true,
		Tiers: tiers,
		Limit: segmentMost}, func(row *census.Row) error {
		last = append(last[:0], row.Key...)
		if err := b.Add(row); err != nil {
			return err
		}
		if b.Full() {
			return enough
		}
		return nil
	}); err != nil && !errors.Is(err, enough) {
		return err
	}
	var s *columns.Segment
	if b.Len() > 0 {
		s = b.Segment()
	}
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := keepSegment(ctx, tx, x.Bucket, x.Run, false, s); err != nil {
			return err
		}
		if b.Full() || b.Len() == segmentMost {
			_, err := tx.ExecContext(ctx, `update find_indexes set place = $2 where bucket = $1 and run = $3`, x.Bucket, last,
				x.Run)
			return err
		}
		if _, err := tx.ExecContext(ctx, `update find_indexes set ready = true, built = now() where bucket = $1 and run = $2`,
			x.Bucket,
			x.Run); err != nil {
			return err
		}
		return c.enliven(ctx, tx, x.Bucket, x.Run)
	})
}

// after gives the first key after one; "" for the beginning.
func after(place []byte) string {
	if len(place) == 0 {
		return ""
	}
	return string(place) + "\x00"
}

// enliven has a run answer, but for what newer ones tell of.
func (c *Catalog) enliven(ctx context.Context, tx *sqlx.Tx, bucket, run int64) error {
	if _, err := tx.ExecContext(ctx, `update find_segments set live = true where bucket = $1 and run = $2`, bucket,
		run); err != nil {
		return err
	}
	own, err := segmentsOf(ctx, tx, `s.bucket = $1 and s.run = $2`, bucket, run)
	if err != nil {
		return err
	}
	newer, err := segmentsOf(ctx, tx, `s.bucket = $1 and s.run > $2 and s.live`, bucket, run)
	if err != nil {
		return err
	}
	for i := range newer {
		keys, err := c.keysOf(ctx, tx, &newer[i], nil, segmentMost)
		if err != nil {
			return err
		}
		if err := c.hide(ctx, tx, own, keys); err != nil {
			return err
		}
		if own, err = segmentsOf(ctx, tx, `s.bucket = $1 and s.run = $2`, bucket, run); err != nil {
			return err
		}
	}
	return nil
}

// keysOf gives keys of a segment after one, as many as are wanted.
func (c *Catalog) keysOf(ctx context.Context, q selecting, s *segment, place []byte, most int) (keys [][]byte,
	err error) {
	heads, err := c.columns.heads(ctx, q, []segment{*s}, []string{columns.KeyColumn})
	if err != nil {
		return nil, err
	}
	h := heads[s.ID].Heads[columns.KeyColumn]
	if h == nil {
		return nil, nil
	}
	want := []piece{{segment: s.ID, column: columns.KeyColumn, Chunks: h.Between(string(place), "\xff"+string(s.Last))}}
	if err := readPieces(ctx, q, want); err != nil {
		return nil, err
	}
	err = h.Keys(want[0].Chunks, want[0].data, func(_ int, key []byte) {
		if len(keys) < most && (len(place) == 0 || bytes.Compare(key, place) > 0) {
			keys = append(keys, bytes.Clone(key))
		}
	})
	return keys, err
}

// mergeStep makes the next segment of runs that are put together.
func (c *Catalog) mergeStep(ctx context.Context, tiers tier.Set, x *indexing) error {
	var runs []int64
	if err := json.Unmarshal(x.Merging, &runs); err != nil {
		return err
	}
	keys, whole, err := c.nextKeys(ctx, x, runs)
	if err != nil {
		return err
	}
	newest, oldest := slices.Max(runs), slices.Min(runs)
	var lowest int64
	if err := c.db.GetContext(ctx, &lowest, `select coalesce(min(run), 0) from find_segments where bucket = $1 and live`,
		x.Bucket); err != nil {
		return err
	}
	list, err := build(ctx, c.db, tiers, x.Bucket, keys, oldest > lowest)
	if err != nil {
		return err
	}
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		var still bool
		if err := tx.GetContext(ctx, &still,
			`select exists (select 1 from find_indexes where bucket = $1 and merging = $2 and merged = $3)`,
			x.Bucket, runs, x.Merged); err != nil || !still {
			return err
		}
		// Until it is whole the new run has a number of its own, below all.
		if err := keepSegments(ctx, tx, x.Bucket, -newest, false, list); err != nil {
			return err
		}
		if !whole {
			_, err := tx.ExecContext(ctx, `update find_indexes set merged = $2 where bucket = $1`, x.Bucket, keys[len(keys)-1])
			return err
		}
		for _, step := range []struct {
			do   string
			args []any
		}{{`delete from find_segments where bucket = $1 and run = any($2)`, []any{x.Bucket, runs}},
			{`update find_segments set run = $2::bigint where bucket = $1 and run = -$2::bigint`, []any{x.Bucket, newest}},
			{`update find_indexes set merging = null, merged = '' where bucket = $1`, []any{x.Bucket}}} {
			if _, err := tx.ExecContext(ctx, step.do, step.args...); err != nil {
				return err
			}
		}
		return c.enliven(ctx, tx, x.Bucket, newest)
	})
}

// nextKeys gives the next keys of some runs, and whether there are no more.
func (c *Catalog) nextKeys(ctx context.Context, x *indexing, runs []int64) (keys [][]byte, whole bool, err error) {
	segments, err := segmentsOf(ctx, c.db, `s.bucket = $1 and s.live and s.run = any($2) and s.last > $3`, x.Bucket, runs,
		x.Merged)
	if err != nil {
		return nil, false, err
	}
	var end []byte // no further is known
	taken := map[int64]int{}
	for i := range segments {
		s := &segments[i]
		if taken[s.Run] >= segmentMost || end != nil && bytes.Compare(s.First, end) > 0 {
			if end == nil || bytes.Compare(s.First, end) < 0 {
				end = s.First
			}
			continue
		}
		list, err := c.keysOf(ctx, c.db, s, x.Merged, segmentMost)
		if err != nil {
			return nil, false, err
		}
		taken[s.Run] += len(list)
		keys = append(keys, list...)
	}
	slices.SortFunc(keys, bytes.Compare)
	keys = slices.CompactFunc(keys, bytes.Equal)
	whole = end == nil
	if end != nil {
		n, _ := slices.BinarySearchFunc(keys, end, bytes.Compare)
		keys = keys[:n]
	}
	if len(keys) > segmentMost {
		keys, whole = keys[:segmentMost], false
	}
	if len(keys) == 0 && !whole {
		return nil, false, errors.New("the runs of an index give no keys")
	}
	return keys, whole, nil
}
