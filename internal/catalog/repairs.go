package catalog

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/object"
	"spindle/internal/core/tier"
)

// Repair is a walk over the bodies of a tier that makes missing and damaged copies and
// pieces anew.
type Repair struct {
	Tier     int16      `db:"tier"`
	Why      string     `db:"why"`
	Who      string     `db:"who"`
	Asked    time.Time  `db:"asked"`
	Bodies   int64      `db:"bodies"` // looked at
	Bytes    int64      `db:"bytes"`
	Made     int64      `db:"made"`    // copies and pieces
	Damaged  int64      `db:"damaged"` // bodies that nothing gives back
	Lost     int        `db:"lost"`    // volumes that were taken out since all was whole
	Waiting  int64      `db:"waiting"` // bodies that wait for a volume that is away
	After    time.Time  `db:"after"`   // when the walk goes on
	Finished *time.Time `db:"finished"`

	Place WalkPlace `db:"-"` // that the walk has reached
}

// askRepair begins the repair of a tier, or begins it anew,
// with so many volumes lost. What is owed is made at once, too.
func askRepair(ctx context.Context, tx *sqlx.Tx, tier int16, why string, lost int, by Author) error {
	if _, err := tx.ExecContext(ctx, `insert into repairs (tier, why, who, asked, after, lost)
		values ($1, $2, $3, $4, now(), $5)
		on conflict (tier) do update set why = $2, who = $3, asked = $4, place = '{}', bodies = 0, bytes = 0, made = 0,
		damaged = 0, waiting = 0, after = now(), finished = null,
		lost = $5 + case when repairs.finished is null then repairs.lost else 0 end`, tier, why, by.Who, by.At,
		lost); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `update owed set after = now() where tier = $1`, tier)
	return err
}

// AskRepair begins the repair of a tier by its name, or begins it anew. The error for none
// has the code tier-missing.
func (c *Catalog) AskRepair(ctx context.Context, name string, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		t, err := lockTier(ctx, tx, name)
		if err != nil {
			return err
		}
		return askRepair(ctx, tx, t.ID, "asked for", 0, by)
	})
}

const repairColumns = `tier, why, who, asked, bodies, bytes, made, damaged, lost, waiting, after, finished, place::text as at`

