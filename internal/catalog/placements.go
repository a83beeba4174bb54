package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/access"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/placement"
)

type placementRow struct {
	ID       int64     `db:"id"`
	Name     string    `db:"name"`
	Note     string    `db:"note"`
	Tier     string    `db:"tier"`
	Sealing  bool      `db:"sealing"`
	Everyone bool      `db:"everyone"`
	Accounts string    `db:"accounts"`
	Revision int       `db:"revision"`
	Created  time.Time `db:"created"`
	By       string    `db:"created_by"`
	Buckets  int       `db:"buckets"`
}

const placementQuery = `select p.id, p.name, p.note, t.name as tier, p.sealing, p.everyone, p.revision, p.created,
	p.created_by, (select count(*) from buckets b where b.placement = p.id and b.removed is null) as buckets,
	(select coalesce(jsonb_agg(a.name order by a.name), '[]') from placement_accounts x join accounts a on a.id = x.account
		where x.placement = p.id)::text as accounts
	from placements p join tiers t on t.id = p.tier `

func (r *placementRow) placement() (*placement.Placement, error) {
	p := &placement.Placement{ID: r.ID, Name: r.Name, Note: r.Note, Tier: r.Tier, Sealing: r.Sealing, Everyone: r.Everyone,
		Revision: r.Revision, Created: r.Created.UTC(), By: r.By, Buckets: r.Buckets}
	return p, json.Unmarshal([]byte(r.Accounts), &p.Accounts)
}

func placements(ctx context.Context, q querier, where string, in ...any) ([]*placement.Placement, error) {
	var rows []placementRow
	if err := q.SelectContext(ctx, &rows, placementQuery+where+` order by p.name`, in...); err != nil {
		return nil, mapError(err)
	}
	out := make([]*placement.Placement, len(rows))
	for i := range rows {
		var err error
		if out[i], err = rows[i].placement(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Placements gives all placements by name.
func (c *Catalog) Placements(ctx context.Context) ([]*placement.Placement, error) {
	return placements(ctx, c.db, ``)
}

// Placement gives one by its name. The error for none has the code placement-missing.
func (c *Catalog) Placement(ctx context.Context, name string) (*placement.Placement, error) {
	return placementNamed(ctx, c.db, name)
}

func placementNamed(ctx context.Context, q querier, name string) (*placement.Placement, error) {
	list, err := placements(ctx, q, `where p.name = $1`, name)
	if err == nil && len(list) == 0 {
		err = fault.New(fault.NotFound, "placement-missing", "there is no placement %q", name).In("placement").
			Do("choose one of those there are (spindle placement list)")
	}
	if err != nil {
		return nil, err
	}
	return list[0], nil
}

// offerTo writes down to which accounts a placement is offered by name.
func offerTo(ctx context.Context, tx *sqlx.Tx, p *placement.Placement) error {
	if _, err := tx.ExecContext(ctx, `delete from placement_accounts where placement = $1`, p.ID); err != nil {
		return err
	}
	for _, name := range p.Accounts {
		r, err := tx.ExecContext(ctx, `insert into placement_accounts (placement, account) select $1, id from accounts
			where name = $2 on conflict do nothing`, p.ID, name)
		if err != nil {
			return err
		}
		if n, _ := r.RowsAffected(); n == 0 {
			var there bool
			if err := tx.GetContext(ctx, &there, `select exists (select 1 from accounts where name = $1)`, name); err != nil {
				return err
			}
			if !there {
				return fault.From(noAccount(name)).In("accounts")
			}
		}
	}
	return nil
}

// AddPlacement writes a new placement down. The errors have the codes placement-exists,
// tier-missing and account-missing.
func (c *Catalog) AddPlacement(ctx context.Context, p *placement.Placement, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		in, err := tierNumber(ctx, tx, p.Tier)
		if err != nil {
			return err
		}
		err = tx.GetContext(ctx, &p.ID, `insert into placements (name, note, tier, sealing, everyone, created, created_by)
			values ($1, $2, $3, $4, $5, $6, $7) returning id`, p.Name, p.Note, in, p.Sealing, p.Everyone, by.At, by.Who)
		if unique(err) {
			return fault.New(fault.Conflict, "placement-exists", "there is a placement named %q already", p.Name).In("name").
				Do("choose another name")
		}
		if err == nil {
			err = offerTo(ctx, tx, p)
		}
		if err != nil {
			return err
		}
		return trail(ctx, tx, by, access.TrailSetting, "", "placement "+p.Name, map[string]any{"placement added": p.Name,
			"tier": p.Tier, "everyone": p.Everyone, "accounts": p.Accounts})
	})
}

// ChangePlacement changes to whom a placement is offered, and its note. What it is does not
// change: buckets have it. The errors are those of edit, and placement-missing, revision,
// account-missing.
func (c *Catalog) ChangePlacement(ctx context.Context, name string, ifRevision int, by Author,
	edit func(*placement.Placement) error) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `select 1 from placements where name = $1 for update`, name); err != nil {
			return err
		}
		p, err := placementNamed(ctx, tx, name)
		if err != nil {
			return err
		}
		if err := fault.Revision("the placement", p.Revision, ifRevision); err != nil {
			return err
		}
		before := *p
		if err := edit(p); err != nil {
			return err
		}
		changed := settingsChanged(before, *p)
		if _, err := tx.ExecContext(ctx,
			`update placements set note = $2, everyone = $3, revision = revision + 1 where id = $1`, p.ID, p.Note,
			p.Everyone); err != nil {
			return err
		}
		if err := offerTo(ctx, tx, p); err != nil {
			return err
		}
		return trail(ctx, tx, by, access.TrailSetting, "", "placement "+name, map[string]any{"placement changed": name,
			"everyone": p.Everyone, "accounts": p.Accounts, changedIn: changed})
	})
}

