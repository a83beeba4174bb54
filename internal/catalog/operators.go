package catalog

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/access"
	"spindle/internal/core/fault"
)

// mustOperate refuses who does not operate the service at this moment, in the
// transaction of what he wants to do. The error has the code operator-only.
func mustOperate(ctx context.Context, tx *sqlx.Tx, by Author, what string) error {
	if by.Who == access.Machine { // whoever has the machine has the database
		return nil
	}
	q := `select coalesce((select operator and active and (expires is null or expires > now()) from access_keys
		where id = $1 for share), false)`
	kind, name := access.ParseBy(by.Who)
	switch kind {
	case access.Person:
		q = `select coalesce((select operator and active from people where name = $1 for share), false)`
	case access.Anyone:
		q = `select $1 = ''`
	}
	var yes bool
	if err := tx.GetContext(ctx, &yes, q, name); err != nil {
		return err
	}
	if !yes {
		return fault.New(fault.Refused, "operator-only", "%s: only an operator may do that", what).In("operator").
			Do("ask one")
	}
	return nil
}

// Operates reports whether somebody of an account operates the service.
func (c *Catalog) Operates(ctx context.Context, account string) (yes bool, err error) {
	err = c.db.GetContext(ctx, &yes, `select exists (select 1 from access_keys k join accounts a on a.id = k.account
		where a.name = $1
			and k.operator and k.active)
		or exists (select 1 from people p join memberships m on m.person = p.name join accounts a on a.id = m.account
		where a.name = $1
			and p.operator and p.active)`, account)
	return yes, mapError(err)
}

// mayTouchKey refuses to make, change, replace or remove a key that operates the
// service to who does not; and a key that would operate and be less than an
// administrator.
func mayTouchKey(ctx context.Context, tx *sqlx.Tx, by Author, k AccessKey) error {
	if !k.Operator {
		return nil
	}
	if k.Role != access.Administrator || len(k.Limits) > 0 {
		return fault.New(fault.Invalid, "operator-role",
			"a key that operates the service is an administrator's, without limits").In("operator").
			Do("take operating away first, or leave role and limits as they are")
	}
	return mustOperate(ctx, tx, by, fmt.Sprintf("the key %s operates the service", k.ID))
}

// soleName refuses a name that one of the other kind has: records tell keys and
// people apart, and so should who reads them. The error has the code name-taken.
func soleName(ctx context.Context, tx *sqlx.Tx, table, column, name, field string) error {
	if err := lockAlone(ctx, tx, accessLock, namesLock); err != nil {
		return err
	}
	var taken bool
	if err := tx.GetContext(ctx, &taken, `select exists (select 1 from `+table+` where lower(`+column+`) = lower($1))`,
		name); err != nil {
		return err
	}
	if taken {
		return fault.New(fault.Conflict, "name-taken",
			"%q is taken: a key and a person cannot have one name, whatever its capitals", name).In(field).Do("choose another")
	}
	return nil
}
