package catalog

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jmoiron/sqlx"

	"spindle/internal/core/access"
	"spindle/internal/core/fault"
)

// Account owns buckets and keys.
type Account struct {
	Name       string    `db:"name"`
	Operator   bool      `db:"operator"`
	Note       string    `db:"note"`
	Quota      *int64    `db:"quota"`
	MaxBuckets *int      `db:"buckets"`
	Revision   int       `db:"revision"`
	Created    time.Time `db:"created"`
	Buckets    int       `db:"has_buckets"`
	Keys       int       `db:"has_keys"`
	People     int       `db:"has_people"`
	Bytes      int64     `db:"bytes"`
	Placement  string    `db:"placement"` // of buckets that name none; "" for none
	Fixed      bool      `db:"fixed"`     // they all have it
	FixedBy    string    `db:"fixed_by"`
	Admitted   bool      `db:"admitted"`    // it may make buckets in this region
	Region     string    `db:"home_region"` // where its buckets are made that name none; "" for here
}

const accountQuery = `select a.name, a.operator, a.note, a.quota, a.buckets, a.revision, a.created,
	(select count(*) from buckets b where b.account = a.id and b.removed is null) as has_buckets,
	(select count(*) from access_keys k where k.account = a.id) as has_keys,
	(select count(*) from memberships m where m.account = a.id) as has_people,
	coalesce((select sum(u.bytes + u.prev_bytes) from buckets b join usage_now u on u.bucket = b.id where b.account = a.id
		and b.removed is null), 0)::bigint as bytes, coalesce((select p.name from placements p where p.id = a.placement), '')
		as placement, a.placement_fixed as fixed, a.placement_by as fixed_by,
	a.admitted, a.home_region
	from accounts a `

// Accounts gives a page of accounts by name after a name.
func (c *Catalog) Accounts(ctx context.Context, after string, limit int) ([]Account, error) {
	out := []Account{}
	err := c.db.SelectContext(ctx, &out, accountQuery+`where a.name > $1 order by a.name limit $2`, after, limit)
	return out, mapError(err)
}

// Account gives one account. The error for none has the code account-missing.
func (c *Catalog) Account(ctx context.Context, name string) (*Account, error) {
	var a Account
	err := c.db.GetContext(ctx, &a, accountQuery+`where a.name = $1`, name)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, noAccount(name)
	}
	return &a, mapError(err)
}

func noAccount(name string) error {
	return fault.New(fault.NotFound, "account-missing", "there is no account named %q", name).In("account").
		Do("check the name, or create it")
}

func exists(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == "23505"
}

// CreateAccount makes an account. The error for one that is there has the code
// account-exists.
func (c *Catalog) CreateAccount(ctx context.Context, a Account, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx,
			`insert into accounts (name, note, quota, buckets, created) values ($1, $2, $3, $4, $5)`, a.Name, a.Note, a.Quota,
			a.MaxBuckets, by.At)
		if exists(err) {
			return fault.New(fault.Conflict, "account-exists", "there is an account named %q already", a.Name).In("name").
				Do("choose another name")
		}
		if err != nil {
			return err
		}
		return trail(ctx, tx, by, access.TrailAccountCreated, a.Name, a.Name, nil)
	})
}

// conflict is the answer to a change of what somebody else changed meanwhile.
func conflict(what string, found, wanted int) error {
	return fault.New(fault.Conflict, "revision", "%s was changed meanwhile: it is at revision %d, not %d", what, found,
		wanted).In("ifRevision").
		Do("look at it again, and repeat the change on what is there now")
}

