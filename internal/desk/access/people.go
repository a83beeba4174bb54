package access

import (
	"context"
	"slices"

	"golang.org/x/text/unicode/norm"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/desk/middle"
)

func personInfo(p *catalog.PersonRow) api.PersonInfo {
	out := api.PersonInfo{Name: p.Name, Operator: p.Operator, Active: p.Active, Note: p.Note, MustChange: p.MustChange,
		Roles: []api.RoleIn{}, SignedIn: p.SignedIn, Created: p.Created.UTC(), CreatedBy: p.CreatedBy, Revision: p.Revision}
	for _, m := range p.Members {
		out.Roles = append(out.Roles, api.RoleIn{Account: m.Account, Role: m.Role.String()})
	}
	return out
}

// PersonPath names a person.
type PersonPath struct {
	Person string `path:"person" maxLength:"128"`
}

// checkPerson refuses what cannot be a person's name, and one that another way of
// writing would show the same (Unicode, annex 15).
func checkPerson(name string) error {
	if !norm.NFC.IsNormalString(name) {
		return fault.New(fault.Invalid, "person-name", "%+q has letters put together of others", name).In("name").
			Do("write them as one each: %s", norm.NFC.String(name))
	}
	return access.CheckPersonName(name)
}

type personOut struct{ Body api.PersonInfo }

type personSecretOut struct{ Body api.PersonSecret }

// personShown gives a person as who asks may see it, with until when strangers may
// not try the name.
func (d *Desk) personShown(ctx context.Context, p *catalog.PersonRow) (*personOut, error) {
	info := d.personSeen(ctx, p)
	var err error
	if info.Locked, err = d.Store.Catalog.TriesWait(ctx, claim{person: p.Name}.subject()); err != nil {
		return nil, err
	}
	return &personOut{info}, nil
}

// personSeen gives a person without roles in accounts that who asks does not
// administer.
func (d *Desk) personSeen(ctx context.Context, p *catalog.PersonRow) api.PersonInfo {
	info, s := personInfo(p), middle.Who(ctx).Subject
	if !s.Operator {
		info.Roles = slices.DeleteFunc(info.Roles, func(r api.RoleIn) bool { return r.Account != s.Account })
		if _, name := access.ParseBy(p.CreatedBy); name != s.Name {
			info.CreatedBy = ""
		}
	}
	return info
}

func (d *Desk) peopleCalls(to *middle.Calls) {
	middle.Call(to, middle.Rule{Admin: true}, "list-people", "GET /people", "access",
		"List people: all for operators, those of one's account otherwise", d.listPeople)
	middle.Call(to, middle.Rule{Admin: true}, "show-person", "GET /people/{person}", "access", "Show a person", d.showPerson)
	middle.Call(to, middle.Rule{Admin: true}, "create-person", "POST /people", "access",
		"Let somebody sign in", d.createPerson, middle.Answers(201))
	middle.Call(to, middle.Rule{Admin: true}, "change-person", "PATCH /people/{person}", "access",
		"Change a person's roles, note, or whether they may sign in",
		d.changePerson, middle.Described(
			"An administrator of an account changes the role in that account alone; an operator everything."))
	middle.Call(to, middle.Rule{Admin: true}, "reset-person", "POST /people/{person}/reset", "access",
		"Give a person a new password, to be changed at the next sign-in; their sessions end", d.resetPerson)
	middle.Call(to, middle.Rule{Admin: true}, "remove-person", "DELETE /people/{person}", "access",
		"Remove a person, with sessions and grants", d.removePerson, middle.Answers(204))
}

// person gives a person that who asks may know of.
func (d *Desk) person(ctx context.Context, name string) (*catalog.PersonRow, error) {
	p, err := d.Store.Catalog.FindPerson(ctx, name)
	if err != nil {
		return nil, err
	}
	s := middle.Who(ctx).Subject
	if p == nil || !s.Operator && !slices.ContainsFunc(p.Members,
		func(m catalog.Member) bool { return m.Account == s.Account }) {
		return nil, fault.New(fault.NotFound, "person-missing", "there is no person named %q in the account %s", name,
			s.Account).In("person").Do("check the name")
	}
	return p, nil
}

// owns reports whether a person belongs to the account of who asks alone.
func (d *Desk) owns(ctx context.Context, p *catalog.PersonRow) bool {
	return !p.Operator && !slices.ContainsFunc(p.Members,
		func(m catalog.Member) bool { return m.Account != middle.Who(ctx).Subject.Account })
}

type people struct{ Body api.PersonPage }

func (d *Desk) listPeople(ctx context.Context, in *struct {
	Account string `query:"account" maxLength:"64" doc:"Only with a role in this account"`
	After   string `query:"after" maxLength:"128"`
	Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (*people, error) {
	s := middle.Who(ctx).Subject
	if !s.Operator {
		if in.Account != "" && in.Account != s.Account {
			return nil, middle.NotYours(ctx, in.Account)
		}
		in.Account = s.Account
	}
	list, err := d.Store.Catalog.People(ctx, in.Account, in.After, in.Limit+1)
	if err != nil {
		return nil, err
	}
	out := &people{}
	list, out.Body.Next = middle.Cut(list, in.Limit, func(x catalog.PersonRow) string { return x.Name })
	out.Body.People = []api.PersonInfo{}
	for _, p := range list {
		out.Body.People = append(out.Body.People, d.personSeen(ctx, &p))
	}
	return out, nil
}

func (d *Desk) showPerson(ctx context.Context, in *PersonPath) (*personOut, error) {
	p, err := d.person(ctx, in.Person)
	if err != nil {
		return nil, err
	}
	return d.personShown(ctx, p)
}

func (d *Desk) createPerson(ctx context.Context, in *struct {
	Body api.NewPerson
}) (*personSecretOut, error) {
	b := in.Body
	members, err := d.members(ctx, b.Roles, nil)
	if err == nil {
		err = checkPerson(b.Name)
	}
	if err == nil {
		err = access.CheckNote(b.Note)
	}
	if err == nil && b.Operator && !middle.Who(ctx).Subject.Operator {
		err = d.Refused(ctx, b.Name, "make an operator", "only an operator makes another", "ask one")
	}
	if err == nil && !b.Operator && len(members) == 0 {
		err = fault.New(fault.Invalid, "no-account", "%s would have no role anywhere", b.Name).In("roles").
			Do("give a role in an account, or make an operator")
	}
	if err != nil {
		return nil, err
	}
	coded, made, err := password(ctx, b.Password)
	if err != nil {
		return nil, err
	}
	p := catalog.PersonRow{Name: b.Name, Password: coded, Operator: b.Operator, Active: true, Note: b.Note,
		MustChange: true, Members: members}
	if err := d.Store.Catalog.CreatePerson(ctx, p, middle.Author(ctx)); err != nil {
		return nil, err
	}
	return d.personSecret(ctx, b.Name, made)
}
