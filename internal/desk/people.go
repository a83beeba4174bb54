package desk

import (
	"context"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"golang.org/x/text/unicode/norm"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/keyring"
)

// PersonInfo is somebody who signs in.
type PersonInfo struct {
	Name       string     `json:"name"`
	Operator   bool       `json:"operator" doc:"Of the service"`
	Active     bool       `json:"active"`
	Note       string     `json:"note,omitempty"`
	MustChange bool       `json:"mustChange" doc:"The password was given by somebody else and is changed at the next sign-in"`
	Roles      []RoleIn   `json:"roles"`
	Locked     *time.Time `json:"locked" doc:"After failures from devices that are not known: none of those may try before then"`
	SignedIn   *time.Time `json:"signedIn" doc:"Last"`
	Created    time.Time  `json:"created"`
	CreatedBy  string     `json:"createdBy"`
	Revision   int        `json:"revision"`
}

func personInfo(p *catalog.PersonRow) PersonInfo {
	out := PersonInfo{Name: p.Name, Operator: p.Operator, Active: p.Active, Note: p.Note, MustChange: p.MustChange, Roles: []RoleIn{}, SignedIn: p.SignedIn, Created: p.Created.UTC(), CreatedBy: p.CreatedBy, Revision: p.Revision}
	for _, m := range p.Members {
		out.Roles = append(out.Roles, RoleIn{m.Account, m.Role.String()})
	}
	return out
}

// PersonSecret is a person with a password that is shown once.
type PersonSecret struct {
	Person   PersonInfo `json:"person"`
	Password string     `json:"password,omitempty" doc:"Shown once; empty when it was given"`
}

// PersonPath names a person.
type PersonPath struct {
	Person string `path:"person" maxLength:"128"`
}

// checkPerson refuses what cannot be a person's name, and one that another way of
// writing would show the same (Unicode, annex 15).
func checkPerson(name string) error {
	if !norm.NFC.IsNormalString(name) {
		return fault.New(fault.Invalid, "person-name", "%+q has letters put together of others", name).In("name").Do("write them as one each: %s", norm.NFC.String(name))
	}
	return access.CheckPersonName(name)
}

type personOut struct{ Body PersonInfo }

type personSecretOut struct{ Body PersonSecret }

// personShown gives a person as who asks may see it, with until when strangers may
// not try the name.
func (d *Desk) personShown(ctx context.Context, p *catalog.PersonRow) (*personOut, error) {
	info := d.personSeen(ctx, p)
	var err error
	if info.Locked, err = d.store.Catalog.TriesWait(ctx, claim{person: p.Name}.subject()); err != nil {
		return nil, d.problem(err)
	}
	return &personOut{info}, nil
}

// personSeen gives a person without roles in accounts that who asks does not
// administer.
func (d *Desk) personSeen(ctx context.Context, p *catalog.PersonRow) PersonInfo {
	info, s := personInfo(p), who(ctx).subject
	if !s.Operator {
		info.Roles = slices.DeleteFunc(info.Roles, func(r RoleIn) bool { return r.Account != s.Account })
		if _, name := access.ParseBy(p.CreatedBy); name != s.Name {
			info.CreatedBy = ""
		}
	}
	return info
}

