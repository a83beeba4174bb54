package catalog

import (
	"context"
	"database/sql"
	"errors"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jmoiron/sqlx"

	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/tier"
)

// MarkTiers is the mark of the tiers and their volumes.
const MarkTiers Mark = "tiers"

type tierRow struct {
	ID           int16     `db:"id"`
	Name         string    `db:"name"`
	Note         string    `db:"note"`
	Copies       int       `db:"copies"`
	Packed       bool      `db:"packed"`
	Sealed       bool      `db:"sealed"`
	Price        int64     `db:"price"`
	Requests     int64     `db:"requests"`
	Stay         int       `db:"stay"`
	Data         *int      `db:"data"`
	Parity       *int      `db:"parity"`
	RestoreDelay *int64    `db:"restore_delay"`
	RestoreDays  *int      `db:"restore_days"`
	Revision     int       `db:"revision"`
	Created      time.Time `db:"created"`
	CreatedBy    string    `db:"created_by"`
}

func (r *tierRow) tier() *tier.Tier {
	t := &tier.Tier{ID: r.ID, Name: r.Name, Note: r.Note, Copies: r.Copies, Packed: r.Packed, Sealed: r.Sealed,
		Price: r.Price, Requests: r.Requests, Stay: r.Stay, Revision: r.Revision, Created: r.Created.UTC(), By: r.CreatedBy}
	if r.Data != nil && r.Parity != nil {
		t.Pieces = &tier.Pieces{Data: *r.Data, Parity: *r.Parity}
	}
	if r.RestoreDelay != nil && r.RestoreDays != nil {
		t.Restore = &tier.Restore{Delay: time.Duration(*r.RestoreDelay) * time.Millisecond, Days: *r.RestoreDays}
	}
	return t
}

const tierColumns = `id, name, note, copies, packed, sealed, price, requests, stay, restore_delay, restore_days,
	revision, created, created_by, data, parity`

// querier is what reads: the database, or a transaction.
type querier interface {
	SelectContext(ctx context.Context, dest any, query string, args ...any) error
}

// Tiers gives all tiers with their volumes, main first, then by falling price. Main's volume is where
// each process keeps it, and is not told.
func (c *Catalog) Tiers(ctx context.Context) (tier.Set, error) {
	s, err := tiers(ctx, c.db)
	return s, mapError(err)
}

func tiers(ctx context.Context, q querier) (tier.Set, error) {
	var rows []tierRow
	if err := q.SelectContext(ctx, &rows,
		`select `+tierColumns+` from tiers order by id <> 0, price desc, name`); err != nil {
		return nil, err
	}
	var volumes []struct {
		Tier   int16  `db:"tier"`
		ID     int64  `db:"id"`
		Dir    string `db:"dir"`
		Marker string `db:"marker"`

		Endpoint sql.NullInt64  `db:"endpoint"`
		Name     sql.NullString `db:"name"`
		Bucket   string         `db:"bucket"`
		Prefix   string         `db:"prefix"`
	}
	if err := q.SelectContext(ctx, &volumes, `select v.tier, v.id, v.dir, v.marker, v.endpoint, e.name, v.bucket, v.prefix
		from volumes v left join endpoints e on e.id = v.endpoint where v.tier <> 0 order by v.id`); err != nil {
		return nil, err
	}
	out := make(tier.Set, len(rows))
	for i := range rows {
		out[i] = rows[i].tier()
		for _, v := range volumes {
			if v.Tier != out[i].ID {
				continue
			}
			x := tier.Volume{ID: v.ID, Dir: v.Dir, Marker: v.Marker}
			if v.Endpoint.Valid {
				x.Place = &tier.Place{Endpoint: v.Endpoint.Int64, Name: v.Name.String, Bucket: v.Bucket, Prefix: v.Prefix}
			}
			out[i].Volumes = append(out[i].Volumes, x)
		}
	}
	return out, nil
}

