package placement

import (
	"errors"
	"regexp"
	"slices"
	"strings"
	"time"

	"spindle/internal/core/fault"
)

// Bounds of a placement.
const (
	MaxNote     = 500  // bytes
	MaxAccounts = 1000 // that it is offered to by name
)

// Placement is a way of keeping the bytes of a bucket.
type Placement struct {
	ID       int64
	Name     string
	Note     string
	Tier     string   // where new content goes
	Sealing  bool     // new content is encrypted at rest, whatever the bucket says
	Everyone bool     // it is offered to all accounts
	Accounts []string // it is offered to these, by name and in order
	Revision int
	Created  time.Time
	By       string
	Buckets  int // that have it
}

var namePattern = regexp.MustCompile(`^[a-z][a-z0-9-]{0,30}[a-z0-9]$`)

// Check refuses a placement that cannot be, all that is wrong at once. The errors have the
// codes placement-name and placement-note.
func (p *Placement) Check() error {
	var all []error
	if !namePattern.MatchString(p.Name) {
		all = append(all, fault.New(fault.Invalid, "placement-name", "%q is no name for a placement", p.Name).In("name").
			Do("take 2 to 32 lower-case letters, digits and hyphens, a letter first"))
	}
	if len(p.Note) > MaxNote {
		all = append(all, fault.New(fault.Invalid, "placement-note", "a note has at most %d bytes", MaxNote).In("note"))
	}
	if len(p.Accounts) > MaxAccounts {
		all = append(all, fault.New(fault.Invalid, "placement-accounts",
			"a placement is offered to at most %d accounts by name",
			MaxAccounts).In("accounts").Do("offer it to all of them"))
	}
	return errors.Join(all...)
}

// OfferedTo reports whether an account is offered the placement.
func (p *Placement) OfferedTo(account string) bool {
	return p.Everyone || slices.Contains(p.Accounts, account)
}

// Policy is what an account may choose from.
type Policy struct {
	Account string
	Offered []string // names of placements, in order
	Default string   // what its buckets have that name none; "" for none
	Fixed   bool     // they all have that one
	By      string   // who fixed it
}

// Choose gives the placement of a bucket of the account, for which some placement and some
// tier are asked ("" for none); an operator is bound by neither what is offered nor what is
// fixed. The errors have the codes placement-fixed and placement-missing.
func (p *Policy) Choose(asked, tier string, operator bool) (string, error) {
	switch {
	case asked == "" && tier == "":
		return p.Default, nil
	case operator || p.Fixed && asked == p.Default && tier == "":
		return asked, nil
	case p.Fixed:
		return "", p.fixed()
	case asked != "" && !slices.Contains(p.Offered, asked):
		return "", p.missing(asked)
	}
	return asked, nil
}

func (p *Policy) fixed() error {
	return fault.New(fault.Refused, "placement-fixed",
		"the buckets of the account %s have the placement %s, which %s fixed",
		p.Account, p.Default, p.By).In("placement").
		Do("leave the placement out, or have an operator change what is fixed")
}

func (p *Policy) missing(name string) error {
	f := fault.New(fault.NotFound, "placement-missing", "the account %s is offered no placement %q", p.Account, name).
		In("placement")
	if len(p.Offered) == 0 {
		return f.Do("leave it out: none is offered to the account")
	}
	return f.Do("choose from: %s", strings.Join(p.Offered, ", "))
}

// Refuse refuses another tier than that of an account's fixed placement.
func Refuse(account, fixed, tier string) error {
	return fault.New(fault.Refused, "placement-fixed",
		"what the account %s keeps has the placement %s, which an operator fixed; the tier %s is not for it", account, fixed,
		tier).In("tier").Do("name no tier, or have an operator change what is fixed")
}