// RemovePlacement takes a placement away that no bucket has and no account's buckets get.
// The error otherwise has the code placement-used.
func (c *Catalog) RemovePlacement(ctx context.Context, name string, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `select 1 from placements where name = $1 for update`, name); err != nil {
			return err
		}
		p, err := placementNamed(ctx, tx, name)
		if err != nil {
			return err
		}
		var account sql.NullString
		if err := tx.GetContext(ctx, &account, `select (select name from accounts where placement = $1 order by 1 limit 1)`,
			p.ID); err != nil {
			return err
		}
		used := func(format string, args ...any) error {
			return fault.New(fault.Conflict, "placement-used", "the placement %s is used: "+format,
				append([]any{name}, args...)...).In("placement")
		}
		switch {
		case p.Buckets > 0:
			return used("buckets have it, %d of them", p.Buckets).(*fault.Error).
				Do("give them another one first (spindle bucket place)")
		case account.Valid:
			return used("buckets of the account %s get it", account.String).(*fault.Error).
				Do("give the account another default (spindle access account change)")
		}
		for _, q := range []string{`update buckets set placement = null where placement = $1`,
			`delete from placements where id = $1`} {
			if _, err := tx.ExecContext(ctx, q, p.ID); err != nil {
				return err
			}
		}
		return trail(ctx, tx, by, access.TrailSetting, "", "placement "+name, map[string]any{"placement removed": name})
	})
}

// PlacementPolicy gives what an account may choose from. The error for no such account has
// the code account-missing.
func (c *Catalog) PlacementPolicy(ctx context.Context, account string) (*placement.Policy, error) {
	var row struct {
		Default sql.NullString `db:"name"`
		Fixed   bool           `db:"fixed"`
		By      string         `db:"fixed_by"`
		Offered string         `db:"offered"`
	}
	err := c.db.GetContext(ctx, &row, `select p.name, a.placement_fixed as fixed, a.placement_by as fixed_by,
		(select coalesce(jsonb_agg(o.name order by o.name), '[]') from placements o where o.everyone or o.id = a.placement
			or exists (select 1 from placement_accounts x where x.placement = o.id and x.account = a.id))::text as offered
		from accounts a left join placements p on p.id = a.placement where a.name = $1`, account)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, noAccount(account)
	}
	if err != nil {
		return nil, mapError(err)
	}
	out := &placement.Policy{Account: account, Default: row.Default.String, Fixed: row.Fixed, By: row.By}
	return out, json.Unmarshal([]byte(row.Offered), &out.Offered)
}

// defaultPlacement gives the number of the placement that an account is to have; nil for none.
func defaultPlacement(ctx context.Context, tx *sqlx.Tx, a Account) (*int64, error) {
	if a.Placement != "" {
		p, err := placementNamed(ctx, tx, a.Placement)
		if err != nil {
			return nil, err
		}
		return &p.ID, nil
	}
	if a.Fixed {
		return nil, fault.New(fault.Invalid, "placement-fixed", "what is fixed is a placement, and none is named").
			In("placement").Do("name the placement that buckets of the account have")
	}
	return nil, nil
}