func (d *Desk) peopleCalls(api huma.API) {
	type people struct {
		Body struct {
			People []PersonInfo `json:"people"`
			Next   string       `json:"next,omitempty" doc:"Give it as after for the next page; absent at the end"`
		}
	}
	huma.Register(api, huma.Operation{OperationID: "list-people", Method: http.MethodGet, Path: "/api/v1/people", Summary: "List people: all for operators, those of one's account otherwise", Tags: []string{"access"}},
		func(ctx context.Context, in *struct {
			Account string `query:"account" maxLength:"64" doc:"Only with a role in this account"`
			After   string `query:"after" maxLength:"128"`
			Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
		}) (*people, error) {
			s := who(ctx).subject
			if !s.Operator {
				if in.Account != "" && in.Account != s.Account {
					return nil, d.problem(notYours(ctx, in.Account))
				}
				in.Account = s.Account
			}
			list, err := d.store.Catalog.People(ctx, in.Account, in.After, in.Limit+1)
			if err != nil {
				return nil, d.problem(err)
			}
			out := &people{}
			if len(list) > in.Limit {
				list = list[:in.Limit]
				out.Body.Next = list[in.Limit-1].Name
			}
			out.Body.People = []PersonInfo{}
			for _, p := range list {
				out.Body.People = append(out.Body.People, d.personSeen(ctx, &p))
			}
			return out, nil
		})
	huma.Register(api, huma.Operation{OperationID: "show-person", Method: http.MethodGet, Path: "/api/v1/people/{person}", Summary: "Show a person", Tags: []string{"access"}},
		func(ctx context.Context, in *PersonPath) (*personOut, error) {
			p, err := d.person(ctx, in.Person)
			if err != nil {
				return nil, d.problem(err)
			}
			return d.personShown(ctx, p)
		})
	huma.Register(api, huma.Operation{OperationID: "create-person", Method: http.MethodPost, Path: "/api/v1/people", Summary: "Let somebody sign in", Tags: []string{"access"}, DefaultStatus: 201},
		func(ctx context.Context, in *struct {
			Body struct {
				Name     string   `json:"name" maxLength:"256"`
				Password string   `json:"password,omitempty" maxLength:"1024" doc:"Made when it is not given; changed at the first sign-in either way"`
				Operator bool     `json:"operator,omitempty"`
				Note     string   `json:"note,omitempty"`
				Roles    []RoleIn `json:"roles,omitempty" maxItems:"100"`
			}
		}) (*personSecretOut, error) {
			b := in.Body
			members, err := d.members(ctx, b.Roles, nil)
			if err == nil {
				err = checkPerson(b.Name)
			}
			if err == nil {
				err = access.CheckNote(b.Note)
			}
			if err == nil && b.Operator && !who(ctx).subject.Operator {
				err = d.refused(ctx, b.Name, "make an operator", "only an operator makes another", "ask one")
			}
			if err == nil && !b.Operator && len(members) == 0 {
				err = fault.New(fault.Invalid, "no-account", "%s would have no role anywhere", b.Name).In("roles").Do("give a role in an account, or make an operator")
			}
			if err != nil {
				return nil, d.problem(err)
			}
			coded, made, err := password(ctx, b.Password)
			if err != nil {
				return nil, d.problem(err)
			}
			p := catalog.PersonRow{Name: b.Name, Password: coded, Operator: b.Operator, Active: true, Note: b.Note, MustChange: true, Members: members}
			if err := d.store.Catalog.CreatePerson(ctx, p, author(ctx)); err != nil {
				return nil, d.problem(err)
			}
			return d.personSecret(ctx, b.Name, made)
		})
	huma.Register(api, huma.Operation{OperationID: "change-person", Method: http.MethodPatch, Path: "/api/v1/people/{person}", Summary: "Change a person's roles, note, or whether they may sign in",
		Description: "An administrator of an account changes the role in that account alone; an operator everything.", Tags: []string{"access"}},
		func(ctx context.Context, in *struct {
			PersonPath
			Body struct {
				Operator   *bool    `json:"operator,omitempty"`
				Active     *bool    `json:"active,omitempty" doc:"Off ends their sessions"`
				Unlock     bool     `json:"unlock,omitempty" doc:"Forget failed attempts"`
				Note       *string  `json:"note,omitempty"`
				Roles      []RoleIn `json:"roles,omitempty" maxItems:"100" doc:"Roles to set; the role none takes one away"`
				IfRevision int      `json:"ifRevision,omitempty" minimum:"1"`
			}
		}) (*personOut, error) {
			if _, err := d.person(ctx, in.Person); err != nil {
				return nil, d.problem(err)
			}
			b := in.Body
			err := d.store.Catalog.ChangePerson(ctx, in.Person, b.IfRevision, author(ctx), catalog.TrailPersonChanged, func(p *catalog.PersonRow) error {
				all := who(ctx).subject.Operator
				if (b.Operator != nil || b.Active != nil || b.Note != nil || b.Unlock) && !all && !d.owns(ctx, p) {
					return d.refused(ctx, p.Name, "change a person", p.Name+" has roles beyond the account "+who(ctx).subject.Account, "ask an operator")
				}
				if b.Operator != nil {
					if !all {
						return d.refused(ctx, p.Name, "make an operator", "only an operator makes another", "ask one")
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
					return fault.New(fault.Invalid, "no-account", "%s would have no role anywhere", p.Name).In("roles").Do("remove the person instead")
				}
				return nil
			})
			if err != nil {
				return nil, d.problem(err)
			}
			if b.Unlock {
				if err := d.store.Catalog.ForgetTries(ctx, claim{person: in.Person}.subject()); err != nil {
					return nil, d.problem(err)
				}
			}
			p, err := d.person(ctx, in.Person)
			if err != nil {
				return nil, d.problem(err)
			}
			return d.personShown(ctx, p)
		})
	huma.Register(api, huma.Operation{OperationID: "reset-person", Method: http.MethodPost, Path: "/api/v1/people/{person}/reset", Summary: "Give a person a new password, to be changed at the next sign-in; their sessions end", Tags: []string{"access"}},
		func(ctx context.Context, in *struct {
			PersonPath
			Body struct {
				Password string `json:"password,omitempty" maxLength:"1024" doc:"Made when it is not given"`
			}
		}) (*personSecretOut, error) {
			p, err := d.person(ctx, in.Person)
			if err == nil && !who(ctx).subject.Operator && !d.owns(ctx, p) {
				err = d.refused(ctx, p.Name, "reset a password", p.Name+" has roles beyond the account "+who(ctx).subject.Account, "ask an operator")
			}
			if err != nil {
				return nil, d.problem(err)
			}
			coded, made, err := password(ctx, in.Body.Password)
			if err != nil {
				return nil, d.problem(err)
			}
			if err := d.store.Catalog.ChangePerson(ctx, in.Person, 0, author(ctx), catalog.TrailPassword, func(p *catalog.PersonRow) error {
				p.Password, p.MustChange = coded, true
				return nil
			}); err != nil {
				return nil, d.problem(err)
			}
			return d.personSecret(ctx, in.Person, made)
		})
	huma.Register(api, huma.Operation{OperationID: "remove-person", Method: http.MethodDelete, Path: "/api/v1/people/{person}", Summary: "Remove a person, with sessions and grants", Tags: []string{"access"}, DefaultStatus: 204},
		func(ctx context.Context, in *PersonPath) (*struct{}, error) {
			p, err := d.person(ctx, in.Person)
			if err == nil && !who(ctx).subject.Operator && !d.owns(ctx, p) {
				err = d.refused(ctx, p.Name, "remove a person", p.Name+" has roles beyond the account "+who(ctx).subject.Account, "take the role in your account away, or ask an operator")
			}
			if err == nil {
				err = d.store.Catalog.RemovePerson(ctx, in.Person, author(ctx))
			}
			if err != nil {
				return nil, d.problem(err)
			}
			d.gate.Changed()
			return nil, nil
		})
}

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

// person gives a person that who asks may know of.
func (d *Desk) person(ctx context.Context, name string) (*catalog.PersonRow, error) {
	p, err := d.store.Catalog.FindPerson(ctx, name)
	if err != nil {
		return nil, err
	}
	s := who(ctx).subject
	if p == nil || !s.Operator && !slices.ContainsFunc(p.Members, func(m catalog.Member) bool { return m.Account == s.Account }) {
		return nil, fault.New(fault.NotFound, "person-missing", "there is no person named %q in the account %s", name, s.Account).In("person").Do("check the name")
	}
	return p, nil
}

// owns reports whether a person belongs to the account of who asks alone.
func (d *Desk) owns(ctx context.Context, p *catalog.PersonRow) bool {
	return !p.Operator && !slices.ContainsFunc(p.Members, func(m catalog.Member) bool { return m.Account != who(ctx).subject.Account })
}

// members applies roles to those there are; only an operator gives roles in other
// accounts than that of the session.
func (d *Desk) members(ctx context.Context, roles []RoleIn, have []catalog.Member) ([]catalog.Member, error) {
	out := slices.Clone(have)
	for _, r := range roles {
		if err := d.administers(ctx, r.Account, "give a role"); err != nil {
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
	p, err := d.store.Catalog.FindPerson(ctx, name)
	if err == nil && p == nil {
		err = fault.New(fault.NotFound, "person-missing", "%q was removed meanwhile", name)
	}
	if err != nil {
		return nil, d.problem(err)
	}
	return &personSecretOut{PersonSecret{d.personSeen(ctx, p), made}}, nil
}
