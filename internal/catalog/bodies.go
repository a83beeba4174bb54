package catalog

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// Released is a body's file that some version let go of.
type Released struct {
	ID int64 `db:"id"`
	object.BodyFile
}

// ReleasedBefore gives files let go of before a moment, oldest first.
func (c *Catalog) ReleasedBefore(ctx context.Context, before time.Time, limit int) ([]Released, error) {
	var r []Released
	err := c.db.SelectContext(ctx, &r, `select id, tier, file from released where at < $1 order by id limit $2`, before,
		limit)
	return r, mapError(err)
}

// ForgetReleased drops entries that were dealt with.
func (c *Catalog) ForgetReleased(ctx context.Context, ids []int64) error {
	_, err := c.db.ExecContext(ctx, `delete from released where id = any($1)`, ids)
	return mapError(err)
}

// bodyTables are those whose rows refer to bodies.
var bodyTables = []string{"heads", "history", "parts", "restored"}

// Unreferenced gives those of files that no version refers to.
func (c *Catalog) Unreferenced(ctx context.Context, files []object.BodyFile) ([]object.BodyFile, error) {
	tiers, numbers := make([]int16, len(files)), make([]int64, len(files))
	for i, f := range files {
		tiers[i], numbers[i] = f.Tier, f.File
	}
	q := where(tiers, numbers)
	for _, table := range bodyTables {
		q.and(`not exists (select 1 from ` + table + ` where body_file = u.file and body_file <> 0 and tier = u.tier)`)
	}
	var out []object.BodyFile
	err := c.db.SelectContext(ctx, &out,
		`select u.tier, u.file from unnest($1::smallint[], $2::bigint[]) u(tier, file) where `+q.String(), q.args...)
	return out, mapError(err)
}

// Resident is a body in a segment that some version refers to.
type Resident struct {
	Offset int64 `db:"body_offset"`
	Size   int64 `db:"size"`
	CRC64  int64 `db:"crc64"`
}

// Residents gives the bodies in a segment that versions refer to, by offset.
func (c *Catalog) Residents(ctx context.Context, segment object.BodyFile) ([]Resident, error) {
	var from []string
	for _, table := range bodyTables {
		from = append(from, `select body_offset, size, crc64 from `+table+` where body_file = $1 and body_file <> 0
			and tier = $2`)
	}
	var out []Resident
	err := c.db.SelectContext(ctx, &out, `select distinct on (body_offset) body_offset, size, crc64 from (`+
		strings.Join(from, " union all ")+`) x order by body_offset`, segment.File, segment.Tier)
	return out, mapError(err)
}

// ReplaceBody points every version that refers to one body at another one of the same
// tier with the same content, and lets go of the first one's file if it was a file of
// its own. It reports false when nothing refers to it any more.
func (c *Catalog) ReplaceBody(ctx context.Context, from, to object.BodyRef) (moved bool, err error) {
	if from.Tier != to.Tier {
		return false, fmt.Errorf("a body is replaced within its tier, not from %d to %d: see MoveBody", from.Tier, to.Tier)
	}
	err = c.inTx(ctx, func(tx *sqlx.Tx) error {
		for _, table := range bodyTables {
			r, err := tx.ExecContext(ctx, `update `+table+` set body_file = $4, body_offset = $5
				where body_file = $1 and body_file <> 0 and body_offset = $2
					and tier = $3`, from.File, from.Offset, from.Tier, to.File, to.Offset)
			if err != nil {
				return err
			}
			if n, err := r.RowsAffected(); err == nil && n > 0 {
				moved = true
			}
		}
		if !moved || from.Offset >= 0 {
			return nil
		}
		return release(ctx, tx, from.In())
	})
	return moved, err
}

// release has the collector look at a file that something let go of.
func release(ctx context.Context, tx *sqlx.Tx, f object.BodyFile) error {
	_, err := tx.ExecContext(ctx, `select let_go($1, $2)`, f.Tier, f.File)
	return err
}

// Moving says which version's body is to be another one.
type Moving struct {
	Bucket   int64
	Key      object.Key
	Number   int64
	Revision int // of the metadata; 0: whatever it is
	From, To object.BodyRef
	Author
	Rule string // that has it moved, if one has
	Run  int64
}