// MainMarker gives the marker of main's volume, "" when it has none yet. One that is
// given becomes it then.
func (c *Catalog) MainMarker(ctx context.Context, marker string) (is string, err error) {
	err = c.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `select 1 from tiers where id = 0 for update`); err != nil {
			return err
		}
		err := tx.GetContext(ctx, &is, `select marker from volumes where tier = 0`)
		if !errors.Is(err, sql.ErrNoRows) || marker == "" {
			if errors.Is(err, sql.ErrNoRows) {
				err = nil
			}
			return err
		}
		is = marker
		_, err = tx.ExecContext(ctx, `insert into volumes (tier, dir, marker) values (0, '', $1)`, marker)
		return err
	})
	return is, err
}

// AcceptMain has main's volume be that of another marker.
func (c *Catalog) AcceptMain(ctx context.Context, marker string) error {
	_, err := c.changed(ctx, `update volumes set marker = $1 where tier = 0`, marker)
	return err
}

func (t tierValues) args() []any {
	var delay *int64
	var days *int
	if r := t.Restore; r != nil {
		ms := r.Delay.Milliseconds()
		delay, days = &ms, &r.Days
	}
	var data, parity *int
	if p := t.Pieces; p != nil {
		data, parity = &p.Data, &p.Parity
	}
	return []any{t.Name, t.Note, t.Copies, t.Packed, t.Sealed, t.Price, t.Requests, t.Stay, delay, days, data, parity}
}

type tierValues struct{ *tier.Tier }

// AddTier writes a new tier down; its volumes are prepared. The error for a name that is
// taken has the code tier-exists, for a directory that is a volume volume-taken.
func (c *Catalog) AddTier(ctx context.Context, t *tier.Tier, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		err := tx.GetContext(ctx, &t.ID, `insert into tiers (name, note, copies, packed, sealed, price, requests, stay,
			restore_delay, restore_days, data, parity, created, created_by) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10,
			$11, $12, $13, $14) returning id`, append(tierValues{t}.args(), by.At, by.Who)...)
		if unique(err) {
			return fault.New(fault.Conflict, "tier-exists", "there is a tier named %q already", t.Name).In("name").
				Do("choose another name")
		}
		if err != nil {
			return err
		}
		if err := addVolumes(ctx, tx, t); err != nil {
			return err
		}
		return trail(ctx, tx, by, access.TrailSetting, "", "tier "+t.Name, map[string]any{"tier added": t.Name})
	})
}

func unique(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == "23505"
}

// addVolumes writes those of a tier's volumes down that have no number yet.
func addVolumes(ctx context.Context, tx *sqlx.Tx, t *tier.Tier) error {
	for i, v := range t.Volumes {
		if v.ID != 0 {
			continue
		}
		var at tier.Place
		var endpoint *int64
		if v.Place != nil {
			at, endpoint = *v.Place, &v.Place.Endpoint
		}
		err := tx.GetContext(ctx, &t.Volumes[i].ID,
			`insert into volumes (tier, dir, marker, endpoint, bucket, prefix) values ($1, $2, $3, $4, $5, $6) returning id`,
			t.ID, v.Dir, v.Marker, endpoint, at.Bucket, at.Prefix)
		if unique(err) {
			return fault.New(fault.Conflict, "volume-taken", "%s is a volume already", v).In("volumes").
				Do("give another place; each volume is of one tier")
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// dropVolumes takes those of a tier's volumes away that it does not name any more, and asks
// for what was on them to be made anew on others.
func dropVolumes(ctx context.Context, tx *sqlx.Tx, t *tier.Tier, by Author) error {
	stay := make([]int64, len(t.Volumes))
	for i, v := range t.Volumes {
		stay[i] = v.ID
	}
	var gone []string
	if err := tx.SelectContext(ctx, &gone,
		`delete from volumes where tier = $1 and not id = any($2) and $1 <> 0 returning dir`, t.ID, stay); err != nil ||
		len(gone) == 0 {
		return err
	}
	return askRepair(ctx, tx, t.ID, "taken out: "+strings.Join(gone, ", "), len(gone), by)
}

// ChangeTier changes a tier as it is found. The errors are those of edit, of tier.Check,
// and revision when it is at another than ifRevision, which is not 0.
func (c *Catalog) ChangeTier(ctx context.Context, name string, ifRevision int, by Author,
	edit func(*tier.Tier) error) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		t, err := lockTier(ctx, tx, name)
		if err != nil {
			return err
		}
		if err := fault.Revision("the tier", t.Revision, ifRevision); err != nil {
			return err
		}
		before := *t
		if err := edit(t); err != nil {
			return err
		}
		changed := settingsChanged(before, *t)
		if _, err := tx.ExecContext(ctx, `update tiers set name = $2, note = $3, copies = $4, packed = $5, sealed = $6,
			price = $7, requests = $8, stay = $9, restore_delay = $10, restore_days = $11, data = $12, parity = $13,
			revision = revision + 1
			where id = $1`, append([]any{t.ID}, tierValues{t}.args()...)...); err != nil {
			return err
		}
		if err := dropVolumes(ctx, tx, t, by); err != nil { // first: a new disk may be mounted where the lost one was
			return err
		}
		if err := addVolumes(ctx, tx, t); err != nil {
			return err
		}
		return trail(ctx, tx, by, access.TrailSetting, "", "tier "+t.Name,
			map[string]any{"tier changed": t.Name, changedIn: changed})
	})
}