func (c *Catalog) repairs(ctx context.Context, q string, in ...any) ([]*Repair, error) {
	var rows []struct {
		Repair
		At string `db:"at"`
	}
	if err := c.db.SelectContext(ctx, &rows, `select `+repairColumns+` from repairs `+q, in...); err != nil {
		return nil, mapError(err)
	}
	out := make([]*Repair, len(rows))
	for i := range rows {
		out[i] = &rows[i].Repair
		if err := json.Unmarshal([]byte(rows[i].At), &out[i].Place); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Repairs gives the last repair of each tier that had one, by tier.
func (c *Catalog) Repairs(ctx context.Context) (map[int16]*Repair, error) {
	list, err := c.repairs(ctx, ``)
	out := make(map[int16]*Repair, len(list))
	for _, r := range list {
		out[r.Tier] = r
	}
	return out, err
}

// RepairDue gives a repair that is to go on, nil for none.
func (c *Catalog) RepairDue(ctx context.Context) (*Repair, error) {
	list, err := c.repairs(ctx, `where finished is null and after <= now() order by asked limit 1`)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return list[0], nil
}

// SaveRepair notes how far a repair is, unless it was asked for anew meanwhile.
func (c *Catalog) SaveRepair(ctx context.Context, r *Repair) error {
	at, err := json.Marshal(r.Place)
	if err != nil {
		return err
	}
	_, err = c.changed(ctx, `update repairs set place = $3::jsonb, bodies = $4, bytes = $5, made = $6, damaged = $7,
		waiting = $8, after = $9, finished = $10 where tier = $1 and asked = $2`, r.Tier, r.Asked, string(at), r.Bodies,
		r.Bytes, r.Made, r.Damaged, r.Waiting, r.After, r.Finished)
	return err
}

// Owe notes a body of which copies or pieces could not be written: how many there are, and the directories of the
// tier's volumes that have none.
func (c *Catalog) Owe(ctx context.Context, f object.BodyFile, has int, lacks []string) error {
	_, err := c.db.ExecContext(ctx, `insert into owed (tier, file, has, lacks) values ($1, $2, $3, $4)
		on conflict (tier, file) do update set has = $3, lacks = $4`, f.Tier, f.File, has, lacks)
	return mapError(err)
}

// OwedBelow counts the bodies of a tier that are owed copies or pieces, and would have fewer than so many when
// directories are taken out.
func (c *Catalog) OwedBelow(ctx context.Context, tier int16, without []string, needs int) (n int64, err error) {
	err = c.db.GetContext(ctx, &n, `select count(*) from owed where tier = $1
		and has - (select count(*) from unnest($2::text[]) d where d <> all (lacks)) < $3`, tier, without, needs)
	return n, mapError(err)
}

// Owed counts the bodies of each tier of which pieces could not be written yet.
func (c *Catalog) Owed(ctx context.Context) (map[int16]int64, error) {
	var rows []struct {
		Tier int16 `db:"tier"`
		N    int64 `db:"n"`
	}
	err := c.db.SelectContext(ctx, &rows, `select tier, count(*) as n from owed group by 1`)
	out := make(map[int16]int64, len(rows))
	for _, r := range rows {
		out[r.Tier] = r.N
	}
	return out, mapError(err)
}

// OwedDue gives files of bodies in some tiers whose pieces it is worth to make now.
func (c *Catalog) OwedDue(ctx context.Context, in []int16, limit int) (list []object.BodyFile, err error) {
	err = c.db.SelectContext(ctx, &list,
		`select tier, file from owed where after <= now() and tier = any($1) order by after limit $2`, in, limit)
	return list, mapError(err)
}

// Paid forgets that pieces of a body are owed; with a wait, it is looked at again after that.
func (c *Catalog) Paid(ctx context.Context, f object.BodyFile, again time.Duration) error {
	q, in := `delete from owed where tier = $1 and file = $2`, []any{f.Tier, f.File}
	if again > 0 {
		q, in = `update owed set after = now() + $3 * interval '1 second' where tier = $1 and file = $2`,
			append(in, again.Seconds())
	}
	_, err := c.changed(ctx, q, in...)
	return err
}

// BodyIn gives the version or part whose body is a file, nil when nothing refers to it.
func (c *Catalog) BodyIn(ctx context.Context, f object.BodyFile) (*Stored, error) {
	var rows []struct {
		Bucket int64  `db:"bucket"`
		Key    []byte `db:"key"`
		Number int64  `db:"number"`
		Size   int64  `db:"size"`
		CRC64  int64  `db:"crc64"`
		Offset int64  `db:"body_offset"`
	}
	if err := c.db.SelectContext(ctx, &rows, `select bucket, key, number, size, crc64, body_offset from heads
			where body_file = $2 and tier = $1
		union all select bucket, key, number, size, crc64, body_offset from history where body_file = $2 and tier = $1
		union all select u.bucket, u.key, 0, p.size, p.crc64, p.body_offset from parts p join uploads u on u.seq = p.upload
			where p.body_file = $2 and p.tier = $1
		limit 1`, f.Tier, f.File); err != nil || len(rows) == 0 {
		return nil, mapError(err)
	}
	r := rows[0]
	key, err := object.ParseKey(string(r.Key))
	if err != nil {
		return nil, err
	}
	return &Stored{Bucket: r.Bucket, Version: &object.Version{Key: key, Number: r.Number, Size: r.Size,
		CRC64: uint64(r.CRC64), Body: object.BodyRef{Tier: f.Tier, File: f.File, Offset: r.Offset}}}, nil
}

// KeptOnce reports whether bodies are in a tier in another form than it has now, of which
// nobody knows that they are on more than one volume.
func (c *Catalog) KeptOnce(ctx context.Context, t *tier.Tier) (once bool, err error) {
	form := object.Framed
	if t.Pieces != nil {
		form = object.Pieced
	}
	err = c.db.GetContext(ctx, &once, `select
		exists (select 1 from heads where tier = $1 and body_file > 0 and body_offset <> $2)
		or exists (select 1 from history where tier = $1 and body_file > 0 and body_offset <> $2)
		or exists (select 1 from parts where tier = $1 and body_file > 0 and body_offset <> $2)`, t.ID, form)
	return once, mapError(err)
}