// MoveBody has a version's body be another one, of another tier perhaps, with an entry
// of the journal, and lets go of the one that was. The error when the version is not
// there, or does not have the body or the metadata any more, has the code
// version-moved; nothing is changed then.
func (c *Catalog) MoveBody(ctx context.Context, m Moving) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error { return moveBody(ctx, tx, m) })
}

func moveBody(ctx context.Context, tx *sqlx.Tx, m Moving) error {
	places, err := moveBodies(ctx, tx, m.Bucket, []Moving{m})
	if err == nil && len(places) == 0 {
		return fault.New(fault.Conflict, "version-moved", "the version is gone, or changed meanwhile").In("version").
			Do("look at it again; what is there now was written meanwhile")
	}
	return err
}

// moveBodies has versions of one bucket lie elsewhere, for one author and run. It gives the
// places, from 1, of those that were what they were said to be.
func moveBodies(ctx context.Context, tx *sqlx.Tx, bucket int64, list []Moving) (places []int, err error) {
	n := len(list)
	keys, numbers, revisions, rules := make([][]byte, n), make([]int64, n), make([]int32, n), make([]string, n)
	var tiers [2][]int16
	var files, offsets [2][]int64
	for i, m := range list {
		keys[i], numbers[i], revisions[i], rules[i] = []byte(m.Key.String()), m.Number, int32(m.Revision), m.Rule
		for j, ref := range []object.BodyRef{m.From, m.To} {
			tiers[j], files[j] = append(tiers[j], ref.Tier), append(files[j], ref.File)
			offsets[j] = append(offsets[j], ref.Offset)
		}
	}
	by := list[0]
	err = tx.SelectContext(ctx, &places,
		`select move_bodies($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15)`,
		bucket, keys, numbers, revisions, tiers[0], files[0], offsets[0], tiers[1], files[1], offsets[1], rules, by.Run,
		by.At, by.Who, by.Source)
	return places, err
}

// MoveParts is MoveBody for an object that came in parts, which are elsewhere now. The
// parts that were may be those of a copy too, and stay until nobody refers to them.
func (c *Catalog) MoveParts(ctx context.Context, m Moving, parts []Part) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		var seq int64
		if err := tx.GetContext(ctx, &seq, `select nextval(pg_get_serial_sequence('uploads', 'seq'))`); err != nil {
			return err
		}
		for _, p := range parts {
			if _, err := tx.ExecContext(ctx, `insert into parts (upload, number, size, md5, crc64, checksum, tier, body_file,
				body_offset, at, who, source, start) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12,
				$13)`, seq, p.Number,
				p.Size, p.MD5[:], int64(p.CRC64), p.Checksum, p.Body.Tier, p.Body.File, p.Body.Offset, p.At, p.Who, p.Source,
				p.Start); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `insert into sums (upload, sha256) select $1, sha256 from sums where upload = $2`,
			seq,
			-m.From.File); err != nil {
			return err
		}
		m.To.File, m.To.Offset = -seq, m.From.Offset
		return moveBody(ctx, tx, m)
	})
}

// TierUsage gives the bytes of a bucket, or (0) of all, in each tier but the first, as
// far as the usage follower has read. What is not in them is in the first.
func (c *Catalog) TierUsage(ctx context.Context, bucket int64) (map[int16]int64, error) {
	var rows []struct {
		Tier  int16 `db:"tier"`
		Bytes int64 `db:"bytes"`
	}
	q := where().when(bucket != 0, `bucket = ?`, bucket)
	err := c.db.SelectContext(ctx, &rows,
		`select tier, sum(bytes)::bigint as bytes from usage_tiers where `+q.String()+` group by 1`, q.args...)
	out := make(map[int16]int64, len(rows))
	for _, r := range rows {
		out[r.Tier] = r.Bytes
	}
	return out, mapError(err)
}

// Misfit is a body that is sealed and should be plain, or the other way round.
type Misfit struct {
	Key   []byte `db:"key"`
	Body  object.BodyRef
	Size  int64
	CRC64 uint64
}