// place settles what the placement of settings means for them; before are those that were.
// The errors have the codes placement-missing and bucket-placed.
func place(ctx context.Context, tx *sqlx.Tx, s *bucket.Settings, before bucket.Settings) (id *int64, err error) {
	if s.Placement == "" {
		return nil, nil
	}
	p, err := placementNamed(ctx, tx, s.Placement)
	if err != nil {
		return nil, err
	}
	if s.Placement == before.Placement && (s.Tier != before.Tier || p.Sealing && !s.Sealing) {
		return nil, fault.New(fault.Conflict, "bucket-placed",
			"the bucket has the placement %s, which says where its bytes go",
			p.Name).In("placement").Do("give it another placement (spindle bucket place), or none")
	}
	if err := bucket.Tier(p.Tier)(s); err != nil {
		return nil, err
	}
	s.Sealing = s.Sealing || p.Sealing
	return &p.ID, nil
}

// Misplaced gives versions of the next keys, at most limit, after one, whose bodies are not
// as they are wanted. last is the last key that was looked at, nil at the end.
func (c *Catalog) Misplaced(ctx context.Context, bucketID int64, after []byte, w Wanted,
	limit int) (list []*object.Version,
	keys int, last []byte, err error) {
	if after == nil {
		after = []byte{}
	}
	err = c.inTx(ctx, func(tx *sqlx.Tx) error {
		var names [][]byte
		if err := tx.SelectContext(ctx, &names, `select key from heads where bucket = $1 and key > $2 order by key limit $3`,
			bucketID, after, limit); err != nil || len(names) == 0 {
			return err
		}
		if keys, last = len(names), names[len(names)-1]; keys < limit {
			last = nil
		}
		var rows []misplacedRow
		if err := tx.SelectContext(ctx, &rows, `with v as (
				select key, number, revision, size, crc64, tier, body_file, body_offset from heads where bucket = $1
					and key = any($2)
				union all select key, number, revision, size, crc64, tier, body_file, body_offset from history
					where bucket = $1 and key = any($2))
			select v.* from v where body_file <> 0 and case
				when body_file > 0 then `+misplaced("v")+`
				else exists (select 1 from parts p where p.upload = -v.body_file and p.body_file > 0 and `+misplaced("p")+`) end
			order by key, number`, bucketID, names, w.From, w.To, w.Pieces, w.Sealed, object.SealedBit, w.All); err != nil {
			return err
		}
		for i := range rows {
			v, err := rows[i].version()
			if err != nil {
				return err
			}
			list = append(list, v)
		}
		return nil
	})
	return list, keys, last, err
}

// Wanted is how bodies are to be kept.
type Wanted struct {
	From, To int16 // tiers; what is in others stays, unless All
	Pieces   bool  // To keeps pieces
	Sealed   bool  // they are to be sealed; those that are stay so
	All      bool
}

// misplaced is the condition that a body is not as it is wanted.
func misplaced(t string) string {
	return `(` + t + `.tier <> $4 and ($8 or ` + t + `.tier = $3) or ` + t + `.tier = $4 and ` + t +
		`.tier <> 0 and (` + t + `.body_offset = -3) <> $5 or ` + t + `.tier in ($3, $4) and $6 and ` + t +
		`.body_file & $7 = 0)`
}

type misplacedRow struct {
	Key        []byte `db:"key"`
	Number     int64  `db:"number"`
	Revision   int    `db:"revision"`
	Size       int64  `db:"size"`
	CRC64      int64  `db:"crc64"`
	Tier       int16  `db:"tier"`
	BodyFile   int64  `db:"body_file"`
	BodyOffset int64  `db:"body_offset"`
}

func (r *misplacedRow) version() (*object.Version, error) {
	key, err := object.ParseKey(string(r.Key))
	return &object.Version{Key: key, Number: r.Number, Revision: r.Revision, Size: r.Size, CRC64: uint64(r.CRC64),
		Body: object.BodyRef{Tier: r.Tier, File: r.BodyFile, Offset: r.BodyOffset}}, err
}

// PlacingOf gives the last order that gives a bucket a placement, unless it is done; nil for none.
func (c *Catalog) PlacingOf(ctx context.Context, bucketID int64) (*Order, error) {
	var ids []int64
	if err := c.db.SelectContext(ctx, &ids, `select id from (select id, state from orders where bucket = $1
		and kind = 'place' order by id desc limit 1) o where state <> 'done'`, bucketID); err != nil || len(ids) == 0 {
		return nil, mapError(err)
	}
	return c.Order(ctx, ids[0])
}