// ChangeAccount writes note, quotas and placement of an account whose revision is still
// a.Revision; 0 for any.
func (c *Catalog) ChangeAccount(ctx context.Context, a Account, by Author) error {
	defer c.LookAgain()
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		var before Account
		err := tx.GetContext(ctx, &before, `select note, quota, buckets, revision, placement_fixed as fixed, home_region,
			coalesce((select p.name from placements p where p.id = a.placement), '') as placement
			from accounts a where name = $1 for update of a`, a.Name)
		if errors.Is(err, sql.ErrNoRows) {
			return noAccount(a.Name)
		}
		if err == nil && a.Revision != 0 && a.Revision != before.Revision {
			return conflict("the account", before.Revision, a.Revision)
		}
		is := Account{Note: a.Note, Quota: a.Quota, MaxBuckets: a.MaxBuckets, Revision: before.Revision, Region: a.Region,
			Placement: a.Placement, Fixed: a.Fixed}
		var placed *int64
		if err == nil {
			placed, err = defaultPlacement(ctx, tx, a)
		}
		if err == nil {
			_, err = tx.ExecContext(ctx, `update accounts set note = $2, quota = $3, buckets = $4, revision = revision + 1,
				placement_by = case when (placement, placement_fixed) is distinct from ($5::bigint, $6) then $7
					else placement_by end,
				placement = $5, placement_fixed = $6, home_region = $8 where name = $1`, a.Name, a.Note, a.Quota, a.MaxBuckets, placed,
				a.Fixed, by.Who, a.Region)
		}
		if err != nil {
			return err
		}
		return trail(ctx, tx, by, access.TrailAccountChanged, a.Name, a.Name,
			map[string]any{"quota": a.Quota, "maxBuckets": a.MaxBuckets, "placement": a.Placement, "placementFixed": a.Fixed,
				changedIn: settingsChanged(before, is)})
	})
}

// RemoveAccount removes an account without buckets, with its keys, memberships
// and what it was granted. The errors have the codes account-holds-buckets and
// account-operator.
func (c *Catalog) RemoveAccount(ctx context.Context, name string, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		var id int64
		var operator bool
		err := tx.QueryRowxContext(ctx, `select id, operator from accounts where name = $1 for update`, name).
			Scan(&id, &operator)
		switch {
		case errors.Is(err, sql.ErrNoRows):
			return noAccount(name)
		case err != nil:
			return err
		case operator:
			return fault.New(fault.Conflict, "account-operator", "the account %q operates the service", name).In("account").
				Do("it stays")
		}
		var n int
		if err := tx.GetContext(ctx, &n, `select count(*) from buckets where account = $1 and removed is null`,
			id); err != nil {
			return err
		}
		if n > 0 {
			return fault.New(fault.Conflict, "account-holds-buckets", "the account %q still owns %d buckets", name, n).
				In("account").Do("remove its buckets first")
		}
		// Removed buckets stay for the journal, under the account that operates.
		for _, q := range []string{
			`update buckets set account = (select id from accounts where operator order by id limit 1) where account = $1`,
			named(`delete from grants where to_kind = @ToKey and to_name in (select id from access_keys where account = $1)`),
			`delete from access_keys where account = $1`,
			`delete from memberships where account = $1`,
			`delete from accounts where id = $1`,
		} {
			if _, err := tx.ExecContext(ctx, q, id); err != nil {
				return err
			}
		}
		// Whoever takes the name later has no part in what was: it is the operators'.
		for _, q := range []string{named(`delete from grants where to_kind = @ToAccount and to_name = $1`),
			`delete from sessions where account = $1`, `update trail set account = '' where account = $1`} {
			if _, err := tx.ExecContext(ctx, q, name); err != nil {
				return err
			}
		}
		return trail(ctx, tx, by, access.TrailAccountRemoved, "", name, nil)
	})
}

// Member is a person's role in an account.
type Member struct {
	Account string      `db:"account" json:"account"`
	Role    access.Role `db:"role" json:"-"`
}

// PersonRow is somebody who signs in.
type PersonRow struct {
	Name       string     `db:"name"`
	Password   string     `db:"password"` // argon2id
	Operator   bool       `db:"operator"`
	Active     bool       `db:"active"`
	Note       string     `db:"note"`
	MustChange bool       `db:"must_change"`
	Created    time.Time  `db:"created"`
	CreatedBy  string     `db:"created_by"`
	SignedIn   *time.Time `db:"signed_in"`
	Revision   int        `db:"revision"`
	Members    []Member   `db:"-"`
}

func noPerson(name string) error {
	return fault.New(fault.NotFound, "person-missing", "there is no person named %q", name).In("person").
		Do("check the name")
}