// Misfits gives bodies of the versions and parts of the next keys, at most limit,
// after one beneath a prefix, that are not sealed when they should be, or sealed
// when they should not. last is the last key that was looked at, nil at the end.
// A body that a sealing bucket shares, or that is in a tier which seals, stays sealed.
func (c *Catalog) Misfits(ctx context.Context, bucket int64, prefix, after []byte, sealed bool,
	limit int) (list []Misfit, keys int, last []byte, err error) {
	until := endOf(string(prefix))
	if after == nil {
		after = []byte{}
	}
	if prefix == nil {
		prefix = []byte{}
	}
	err = c.inTx(ctx, func(tx *sqlx.Tx) error {
		var names [][]byte
		if err := tx.SelectContext(ctx, &names,
			`select key from heads where bucket = $1 and key > $2 and key >= $3 and key < $4 order by key
				limit $5`,
			bucket, after, prefix, until, limit); err != nil || len(names) == 0 {
			return err
		}
		keys, last = len(names), names[len(names)-1]
		if keys < limit {
			last = nil
		}
		var rows []struct {
			Key        []byte `db:"key"`
			Size       int64  `db:"size"`
			CRC64      int64  `db:"crc64"`
			Tier       int16  `db:"tier"`
			BodyFile   int64  `db:"body_file"`
			BodyOffset int64  `db:"body_offset"`
		}
		if err := tx.SelectContext(ctx, &rows, `with v as (
				select key, size, crc64, tier, body_file, body_offset from heads where bucket = $1 and key = any($2)
				union all select key, size, crc64, tier, body_file, body_offset from history where bucket = $1 and key = any($2)),
			b as (select * from v where body_file > 0
				union all select v.key, p.size, p.crc64, p.tier, p.body_file, p.body_offset from v
					join parts p on p.upload = -v.body_file where v.body_file < 0 and p.body_file > 0)
			select distinct on (body_file, body_offset) * from b where (body_file & $3 <> 0) <> $4
			and ($4 or not exists (select 1 from tiers t where t.id = b.tier and t.sealed)
				and not exists (select 1 from heads h join buckets o on o.id = h.bucket where h.body_file = b.body_file
				and h.body_file <> 0 and h.body_offset = b.body_offset and o.sealing and o.id <> $1)
				and not exists (select 1 from history h join buckets o on o.id = h.bucket where h.body_file = b.body_file
					and h.body_file <> 0 and h.body_offset = b.body_offset and o.sealing and o.id <> $1))
			order by body_file, body_offset`, bucket, names, object.SealedBit, sealed); err != nil {
			return err
		}
		for _, r := range rows {
			list = append(list, Misfit{Key: r.Key, Size: r.Size, CRC64: uint64(r.CRC64),
				Body: object.BodyRef{Tier: r.Tier, File: r.BodyFile, Offset: r.BodyOffset}})
		}
		return nil
	})
	return list, keys, last, err
}

// BodiesBeneath gives the bodies of the versions and parts of the next keys, at most limit, after
// one beneath a prefix. last is the last key that was looked at, nil at the end.
func (c *Catalog) BodiesBeneath(ctx context.Context, bucket int64, prefix, after []byte, limit int) (list []Stored,
	keys int, last []byte, err error) {
	until := endOf(string(prefix))
	if after == nil {
		after = []byte{}
	}
	if prefix == nil {
		prefix = []byte{}
	}
	var names [][]byte
	if err := c.db.SelectContext(ctx, &names, `select key from heads where bucket = $1 and key > $2 and key >= $3
		and key < $4 order by key limit $5`, bucket, after, prefix, until, limit); err != nil ||
		len(names) == 0 {
		return nil, 0, nil, mapError(err)
	}
	if keys, last = len(names), names[len(names)-1]; keys < limit {
		last = nil
	}
	var rows []misplacedRow
	if err := c.db.SelectContext(ctx, &rows, `with v as (
			select key, number, revision, size, crc64, tier, body_file, body_offset from heads where bucket = $1
				and key = any($2)
			union all select key, number, revision, size, crc64, tier, body_file, body_offset from history
				where bucket = $1 and key = any($2))
		select * from v where body_file > 0
		union all select v.key, v.number, v.revision, p.size, p.crc64, p.tier, p.body_file, p.body_offset from v
			join parts p on p.upload = -v.body_file where v.body_file < 0 and p.body_file > 0`, bucket, names); err != nil {
		return nil, 0, nil, mapError(err)
	}
	for i := range rows {
		v, err := rows[i].version()
		if err != nil {
			return nil, 0, nil, err
		}
		list = append(list, Stored{Bucket: bucket, Version: v})
	}
	return list, keys, last, nil
}

