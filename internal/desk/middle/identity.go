package middle

import (
	"context"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/keyring"
)

// sees reports whether who asks may know of an account.
func (d *Middle) Knows(ctx context.Context, account string) bool {
	s := Who(ctx).Subject
	return s.Operator || s.Account == account
}

// KeyID gives the id of a key that who asks administers, from its id, its name in the account one
// acts in, or ACCOUNT/NAME. What names none stays as it is. The error for a name that several keys
// have is key-ambiguous.
func (d *Middle) KeyID(ctx context.Context, named string) (string, error) {
	account, _ := keyNamed(ctx, named)
	if !Who(ctx).Subject.Administers(account) {
		return named, nil
	}
	return d.AnyKeyID(ctx, named)
}

// StillThere refuses who may ask no more, or is no longer who they were.
func (d *Middle) StillThere(ctx context.Context, was access.Subject) error {
	id := *Who(ctx)
	if id.Session != nil {
		s, err := d.Store.Catalog.FindSession(ctx, id.Session.Token, time.Now())
		if err != nil {
			return err
		}
		if s == nil {
			return SessionEnded()
		}
		s.Account = was.Account // that the page acts in; whether it may is found out
		id.Session = s
		if err := d.Holder(ctx, &id); err != nil {
			return err
		}
	} else {
		k, err := d.Gate.Key(ctx, id.Key.ID)
		if err == nil {
			err = k.Works(time.Now())
		}
		if err != nil {
			return err
		}
		id.Subject = k.Subject()
	}
	if id.Subject.Account != was.Account || id.Subject.Operator != was.Operator || id.Subject.Role != was.Role ||
		len(id.Subject.Limits) != len(was.Limits) {
		return SessionEnded()
	}
	return nil
}

// SessionEnded is the error for a session that ended.
func SessionEnded() error {
	return fault.New(fault.Unsigned, "session-ended", "the session has ended").In("session").Do("sign in again")
}

// IdentityKey is where the context of a call has its Identity.
type IdentityKey struct{}

// Identity is who asks.
type Identity struct {
	Subject access.Subject
	Key     *keyring.Key       // nil for a person
	Person  *catalog.PersonRow // nil for a key
	Session *catalog.Session   // nil when the request is signed
	Source  string
	Program string
	Device  string // the token of the device's cookie, if it has one
}

// Who gives who makes a call.
func Who(ctx context.Context) *Identity {
	id, _ := ctx.Value(IdentityKey{}).(*Identity)
	return id
}

// Author gives who makes a call as the author of what it changes.
func Author(ctx context.Context) catalog.Author {
	id := Who(ctx)
	return catalog.Author{At: time.Now().UTC().Truncate(time.Microsecond), Who: id.Subject.By(), Source: id.Source}
}

// Holder finds the key or person of a session, as they are now.
func (d *Middle) Holder(ctx context.Context, id *Identity) (err error) {
	gone := fault.New(fault.Unsigned, "session-ended",
		"the session has ended: the key or password it was opened with no longer works").
		In("session").Do("sign in again")
	if id.Session.Key != nil {
		if id.Key, err = d.Gate.Keys.Find(ctx, *id.Session.Key); err != nil {
			return err
		}
		if id.Key == nil || id.Key.Works(time.Now()) != nil {
			return gone
		}
		id.Subject = id.Key.Subject()
		if id.Subject.Operator {
			id.Subject.Account = id.Session.Account
		}
		return nil
	}
	if id.Person, err = d.Store.Catalog.FindPerson(ctx, *id.Session.Person); err != nil {
		return err
	}
	if id.Person == nil || !id.Person.Active {
		return gone
	}
	id.Subject = access.Subject{Kind: access.Person, Name: id.Person.Name, Account: id.Session.Account,
		Operator: id.Person.Operator}
	for _, m := range id.Person.Members {
		if m.Account == id.Session.Account {
			id.Subject.Role = m.Role
		}
	}
	if id.Subject.Role == access.None && !id.Subject.Operator {
		return gone
	}
	return nil
}
