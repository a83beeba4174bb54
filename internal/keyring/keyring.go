package keyring

import (
	"context"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base32"
	"fmt"
	"regexp"
	"strings"
	"sync"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/seal"
)

// Key is an access key with its secret open. Never log it.
type Key struct {
	ID       string
	Secret   string
	Account  string
	Operator bool // it operates the service: an operator made it so
	Name     string
	Role     access.Role
	Limits   []access.Scope
	Rate     int // requests a second; 0: any number
	Expires  *time.Time
	Active   bool
	UsedFrom string // the address it was used from last, as known at some time
}

// Subject gives the key as one that asks.
func (k *Key) Subject() access.Subject {
	return access.Subject{Kind: access.Key, Name: k.ID, Account: k.Account, Role: k.Role, Limits: k.Limits,
		Operator: k.Operator && k.Role == access.Administrator && len(k.Limits) == 0}
}

// Ring finds and makes keys.
type Ring struct {
	catalog *catalog.Catalog
	masters *masters
	mu      sync.Mutex
	known   map[string]entry
	bodies  map[uint16]cipher.AEAD // body keys
	newest  uint16                 // of them; 0 while none is known
}

var _ interface { // what volumes need of it
	SealingKey() (uint16, cipher.AEAD, error)
	OpeningKey(uint16) (cipher.AEAD, error)
} = (*Ring)(nil)