// PartsSealed reports whether all parts of an object are encrypted at rest.
func (c *Catalog) PartsSealed(ctx context.Context, upload int64) (sealed bool, err error) {
	err = c.db.GetContext(ctx, &sealed,
		`select coalesce(bool_and(body_file & $2 <> 0), false) from parts where upload = $1 and body_file > 0`, upload,
		object.SealedBit)
	return sealed, mapError(err)
}

// Stored is a version with its bucket, for walks over all bodies.
type Stored struct {
	Bucket  int64
	Version *object.Version
}

// WalkPlace is a place in a walk over all bodies: first those of current versions, then those
// of previous ones, then parts. The zero place begins.
type WalkPlace struct {
	Stage  int    `json:"stage,omitempty"` // 0 current versions, 1 previous ones, 2 parts
	Bucket int64  `json:"bucket"`
	Key    []byte `json:"key"`
	Number int64  `json:"number,omitempty"`
}

// WalkBodies gives versions with content after a place, and the place reached;
// more is false at the end of the walk.
func (c *Catalog) WalkBodies(ctx context.Context, at WalkPlace, limit int) (list []Stored, next WalkPlace, more bool,
	err error) {
	q := `select ` + keyedColumns +
		` from heads h where (bucket, key) > ($1, $2) and body_file > 0 order by bucket, key limit $3`
	in := []any{at.Bucket, at.Key, limit}
	if at.Key == nil {
		in[1] = []byte{}
	}
	if at.Stage == 2 {
		return c.walkParts(ctx, at, limit)
	}
	if at.Stage == 1 {
		q = `select ` + keyedColumns + ` from history h where (bucket, key) >= ($1, $2) and not (bucket = $1 and key = $2
			and number >= $4) and body_file > 0
			order by bucket, key, number desc limit $3`
		in = append(in, at.Number)
	}
	var rows []headRow
	if err := c.db.SelectContext(ctx, &rows, q, in...); err != nil {
		return nil, at, false, mapError(err)
	}
	list, next = make([]Stored, len(rows)), at
	for i := range rows {
		e, err := entryOf(&rows[i])
		if err != nil {
			return nil, at, false, err
		}
		list[i] = Stored{Bucket: rows[i].Bucket.Int64, Version: e.Version}
		next.Bucket, next.Key, next.Number = list[i].Bucket, rows[i].Key, e.Version.Number
	}
	if len(rows) < limit {
		return list, WalkPlace{Stage: at.Stage + 1}, true, nil
	}
	return list, next, true, nil
}

// walkParts gives the parts of objects and of unfinished uploads.
func (c *Catalog) walkParts(ctx context.Context, at WalkPlace, limit int) (list []Stored, next WalkPlace, more bool,
	err error) {
	var rows []struct {
		partRow
		Upload int64  `db:"upload"`
		Bucket int64  `db:"bucket"`
		Key    []byte `db:"key"`
	}
	// The key of an object whose upload is forgotten is found by the object.
	if err := c.db.SelectContext(ctx, &rows, `select p.*, o.bucket, o.key from (select upload, `+partColumns+` from parts
		where (upload, number) > ($1, $2) and body_file > 0 order by upload, number limit $3) p
		left join lateral (select bucket, key from uploads where seq = p.upload union all select bucket, key from heads
			where body_file = -p.upload and body_file <> 0
			union all select bucket, key from history where body_file = -p.upload and body_file <> 0 limit 1) o on true
				order by p.upload, p.number`, at.Bucket, at.Number, limit); err != nil {
		return nil, at, false, mapError(err)
	}
	next = at
	for i := range rows {
		r := &rows[i]
		next.Bucket, next.Number = r.Upload, int64(r.partRow.Number)
		key, err := object.ParseKey(string(r.Key))
		if err != nil {
			continue // nothing refers to it any more: the collector's business
		}
		p := r.part()
		list = append(list, Stored{Bucket: r.Bucket, Version: &object.Version{Key: key, Size: p.Size, CRC64: p.CRC64,
			Body: p.Body}})
	}
	return list, next, len(rows) == limit, nil
}
