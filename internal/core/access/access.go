package access

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"spindle/internal/core/fault"
)

// SubjectKind says what sort of subject asks.
type SubjectKind uint8

// The kinds of subjects.
const (
	Anyone SubjectKind = iota // who did not sign the request
	Key
	Person
)

// Subject is who asks.
type Subject struct {
	Kind     SubjectKind
	Name     string  // the key's id or the person's name
	Account  string  // that it acts in
	Role     Role    // there
	Operator bool    // of the service
	Limits   []Scope // of a key; none: no limits
}

// String names the subject for people.
func (s Subject) String() string {
	switch s.Kind {
	case Key:
		return "the key " + s.Name
	case Person:
		return s.Name
	}
	return "anyone"
}

// Grantee gives the subject as one that grants may name.
func (s Subject) Grantee() Grantee {
	return Grantee{[...]GranteeKind{ToAnyone, ToKey, ToPerson}[s.Kind], s.Name}
}

// Administers reports whether the subject administers an account: its keys,
// people, grants, and which buckets there are.
func (s Subject) Administers(account string) bool {
	return s.Operator || s.Account == account && s.Role == Administrator && len(s.Limits) == 0
}

// Scope is a bucket, or what is beneath a prefix of it.
type Scope struct {
	Bucket string
	Prefix string
}

// String gives bucket/prefix, or the bucket alone.
func (s Scope) String() string {
	if s.Prefix == "" {
		return s.Bucket
	}
	return s.Bucket + "/" + s.Prefix
}

// Target is what a request is about.
type Target struct {
	Bucket string
	Owner  string // the account that owns the bucket
	Key    string // a key, or the prefix of a listing
	// Some is for requests about the bucket as such, which somebody may make who
	// has the right on any part of it.
	Some  bool
	Needs Rights // all that is needed there, when that is more than what is asked
}

func (s Scope) covers(t Target) bool {
	return s.Bucket == t.Bucket && (t.Some || strings.HasPrefix(t.Key, s.Prefix))
}

// GranteeKind says to what sort of subject a grant is made. The numbers stand in
// the database.
type GranteeKind uint8

// The kinds of grantees.
const (
	ToAnyone GranteeKind = iota
	ToAccount
	ToPerson
	ToKey
)

var granteeNames = []string{"anyone", "account", "person", "key"}

// String gives the kind's name.
func (k GranteeKind) String() string { return granteeNames[k] }

// Grantee is to whom a grant is made.
type Grantee struct {
	Kind GranteeKind
	Name string // "" for anyone
}

// String gives kind and name, for instance "account seed-lab".
func (g Grantee) String() string { return strings.TrimSpace(g.Kind.String() + " " + g.Name) }

// ParseGrantee reads "anyone", or a kind and a name with a space or colon
// between. The error has the code grantee.
func ParseGrantee(s string) (Grantee, error) {
	if s == "anyone" {
		return Grantee{}, nil
	}
	kind, name, ok := strings.Cut(s, ":")
	if !ok {
		kind, name, ok = strings.Cut(s, " ")
	}
	i := slices.Index(granteeNames, strings.TrimSpace(kind))
	if !ok || i < 1 || strings.TrimSpace(name) == "" {
		return Grantee{}, fault.New(fault.Invalid, "grantee", "%q names nobody that can be granted something", s).In("to").
			Do("say account:NAME, person:NAME, key:ID, key:NAME or anyone")
	}
	return Grantee{GranteeKind(i), strings.TrimSpace(name)}, nil
}

// Grant gives rights on a bucket or prefix.
type Grant struct {
	ID int64
	Scope
	To      Grantee
	Rights  Rights
	Expires time.Time // zero: never
}

// Holds reports whether the grant has not expired.
func (g Grant) Holds(now time.Time) bool { return g.Expires.IsZero() || now.Before(g.Expires) }

// Check refuses grants that would open more than is meant. The errors have the
// codes grant-anyone, grant-settings and rights.
func (g Grant) Check() error {
	switch {
	case g.Rights == 0:
		return fault.New(fault.Invalid, "rights", "the grant gives nothing").In("for").
			Do("choose a purpose: %s", strings.Join(PurposeNames(), ", "))
	case g.To.Kind == ToAnyone && g.Rights&^(List|Read) != 0:
		return fault.New(fault.Invalid, "grant-anyone", "anyone may be granted reading and listing only, not %s",
			g.Rights&^(List|Read)).In("for").Do("name an account, a person or a key for the rest")
	case g.Prefix != "" && g.Rights&Settings != 0:
		return fault.New(fault.Invalid, "grant-settings", "settings belong to a bucket, not to a prefix of it").In("for").
			Do("grant it on the bucket, or leave settings out")
	}
	return nil
}

// Book holds grants so that those that could matter to a request are found at
// once, however many there are.
type Book struct {
	byBucket map[string]map[Grantee][]Grant
}

