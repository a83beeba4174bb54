package desk

import (
	"context"
	"strings"

	"spindle/internal/core/access"
	"spindle/internal/core/fault"
)

// keyID gives the id of a key that who asks administers, from its id, its name in the account one
// acts in, or ACCOUNT/NAME. What names none stays as it is. The error for a name that several keys
// have is key-ambiguous.
func (d *Desk) keyID(ctx context.Context, named string) (string, error) {
	account, _ := keyNamed(ctx, named)
	if !who(ctx).subject.Administers(account) {
		return named, nil
	}
	return d.anyKeyID(ctx, named)
}

// whoNamed gives what records call somebody who is named: a person as they are, a key by its id.
func (d *Desk) whoNamed(ctx context.Context, named string) (string, error) {
	p, err := d.store.Catalog.FindPerson(ctx, strings.TrimPrefix(named, "person "))
	if err != nil || p != nil {
		return named, err
	}
	return d.keyID(ctx, named)
}

// keyNamed splits how a key is named into the account and its name.
func keyNamed(ctx context.Context, named string) (account, name string) {
	if account, name, ok := strings.Cut(named, "/"); ok {
		return account, name
	}
	return who(ctx).subject.Account, named
}

// anyKeyID does what keyID does, for a key of any account. Whoever offers it counts misses.
func (d *Desk) anyKeyID(ctx context.Context, named string) (string, error) {
	if k, err := d.gate.Keys.Find(ctx, named); named == "" || err != nil || k != nil {
		return named, err
	}
	account, name := keyNamed(ctx, named)
	ids, err := d.store.Catalog.KeysNamed(ctx, account, name)
	several := len(ids) > 1
	switch {
	case err != nil || len(ids) == 0 || several && !who(ctx).subject.Administers(account):
		return named, err
	case several:
		return "", fault.New(fault.Conflict, "key-ambiguous", "several keys of the account %s are named %q", account, name).
			In("key").Do("give its id")
	}
	return ids[0], nil
}

// grantee reads whom a grant is for; a key by its id or name.
func (d *Desk) grantee(ctx context.Context, to string) (access.Grantee, error) {
	g, err := access.ParseGrantee(to)
	if err == nil && g.Kind == access.ToKey {
		g.Name, err = d.anyKeyID(ctx, g.Name)
	}
	return g, err
}