// People gives a page of people by name after a name; those of one account when
// it is not "".
func (c *Catalog) People(ctx context.Context, account, after string, limit int) ([]PersonRow, error) {
	out := []PersonRow{}
	q := where().and(`p.name > ?`, after).when(account != "", `exists (select 1 from memberships m
		join accounts a on a.id = m.account
		where m.person = p.name and a.name = ?)`, account)
	if err := c.db.SelectContext(ctx, &out,
		`select p.* from people p where `+q.String()+` order by p.name limit `+q.arg(limit), q.args...); err != nil {
		return nil, mapError(err)
	}
	names := make([]string, len(out))
	at := map[string]int{}
	for i, p := range out {
		names[i], at[p.Name] = p.Name, i
	}
	var rows []struct {
		Person string `db:"person"`
		Member
	}
	if err := c.db.SelectContext(ctx, &rows,
		`select m.person, a.name as account, m.role from memberships m join accounts a on a.id = m.account
			where m.person = any($1) order by a.name`, names); err != nil {
		return nil, mapError(err)
	}
	for _, r := range rows {
		p := &out[at[r.Person]]
		p.Members = append(p.Members, r.Member)
	}
	return out, nil
}

// FindPerson gives a person; nil when there is none.
func (c *Catalog) FindPerson(ctx context.Context, name string) (*PersonRow, error) {
	var p PersonRow
	err := c.db.GetContext(ctx, &p, `select * from people where name = $1`, plainText(name))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, mapError(err)
	}
	err = c.db.SelectContext(ctx, &p.Members,
		`select a.name as account, m.role from memberships m join accounts a on a.id = m.account where m.person = $1
			order by a.name`, p.Name)
	return &p, mapError(err)
}

// CreatePerson makes a person. The error for one that is there has the code
// person-exists.
func (c *Catalog) CreatePerson(ctx context.Context, p PersonRow, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if p.Operator {
			if err := mustOperate(ctx, tx, by, p.Name+" would operate the service"); err != nil {
				return err
			}
		}
		if err := soleName(ctx, tx, "access_keys", "id", p.Name, "name"); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx,
			`insert into people (name, password, operator, note, must_change, created, created_by)
				values ($1, $2, $3, $4, $5, $6, $7)`,
			p.Name, p.Password, p.Operator, p.Note, p.MustChange, by.At, by.Who)
		if exists(err) {
			return fault.New(fault.Conflict, "person-exists", "there is a person named %q already", p.Name).In("name").
				Do("choose another name, or change that person")
		}
		if err != nil {
			return err
		}
		if err := setMembers(ctx, tx, p.Name, p.Members); err != nil {
			return err
		}
		return trailPerson(ctx, tx, by, access.TrailPersonCreated, p, nil)
	})
}

func setMembers(ctx context.Context, tx *sqlx.Tx, person string, members []Member) error {
	if _, err := tx.ExecContext(ctx, `delete from memberships where person = $1`, person); err != nil {
		return err
	}
	for _, m := range members {
		r, err := tx.ExecContext(ctx,
			`insert into memberships (person, account, role) select $1, id, $3 from accounts where name = $2`, person, m.Account,
			m.Role)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err == nil && n == 0 {
			return noAccount(m.Account)
		}
	}
	return nil
}

// trailPerson tells each account of a person what happened; the operator's
// entries have no account when the person has none.
func trailPerson(ctx context.Context, tx *sqlx.Tx, by Author, kind string, p PersonRow, more map[string]any) error {
	detail := map[string]any{"operator": p.Operator, "active": p.Active}
	for _, m := range p.Members {
		detail[m.Account] = m.Role.String()
	}
	for k, v := range more {
		detail[k] = v
	}
	accounts := []string{""}
	if len(p.Members) > 0 {
		accounts = nil
		for _, m := range p.Members {
			accounts = append(accounts, m.Account)
		}
	}
	for _, a := range accounts {
		if err := trail(ctx, tx, by, kind, a, p.Name, detail); err != nil {
			return err
		}
	}
	return nil
}