// NewBook makes a book of grants.
func NewBook(grants []Grant) *Book {
	b := &Book{byBucket: map[string]map[Grantee][]Grant{}}
	for _, g := range grants {
		if b.byBucket[g.Bucket] == nil {
			b.byBucket[g.Bucket] = map[Grantee][]Grant{}
		}
		b.byBucket[g.Bucket][g.To] = append(b.byBucket[g.Bucket][g.To], g)
	}
	return b
}

// To gives the grants on a bucket to a grantee.
func (b *Book) To(bucket string, to Grantee) []Grant { return b.byBucket[bucket][to] }

// Buckets gives the buckets on which a subject or its account is granted
// something, in no order; what anyone is granted is not among them.
func (b *Book) Buckets(s Subject, now time.Time) []string {
	var out []string
	for bucket, by := range b.byBucket {
		if slices.ContainsFunc(slices.Concat(by[s.Grantee()], by[Grantee{ToAccount, s.Account}]),
			func(g Grant) bool { return g.Holds(now) }) {
			out = append(out, bucket)
		}
	}
	return out
}

// Decision is an answer and its reason.
type Decision struct {
	Allowed bool
	By      string // what decided: "operator", "role", "limit", "grant", "nothing"
	Grant   int64  // the grant that decided, if one did
	Why     string // a sentence without a full stop
	Remedy  string // what would change it
}

// Decide says whether a subject may do something, which is one right. Grants on
// the target's bucket are looked up in the book.
func Decide(s Subject, do Rights, t Target, book *Book, now time.Time) Decision {
	if d, ok := granted(s, Grantee{}, All, do, t, book, now); ok {
		return d // what anyone may do needs nothing of the subject
	}
	if s.Kind == Anyone {
		return Decision{By: "nothing", Why: fmt.Sprintf("the request is not signed, and nothing lets anyone %s %s", do,
			place(t)),
			Remedy: "sign it with an access key"}
	}
	if len(s.Limits) > 0 && !slices.ContainsFunc(s.Limits, func(l Scope) bool { return l.covers(t) }) {
		return Decision{By: "limit", Why: fmt.Sprintf("%s is limited to %s", s, scopes(s.Limits)),
			Remedy: fmt.Sprintf("add %s to the key's limits, or use another key", place(t))}
	}
	if s.Operator {
		return Decision{Allowed: true, By: "operator", Why: fmt.Sprintf("%s operates the service", s)}
	}
	owns := s.Account == t.Owner
	if owns && s.Role.Rights()&do != 0 {
		return Decision{Allowed: true, By: "role", Why: fmt.Sprintf("%s is %s in the account %s, which owns the bucket", s,
			s.Role.A(), s.Account)}
	}
	if d, ok := granted(s, s.Grantee(), All, do, t, book, now); ok {
		return d
	}
	if d, ok := granted(s, Grantee{ToAccount, s.Account}, s.Role.Rights(), do, t, book, now); ok {
		return d
	}
	return refuse(s, do, t, owns, book, now)
}

// granted looks for a grant that allows it; cap bounds what grants to a whole
// account give to a subject of it.
func granted(s Subject, to Grantee, bound, do Rights, t Target, book *Book, now time.Time) (Decision, bool) {
	if book == nil || bound&do == 0 {
		return Decision{}, false
	}
	for _, g := range book.To(t.Bucket, to) {
		if g.Rights&do != 0 && g.Holds(now) && g.covers(t) {
			return Decision{Allowed: true, By: "grant", Grant: g.ID,
				Why: fmt.Sprintf("grant %d lets %s %s %s", g.ID, to, g.Rights.Purpose(), g.Scope)}, true
		}
	}
	return Decision{}, false
}

// replicates is what is granted to who replicates into a bucket.
const replicates = List | Read | Write | Remove

// Replicates reports whether what a subject says of the origin of an object counts: of those who
// administer the bucket's account, and of those who are granted all that "replicate into" gives.
// Others write objects, and no replicas: an origin would keep them from being copied on.
func Replicates(s Subject, t Target, book *Book, now time.Time) bool {
	if s.Kind == Anyone || !Decide(s, Write, t, book, now).Allowed {
		return false
	}
	if s.Operator || s.Account == t.Owner && s.Role == Administrator {
		return true
	}
	all := func(to Grantee, bound Rights) bool {
		return book != nil && bound&replicates == replicates && slices.ContainsFunc(book.To(t.Bucket, to),
			func(g Grant) bool {
				return g.Rights&replicates == replicates && g.Holds(now) && g.covers(t)
			})
	}
	return all(s.Grantee(), All) || all(Grantee{ToAccount, s.Account}, s.Role.Rights())
}

