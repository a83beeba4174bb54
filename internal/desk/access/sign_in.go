package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"net/http"
	"strings"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/desk/middle"
	"spindle/internal/door"
	"spindle/internal/keyring"
)

// deviceFor is how long a device is known that nobody signs in from.
const deviceFor = 180 * 24 * time.Hour

// claim is who somebody says to be.
type claim struct {
	person, key string
	field       string // what has to fit
}

// subject gives what tries are counted for.
func (c claim) subject() string {
	if c.person != "" {
		return "person " + strings.ToLower(c.person)
	}
	return "key " + c.key
}

func (c claim) holder() (person, key *string) {
	if c.person != "" {
		return &c.person, nil
	}
	return nil, &c.key
}

func digestOf(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// counted says what a try counts for: on a device from which the same one signed in
// before, for that alone; otherwise for the name, and for the address.
func (d *Desk) counted(ctx context.Context, id *middle.Identity, c claim) ([]catalog.Counted, error) {
	if id.Device != "" {
		person, key := c.holder()
		known, err := d.Store.Catalog.Device(ctx, digestOf(id.Device), person, key)
		if err != nil {
			return nil, err
		}
		if known {
			return []catalog.Counted{{What: "device " + id.Device, Free: 5, Sides: 1}}, nil
		}
	}
	source := door.Source(id.Source + ":0")
	if !source.IsValid() {
		source = door.Source("[" + id.Source + "]:0")
	}
	return []catalog.Counted{{What: c.subject(), Free: 5, Sides: 1},
		{What: "from " + source.String(), Free: 20, Sides: 4}}, nil
}

// try compares something after a try was reserved for it, and settles the try.
func (d *Desk) try(ctx context.Context, counted []catalog.Counted, field string, compare func() (bool, error)) (bool,
	error) {
	wait, err := d.Store.Catalog.BeginTry(ctx, counted)
	if err != nil {
		return false, err
	}
	if wait > 0 {
		return false, fault.New(fault.Refused, "too-many-attempts", "too many attempts failed, or one is under way").
			In(field).Do("wait %s, then try again", max(wait.Round(time.Second), time.Second))
	}
	ok, err := compare()
	ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second) // also when the client has left
	defer cancel()
	if eerr := d.Store.Catalog.EndTry(ending, counted, ok && err == nil); err == nil {
		err = eerr
	}
	return ok, err
}

func (d *Desk) signIn(ctx context.Context, person, password, key, secret string) (*middle.Identity, []http.Cookie, error) {
	id := middle.Who(ctx)
	c := claim{person: strings.TrimSpace(person), field: "password"}
	if c.person == "" {
		c.key, c.field = strings.TrimSpace(key), "secret"
	}
	counted, err := d.counted(ctx, id, c)
	if err != nil {
		return nil, nil, err
	}
	now := time.Now().UTC()
	s := &catalog.Session{Forgery: rand.Text(), Source: id.Source, Program: id.Program, Created: now,
		Expires: now.Add(d.Settings.SessionFor)}
	ok, err := d.try(ctx, counted, c.field, func() (bool, error) {
		if c.person != "" {
			return d.knowsPassword(ctx, s, c.person, password)
		}
		return d.knowsSecret(ctx, id, s, c.key, secret)
	})
	if err != nil {
		return nil, nil, err
	}
	if !ok {
		return nil, nil, d.signInFailed(id, c)
	}
	// A new token for every sign-in: one that somebody planted is never taken up.
	token := rand.Text() + rand.Text()
	s.Token = digestOf(token)
	if err := d.Store.Catalog.PutSession(ctx, *s); err != nil {
		return nil, nil, err
	}
	device := rand.Text() + rand.Text()
	if err := d.Store.Catalog.PutDevice(ctx, digestOf(device), s.Person, s.Key); err != nil {
		return nil, nil, err
	}
	id.Session = s
	d.Log.Info("signed in", "as", s.By(), "from", id.Source)
	known := d.cookie(device, now.Add(deviceFor))
	known.Name, known.Path = api.DeviceCookie, "/api/v1/session"
	return id, []http.Cookie{d.cookie(token, s.Expires), known}, d.Holder(ctx, id)
}