// ChangePerson changes a person under lock: edit gets what is there. The last
// active operator stays one, if no key operates: the error has the code
// last-operator; that for who may not touch an operator is operator-only. Whoever is no longer active has no sessions.
func (c *Catalog) ChangePerson(ctx context.Context, name string, ifRevision int, by Author, kind string,
	edit func(*PersonRow) error) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		var p PersonRow
		// One change of operators at a time, so that two do not remove each other.
		if err := lockAlone(ctx, tx, accessLock, operatorsLock); err != nil {
			return err
		}
		err := tx.GetContext(ctx, &p, `select * from people where name = $1 for update`, name)
		if errors.Is(err, sql.ErrNoRows) {
			return noPerson(name)
		}
		if err != nil {
			return err
		}
		if err := tx.SelectContext(ctx, &p.Members,
			`select a.name as account, m.role from memberships m join accounts a on a.id = m.account where m.person = $1
				order by a.name`, name); err != nil {
			return err
		}
		if ifRevision != 0 && ifRevision != p.Revision {
			return conflict("the person", p.Revision, ifRevision)
		}
		was := p
		was.Members = append([]Member{}, p.Members...)
		if err := edit(&p); err != nil {
			return err
		}
		self := by.Who == access.Subject{Kind: access.Person, Name: name}.By()
		if (was.Operator || p.Operator) && !(self && p.Operator == was.Operator) {
			if err := mustOperate(ctx, tx, by, name+" operates the service"); err != nil {
				return err
			}
		}
		if was.Operator && was.Active && !(p.Operator && p.Active) {
			if err := lastOperator(ctx, tx, name); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx,
			`update people set password = $2, operator = $3, active = $4, note = $5, must_change = $6, revision = revision + 1
				where name = $1`,
			name, p.Password, p.Operator, p.Active, p.Note, p.MustChange); err != nil {
			return err
		}
		if err := setMembers(ctx, tx, name, p.Members); err != nil {
			return err
		}
		if !p.Active || p.Password != was.Password {
			if _, err := tx.ExecContext(ctx, `delete from sessions where person = $1`, name); err != nil {
				return err
			}
		}
		return trailPerson(ctx, tx, by, kind, p, nil)
	})
}

// lastOperator refuses to take the last operator away, be it a person or a key.
func lastOperator(ctx context.Context, tx *sqlx.Tx, but string) error {
	var others bool
	if err := tx.GetContext(ctx, &others, `select exists (select 1 from people where operator and active and name <> $1)
		or exists (select 1 from access_keys where operator and active and expires is null and id <> $1)`, but); err != nil {
		return err
	}
	if !others {
		return fault.New(fault.Conflict, "last-operator", "%s is the last that operates the service", but).In("operator").
			Do("make somebody else an operator first")
	}
	return nil
}

// RemovePerson removes a person, with sessions and what was granted to them.
func (c *Catalog) RemovePerson(ctx context.Context, name string, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := lockAlone(ctx, tx, accessLock, operatorsLock); err != nil {
			return err
		}
		var p PersonRow
		err := tx.GetContext(ctx, &p, `select * from people where name = $1 for update`, name)
		if errors.Is(err, sql.ErrNoRows) {
			return noPerson(name)
		}
		if err != nil {
			return err
		}
		if err := tx.SelectContext(ctx, &p.Members,
			`select a.name as account, m.role from memberships m join accounts a on a.id = m.account where m.person = $1`,
			name); err != nil {
			return err
		}
		if p.Operator {
			if err := mustOperate(ctx, tx, by, name+" operates the service"); err != nil {
				return err
			}
		}
		if p.Operator && p.Active {
			if err := lastOperator(ctx, tx, name); err != nil {
				return err
			}
		}
		for _, q := range []string{named(`delete from grants where to_kind = @ToPerson and to_name = $1`),
			`delete from people where name = $1`} {
			if _, err := tx.ExecContext(ctx, q, name); err != nil {
				return err
			}
		}
		return trailPerson(ctx, tx, by, access.TrailPersonRemoved, p, nil)
	})
}

// NoteSignIn records that a person signed in.
func (c *Catalog) NoteSignIn(ctx context.Context, name string, now time.Time) error {
	_, err := c.db.ExecContext(ctx, `update people set signed_in = $2 where name = $1`, name, now)
	return mapError(err)
}