// refuse finds the most telling reason. Whose a bucket of another account is, is not
// told.
func refuse(s Subject, do Rights, t Target, owns bool, book *Book, now time.Time) Decision {
	d := Decision{By: "nothing"}
	if owns {
		d.By, d.Why = "role", fmt.Sprintf("%s is %s in the account %s, which may not %s", s, s.Role.A(), s.Account,
			do.Deed(""))
		d.Remedy = fmt.Sprintf("use one whose role is %s, or grant %s %q on %s", roleFor(do), s.Grantee(),
			purposeFor(do|t.Needs),
			place(t))
		return d
	}
	d.Why = fmt.Sprintf("no grant lets %s %s, which belongs to another account", s, do.Deed(place(t)))
	d.Remedy = fmt.Sprintf("have its owner grant %q on %s to account %s or %s", purposeFor(do|t.Needs), place(t),
		s.Account,
		s.Grantee())
	if book == nil {
		return d
	}
	for _, to := range []Grantee{s.Grantee(), {ToAccount, s.Account}} {
		for _, g := range book.To(t.Bucket, to) {
			switch {
			case g.Rights&do != 0 && g.covers(t) && !g.Holds(now):
				d.Grant, d.Why, d.Remedy = g.ID, fmt.Sprintf("grant %d would allow it, and expired on %s", g.ID, g.Expires.UTC().
					Format("2006-01-02 15:04 MST")), fmt.Sprintf("have its owner extend grant %d", g.ID)
			case g.Rights&do != 0 && g.covers(t): // the role bounds it
				d.Grant, d.Why = g.ID, fmt.Sprintf("grant %d lets %s %s %s, but %s is only %s there", g.ID, to, g.Rights.Purpose(),
					g.Scope, s, s.Role.A())
				d.Remedy = fmt.Sprintf("use one whose role is %s, or have the bucket's owner grant it to %s itself", roleFor(do),
					s.Grantee())
				return d
			case g.Rights&do != 0 && g.Holds(now):
				d.Grant, d.Why = g.ID, fmt.Sprintf("grant %d lets %s %s %s only, not %s", g.ID, to, g.Rights.Purpose(), g.Scope,
					place(t))
				d.Remedy = fmt.Sprintf("ask for what is beneath %s, or have the bucket's owner grant more", g.Scope)
			case g.covers(t) && g.Holds(now) && d.Grant == 0:
				d.Grant, d.Why = g.ID, fmt.Sprintf("grant %d lets %s %s %s, which does not include %s", g.ID, to,
					g.Rights.Purpose(), g.Scope, do)
				d.Remedy = fmt.Sprintf("have the bucket's owner grant %q as well", purposeFor(do|t.Needs))
			}
		}
	}
	return d
}

// Reach gives all rights of a subject on a target, with what gives each.
func Reach(s Subject, t Target, book *Book, now time.Time) Rights {
	var r Rights
	for _, do := range []Rights{List, Read, Write, Remove, Settings} {
		if Decide(s, do, t, book, now).Allowed {
			r |= do
		}
	}
	return r
}

func place(t Target) string {
	if t.Some || t.Key == "" {
		return t.Bucket
	}
	return t.Bucket + "/" + t.Key
}

func scopes(l []Scope) string {
	var out []string
	for _, s := range l {
		out = append(out, s.String())
	}
	if len(out) > 3 {
		out = append(out[:3], fmt.Sprintf("%d more", len(l)-3))
	}
	return strings.Join(out, ", ")
}

func roleFor(do Rights) Role {
	for r := Reader; r < Administrator; r++ {
		if r.Rights()&do != 0 {
			return r
		}
	}
	return Administrator
}

// PurposeFor gives the least purpose of a grant that gives all of some rights.
func PurposeFor(do Rights) string { return purposeFor(do) }

func purposeFor(do Rights) string {
	for _, p := range purposes {
		if p.rights&do == do {
			return p.name
		}
	}
	return do.String()
}

// Refused gives a decision as the error that faces render. Its code is
// not-allowed.
func (d Decision) Refused() error {
	return fault.New(fault.Refused, "not-allowed", "%s", d.Why).In("access").Do("%s", d.Remedy)
}

// On gives the grants on a bucket, to anyone first, then by number.
func (b *Book) On(bucket string) []Grant {
	var out []Grant
	for _, list := range b.byBucket[bucket] {
		out = append(out, list...)
	}
	slices.SortFunc(out, func(x, y Grant) int {
		if a, b := x.To.Kind == ToAnyone, y.To.Kind == ToAnyone; a != b {
			if a {
				return -1
			}
			return 1
		}
		return int(x.ID - y.ID)
	})
	return out
}

// Places gives the prefixes of a bucket that a subject may list, for who may not
// list all of it: none lies beneath another.
func Places(s Subject, bucket, owner string, book *Book, now time.Time) []string {
	var all []string
	for _, to := range []Grantee{s.Grantee(), {ToAccount, s.Account}, {}} {
		for _, g := range book.To(bucket, to) {
			all = append(all, g.Prefix)
		}
	}
	for _, l := range s.Limits {
		if l.Bucket == bucket {
			all = append(all, l.Prefix)
		}
	}
	slices.Sort(all)
	var out []string
	for _, p := range all {
		beneath := len(out) > 0 && strings.HasPrefix(p, out[len(out)-1])
		if !beneath && Decide(s, List, Target{Bucket: bucket, Owner: owner, Key: p}, book, now).Allowed {
			out = append(out, p)
		}
	}
	return out
}