// SealingKey gives the body key in force, making the first one when there is none.
func (r *Ring) SealingKey() (uint16, cipher.AEAD, error) {
	r.mu.Lock()
	n := r.newest
	key := r.bodies[n]
	r.mu.Unlock()
	if key != nil {
		return n, key, nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if err := r.catalog.NewBodyKey(ctx, func(name string) ([]byte, error) {
		raw := make([]byte, 32)
		if _, err := rand.Read(raw); err != nil {
			return nil, err
		}
		return r.masters.seal(raw, name)
	}); err != nil {
		return 0, nil, err
	}
	n, key, err := r.bodyKey(ctx, 0)
	if err != nil {
		return 0, nil, err
	}
	r.mu.Lock()
	r.newest = n
	r.mu.Unlock()
	return n, key, nil
}

// OpeningKey gives the body key of a number. The error for none has the code
// body-key-missing.
func (r *Ring) OpeningKey(number uint16) (cipher.AEAD, error) {
	r.mu.Lock()
	key := r.bodies[number]
	r.mu.Unlock()
	if key != nil {
		return key, nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	_, key, err := r.bodyKey(ctx, int16(number))
	return key, err
}

func (r *Ring) bodyKey(ctx context.Context, number int16) (uint16, cipher.AEAD, error) {
	n, sealed, err := r.catalog.BodyKey(ctx, number)
	if err != nil {
		return 0, nil, err
	}
	if sealed == nil {
		return 0, nil, fault.New(fault.Unavailable, "body-key-missing",
			"the database has no body key %d, under which a body was sealed", number).In("database").
			Do("the volume and the database do not belong together, or the database is older: put the right backup back")
	}
	raw, err := r.masters.unseal(sealed, fmt.Sprintf("body key %d", n))
	if err != nil {
		return 0, nil, err
	}
	key, err := seal.NewKey(raw)
	if err != nil {
		return 0, nil, err
	}
	r.mu.Lock()
	r.bodies[uint16(n)] = key
	r.mu.Unlock()
	return uint16(n), key, nil
}

type entry struct {
	key  *Key
	mark int64 // of all keys, before it was read
}

// Open reads the master key, from given ("" for none: hex digits, of several keys
// with commas, the newest first) or from a file, which it makes when there is
// none and the catalog has no keys yet. The errors have the codes
// master-key-missing and master-key-wrong: nothing is changed by them.
func Open(ctx context.Context, c *catalog.Catalog, path, given string) (*Ring, error) {
	some, err := c.AnyKey(ctx)
	if err != nil {
		return nil, err
	}
	m, err := openMasters(path, given, some == nil)
	if err != nil {
		return nil, err
	}
	r := &Ring{catalog: c, masters: m, known: map[string]entry{}, bodies: map[uint16]cipher.AEAD{}}
	if some != nil {
		if _, err := r.open(some); err != nil {
			return nil, err
		}
	}
	return r, nil
}

func (r *Ring) open(k *catalog.AccessKey) (*Key, error) {
	secret, err := r.masters.unseal(k.Sealed, k.ID)
	if err != nil {
		return nil, err
	}
	return &Key{ID: k.ID, Secret: string(secret), Account: k.Account, Operator: k.Operator, Name: k.Name, Role: k.Role,
		Limits: k.Limits, Rate: k.Rate, Expires: k.Expires, Active: k.Active, UsedFrom: k.UsedFrom}, nil
}

// Works refuses a key that is switched off or expired, with the codes key-off and
// key-expired.
func (k *Key) Works(now time.Time) error {
	switch {
	case !k.Active:
		return fault.New(fault.Refused, "key-off", "the access key %s is switched off", k.ID).In("key").
			Do("have an administrator of %s switch it on, or use another", k.Account)
	case k.Expires != nil && !now.Before(*k.Expires):
		return fault.New(fault.Refused, "key-expired", "the access key %s expired on %s", k.ID, k.Expires.UTC().
			Format("2006-01-02 15:04 MST")).In("key").Do("have an administrator of %s extend or replace it", k.Account)
	}
	return nil
}

// Find gives a key, also one that does not work any more; nil when there is none
// of that id. A change by another process is heard of within a second.
func (r *Ring) Find(ctx context.Context, id string) (*Key, error) {
	if len(id) > 128 {
		return nil, nil
	}
	mark, err := r.catalog.Mark(ctx, catalog.MarkKeys)
	if err != nil {
		return nil, err
	}
	r.mu.Lock()
	e, ok := r.known[id]
	r.mu.Unlock()
	if ok && e.mark == mark {
		return e.key, nil
	}
	k, err := r.catalog.Key(ctx, id)
	if err != nil {
		return nil, err
	}
	var key *Key
	if k != nil {
		if key, err = r.open(k); err != nil {
			return nil, err
		}
	}
	r.mu.Lock()
	if len(r.known) > 10_000 { // somebody tries ids
		clear(r.known)
	}
	r.known[id] = entry{key, mark}
	r.mu.Unlock()
	return key, nil
}

// Forget has the next Find ask the catalog: the key was changed.
func (r *Ring) Forget(id string) {
	r.catalog.LookAgain()
	r.mu.Lock()
	delete(r.known, id)
	r.mu.Unlock()
}

var validSecret = regexp.MustCompile(`^[\x21-\x7e]{16,128}$`)

// Seal seals a key's secret for the catalog. The errors for what cannot be a key
// have the codes key-id and key-secret.
func (r *Ring) Seal(id, secret string) ([]byte, error) {
	if err := access.CheckKeyID(id); err != nil {
		return nil, err
	}
	if !validSecret.MatchString(secret) {
		return nil, fault.New(fault.Invalid, "key-secret",
			"a secret has 16 to 128 printable ASCII characters without spaces").In("secret").
			Do("bring a longer one, or leave id and secret out to have them made")
	}
	return r.masters.seal([]byte(secret), id)
}

// SealSecret seals a secret of ours at another place, under a name that no key has.
func (r *Ring) SealSecret(name, secret string) ([]byte, error) {
	return r.masters.seal([]byte(secret), name)
}

// OpenSecret opens what SealSecret sealed under a name. The error has the code
// master-key-wrong.
func (r *Ring) OpenSecret(name string, sealed []byte) (string, error) {
	plain, err := r.masters.unseal(sealed, name)
	return string(plain), err
}

// Generate makes an id of 16 and a secret of 40 characters.
func Generate() (id, secret string) {
	b := make([]byte, 35)
	_, _ = rand.Read(b)
	text := base32.StdEncoding.EncodeToString(b)
	return text[:16], strings.ToLower(text[16:])
}

// First makes the owner's key when the catalog has none: the given one, or a
// generated one when id is empty. made is nil when there was a key already.
func (r *Ring) First(ctx context.Context, account, id, secret string) (made *Key, err error) {
	some, err := r.catalog.AnyKey(ctx)
	if err != nil || some != nil {
		return nil, err
	}
	if id == "" {
		id, secret = Generate()
	}
	sealed, err := r.Seal(id, secret)
	if err != nil {
		return nil, err
	}
	k := Key{ID: id, Secret: secret, Account: account, Name: "owner", Role: access.Administrator, Operator: true,
		Active: true}
	return &k, r.catalog.FirstKey(ctx, catalog.AccessKey{ID: id, Account: account, Name: k.Name, Role: k.Role,
		Operator: true, Sealed: sealed, Active: true})
}
