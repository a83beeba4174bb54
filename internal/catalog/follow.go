package catalog

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"regexp"
	"time"

	"github.com/jmoiron/sqlx"
)

// position is a place in the journal: entries are in the order of (xid, seq) for all
// readers, and never read at or above the oldest transaction under way, so that none
// is missed that commits late.
type position struct {
	XID string `db:"xid"`
	Seq int64  `db:"seq"`
}

// belowHorizon is what every reader of the journal asks of its entries.
const belowHorizon = `xid < (select journal_horizon())`

// Stretch is what a follower reads at once: the entries after From, up to To.
type Stretch struct {
	From, To position
	Entries  int
}

// Follow reads the journal on for a follower, at most limit entries. f acts on them in
// the transaction in which the follower's place is moved: both happen, or neither. It
// gives how many entries there were. A follower that is new begins at the beginning.
func (c *Catalog) Follow(ctx context.Context, name string, limit int,
	f func(context.Context, *sqlx.Tx, Stretch) error) (n int, err error) {
	err = c.inTx(ctx, func(tx *sqlx.Tx) error {
		// The moment is taken before the horizon: what is read is complete up to it.
		var moment time.Time
		if err := tx.GetContext(ctx, &moment, `select complete_up_to()`); err != nil {
			return err
		}
		s := Stretch{}
		err := tx.GetContext(ctx, &s.From, `select xid::text as xid, seq from followers where name = $1 for update`, name)
		if errors.Is(err, sql.ErrNoRows) {
			err = tx.GetContext(ctx, &s.From,
				`insert into followers (name, xid, seq, upto) values ($1, '0', 0, 'epoch') returning xid::text as xid, seq`, name)
		}
		if err != nil {
			return err
		}
		var last struct {
			position
			N int `db:"n"`
		}
		err = tx.GetContext(ctx, &last, `select xid::text as xid, seq, n from (select xid, seq, count(*) over () as n from (
			select xid, seq from journal where (xid, seq) > ($1::xid8, $2) and `+belowHorizon+` order by xid, seq limit $3) x) y
				order by y.xid desc, y.seq desc limit 1`, s.From.XID, s.From.Seq, limit)
		if errors.Is(err, sql.ErrNoRows) {
			_, err := tx.ExecContext(ctx, `update followers set upto = $2, moved = now() where name = $1`, name, moment)
			return err
		}
		if err != nil {
			return err
		}
		s.To, s.Entries = last.position, last.N
		if err := f(ctx, tx, s); err != nil {
			return err
		}
		n = s.Entries
		_, err = tx.ExecContext(ctx,
			`update followers set xid = $2::xid8, seq = $3, upto = case when $4 then $5 else upto end, moved = now()
				where name = $1`,
			name, s.To.XID, s.To.Seq, n < limit, moment)
		return err
	})
	return n, err
}

// RollUp has usage follow the journal by at most limit entries, and says how many it
// read.
func (c *Catalog) RollUp(ctx context.Context, limit int) (int, error) {
	return c.Follow(ctx, "usage", limit, func(ctx context.Context, tx *sqlx.Tx, s Stretch) error {
		_, err := tx.ExecContext(ctx, `select add_usage($1::xid8, $2, $3::xid8, $4)`, s.From.XID, s.From.Seq, s.To.XID,
			s.To.Seq)
		return err
	})
}

var journalMonth = regexp.MustCompile(`^journal_(\d{4})_(\d{2})$`)

// ForgetJournal lets go of the months of the journal that ended before a moment and
// that every follower has read, oldest first, and says which.
func (c *Catalog) ForgetJournal(ctx context.Context, before time.Time) (gone []string, err error) {
	var names []string
	if err := c.db.SelectContext(ctx, &names,
		`select c.relname from pg_inherits i join pg_class c on c.oid = i.inhrelid where i.inhparent = 'journal'::regclass
			order by 1`); err != nil {
		return nil, mapError(err)
	}
	for _, name := range names {
		m := journalMonth.FindStringSubmatch(name)
		if m == nil {
			continue
		}
		month, err := time.Parse("2006 01", m[1]+" "+m[2])
		if err != nil || month.AddDate(0, 1, 0).After(before) {
			continue
		}
		dropped, err := c.forgetMonth(ctx, name)
		if err != nil {
			return gone, err
		}
		if dropped {
			gone = append(gone, name)
		}
	}
	return gone, nil
}

func (c *Catalog) forgetMonth(ctx context.Context, name string) (dropped bool, err error) {
	err = c.inTx(ctx, func(tx *sqlx.Tx) error {
		var behind bool // somebody has not read it all
		if err := tx.GetContext(ctx, &behind,
			fmt.Sprintf(`select exists (select 1 from followers f where exists (select 1 from %s j
				where (j.xid, j.seq) > (f.xid, f.seq)))`, name)); err != nil || behind {
			return err
		}
		dropped = true
		_, err := tx.ExecContext(ctx, `drop table `+name)
		return err
	})
	return dropped && err == nil, err
}
