package access

import (
	"context"
	"slices"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/desk/middle"
	"spindle/internal/keyring"
)

// password gives the digest of a password, and the password when it was made.
func password(ctx context.Context, given string) (coded, made string, err error) {
	if given == "" {
		_, made = keyring.Generate()
		given = made[:20]
		made = given
	}
	coded, err = keyring.HashPassword(ctx, given)
	return coded, made, err
}

// members applies roles to those there are; only an operator gives roles in other
// accounts than that of the session.
func (d *Desk) members(ctx context.Context, roles []api.RoleIn, have []catalog.Member) ([]catalog.Member, error) {
	out := slices.Clone(have)
	for _, r := range roles {
		if err := d.Administers(ctx, r.Account, "give a role"); err != nil {
			return nil, err
		}
		out = slices.DeleteFunc(out, func(m catalog.Member) bool { return m.Account == r.Account })
		if r.Role == "none" {
			continue
		}
		role, err := access.ParseRole(r.Role)
		if err != nil {
			return nil, err
		}
		out = append(out, catalog.Member{Account: r.Account, Role: role})
	}
	return out, nil
}

func (d *Desk) personSecret(ctx context.Context, name, made string) (*personSecretOut, error) {
	p, err := d.Store.Catalog.FindPerson(ctx, name)
	if err == nil && p == nil {
		err = fault.New(fault.NotFound, "person-missing", "%q was removed meanwhile", name)
	}
	if err != nil {
		return nil, err
	}
	return &personSecretOut{api.PersonSecret{Person: d.personSeen(ctx, p), Password: made}}, nil
}

func (d *Desk) changePerson(ctx context.Context, in *struct {
	PersonPath
	Body api.PersonChange
}) (*personOut, error) {
	if _, err := d.person(ctx, in.Person); err != nil {
		return nil, err
	}
	b := in.Body
	err := d.Store.Catalog.ChangePerson(ctx, in.Person, b.IfRevision, middle.Author(ctx), access.TrailPersonChanged,
		func(p *catalog.PersonRow) error {
			all := middle.Who(ctx).Subject.Operator
			if (b.Operator != nil || b.Active != nil || b.Note != nil || b.Unlock) && !all && !d.owns(ctx, p) {
				return d.Refused(ctx, p.Name, "change a person", p.Name+" has roles beyond the account "+middle.Who(ctx).Subject.Account,
					"ask an operator")
			}
			if b.Operator != nil {
				if !all {
					return d.Refused(ctx, p.Name, "make an operator", "only an operator makes another", "ask one")
				}
				p.Operator = *b.Operator
			}
			if b.Active != nil {
				p.Active = *b.Active
			}
			if b.Note != nil {
				if err := access.CheckNote(*b.Note); err != nil {
					return err
				}
				p.Note = *b.Note
			}
			var err error
			if p.Members, err = d.members(ctx, b.Roles, p.Members); err != nil {
				return err
			}
			if !p.Operator && len(p.Members) == 0 {
				return fault.New(fault.Invalid, "no-account", "%s would have no role anywhere", p.Name).In("roles").
					Do("remove the person instead")
			}
			return nil
		})
	if err != nil {
		return nil, err
	}
	if b.Unlock {
		if err := d.Store.Catalog.ForgetTries(ctx, claim{person: in.Person}.subject()); err != nil {
			return nil, err
		}
	}
	p, err := d.person(ctx, in.Person)
	if err != nil {
		return nil, err
	}
	return d.personShown(ctx, p)
}

func (d *Desk) resetPerson(ctx context.Context, in *struct {
	PersonPath
	Body api.ResetAsk
}) (*personSecretOut, error) {
	p, err := d.person(ctx, in.Person)
	if err == nil && !middle.Who(ctx).Subject.Operator && !d.owns(ctx, p) {
		err = d.Refused(ctx, p.Name, "reset a password", p.Name+" has roles beyond the account "+middle.Who(ctx).Subject.Account,
			"ask an operator")
	}
	if err != nil {
		return nil, err
	}
	coded, made, err := password(ctx, in.Body.Password)
	if err != nil {
		return nil, err
	}
	if err := d.Store.Catalog.ChangePerson(ctx, in.Person, 0, middle.Author(ctx), access.TrailPassword,
		func(p *catalog.PersonRow) error {
			p.Password, p.MustChange = coded, true
			return nil
		}); err != nil {
		return nil, err
	}
	return d.personSecret(ctx, in.Person, made)
}

func (d *Desk) removePerson(ctx context.Context, in *PersonPath) (*struct{}, error) {
	p, err := d.person(ctx, in.Person)
	if err == nil && !middle.Who(ctx).Subject.Operator && !d.owns(ctx, p) {
		err = d.Refused(ctx, p.Name, "remove a person", p.Name+" has roles beyond the account "+middle.Who(ctx).Subject.Account,
			"take the role in your account away, or ask an operator")
	}
	if err == nil {
		err = d.Store.Catalog.RemovePerson(ctx, in.Person, middle.Author(ctx))
	}
	if err != nil {
		return nil, err
	}
	d.Gate.Changed()
	return nil, nil
}