func lockTier(ctx context.Context, tx *sqlx.Tx, name string) (*tier.Tier, error) {
	if _, err := tx.ExecContext(ctx, `select 1 from tiers where name = $1 for update`, name); err != nil {
		return nil, err
	}
	all, err := tiers(ctx, tx)
	if err != nil {
		return nil, err
	}
	return all.Find(name)
}

// RemoveTier takes a tier away in which there is nothing, and which neither a bucket nor
// a rule names. The error otherwise has the code tier-used.
func (c *Catalog) RemoveTier(ctx context.Context, name string, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		t, err := lockTier(ctx, tx, name)
		if err != nil {
			return err
		}
		used := func(format string, args ...any) error {
			return fault.New(fault.Conflict, "tier-used", "the tier %s is used: "+format, append([]any{name}, args...)...).
				In("tier").Do("move what is in it elsewhere, and name it no more, first")
		}
		if t.ID == tier.Main {
			return used("it is where everything goes that names no other")
		}
		var why struct {
			Bucket sql.NullString `db:"bucket"`
			Rule   sql.NullString `db:"rule"`
			Holds  bool           `db:"holds"`
		}
		if err := tx.GetContext(ctx, &why, `select
			(select b.name from buckets b where b.tier = $1 and b.removed is null order by 1 limit 1) as bucket,
			(select b.name from lifecycles l join buckets b on b.id = l.bucket where b.removed is null
				and jsonb_path_exists(l.rules, '$[*].actions[*].to ? (@ == $t)', jsonb_build_object('t', $2::text))
				limit 1) as rule,
			exists (select 1 from heads where tier = $1 and body_file <> 0) or exists (select 1 from history where tier = $1
				and body_file <> 0) or exists (select 1 from parts where tier = $1)
				or exists (select 1 from uploads where tier = $1 and state = 0) as holds`, t.ID, name); err != nil {
			return err
		}
		switch {
		case why.Bucket.Valid:
			return used("new content of the bucket %s goes there", why.Bucket.String)
		case why.Rule.Valid:
			return used("a rule of the bucket %s names it", why.Rule.String)
		case why.Holds:
			return used("bodies are in it")
		}
		for _, q := range []string{`delete from volumes where tier = $1`, `update buckets set tier = 0 where tier = $1`,
			`delete from tiers where id = $1`} {
			if _, err := tx.ExecContext(ctx, q, t.ID); err != nil {
				return err
			}
		}
		return trail(ctx, tx, by, access.TrailSetting, "", "tier "+name, map[string]any{"tier removed": name})
	})
}

// TierBytes gives the bytes of versions in each tier but main, in all buckets, and those
// of all versions.
func (c *Catalog) TierBytes(ctx context.Context) (in map[int16]int64, all int64, err error) {
	if in, err = c.TierUsage(ctx, 0); err != nil {
		return nil, 0, err
	}
	err = c.db.GetContext(ctx, &all, `select coalesce(sum(u.bytes + u.prev_bytes), 0)::bigint from usage_now u
		join buckets b on b.id = u.bucket and b.removed is null`)
	return in, all, mapError(err)
}