func (d *Desk) signInFailed(id *middle.Identity, c claim) error {
	name := access.Subject{Kind: access.Key, Name: c.key}
	says := fault.New(fault.Refused, "sign-in", "key and secret do not belong together").In(c.field).
		Do("check both; they are shown once when a key is made")
	if c.person != "" {
		name = access.Subject{Kind: access.Person, Name: c.person}
		says = fault.New(fault.Refused, "sign-in", "name and password do not belong together").In(c.field).
			Do("check both; an operator can give a new password")
	}
	d.Gate.Note(catalog.TrailEntry{Kind: access.TrailSignInFailed, Who: "anyone", Source: id.Source, Subject: name.By(),
		Detail: map[string]any{}})
	return says
}

// knowsSecret compares digests, so that neither time nor length tells anything;
// an unknown key costs the same as a wrong secret.
func (d *Desk) knowsSecret(ctx context.Context, id *middle.Identity, s *catalog.Session, key, secret string) (bool, error) {
	k, err := d.Gate.Keys.Find(ctx, key)
	if err != nil {
		return false, err
	}
	want, got := sha256.Sum256(nil), sha256.Sum256([]byte(strings.TrimSpace(secret)))
	if k != nil {
		want = sha256.Sum256([]byte(k.Secret))
	}
	if subtle.ConstantTimeCompare(want[:], got[:]) != 1 || k == nil {
		return false, nil
	}
	s.Key, s.Account = &k.ID, k.Account
	return true, d.Gate.Use(k, id.Source, time.Now())
}

func (d *Desk) knowsPassword(ctx context.Context, s *catalog.Session, name, password string) (bool, error) {
	p, err := d.Store.Catalog.FindPerson(ctx, name)
	if err != nil {
		return false, err
	}
	coded := ""
	if p != nil && p.Active {
		coded = p.Password
	}
	ok, err := keyring.CheckPassword(ctx, password, coded)
	if err != nil || !ok {
		return false, err
	}
	s.Person = &p.Name
	switch {
	case len(p.Members) > 0:
		s.Account = p.Members[0].Account
	case p.Operator:
		if s.Account, err = d.operating(ctx); err != nil {
			return false, err
		}
	default:
		return false, fault.New(fault.Refused, "no-account", "%s has no role in any account", p.Name).In("person").
			Do("have an administrator give you one")
	}
	return true, d.Store.Catalog.NoteSignIn(ctx, p.Name, time.Now())
}

// operating gives the account that operates the service.
func (d *Desk) operating(ctx context.Context) (string, error) {
	all, err := d.Store.Catalog.Accounts(ctx, "", 1000)
	for _, a := range all {
		if a.Operator {
			return a.Name, nil
		}
	}
	return "", err
}

func (d *Desk) changePassword(ctx context.Context, id *middle.Identity, old, fresh string) error {
	if id.Person == nil {
		return fault.New(fault.Invalid, "no-password", "a key has a secret, no password").In("password").Do("replace the key")
	}
	// Counted for the session: strangers who try the name do not hold up who is signed in.
	counted := []catalog.Counted{{What: "session " + string(id.Session.Token), Free: 5, Sides: 1}}
	ok, err := d.try(ctx, counted, "password",
		func() (bool, error) { return keyring.CheckPassword(ctx, old, id.Person.Password) })
	if err != nil {
		return err
	}
	if !ok {
		return fault.New(fault.Refused, "sign-in", "this is not the password there is").In("password")
	}
	if old == fresh {
		return fault.New(fault.Invalid, "password-weak", "the new password is the old one").In("new").Do("choose another")
	}
	coded, err := keyring.HashPassword(ctx, fresh)
	if err != nil {
		return fault.From(err).In("new")
	}
	return d.Store.Catalog.ChangePerson(ctx, id.Person.Name, 0, middle.Author(ctx), access.TrailPassword,
		func(p *catalog.PersonRow) error {
			p.Password, p.MustChange = coded, false
			return nil
		})
}
