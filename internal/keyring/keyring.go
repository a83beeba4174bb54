package keyring

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base32"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
)

// Key is an access key with its secret open. Never log it.
type Key struct {
	ID      string
	Secret  string
	Account string
	Name    string
}

// believed is how long a key is used without asking the catalog again.
const believed = 2 * time.Second

// Ring finds and makes keys.
type Ring struct {
	catalog *catalog.Catalog
	aead    cipher.AEAD
	mu      sync.Mutex
	known   map[string]entry
}

type entry struct {
	key   *Key
	until time.Time
}

// Open reads the master key from a file, making it when there is none and the
// catalog has no keys yet. The errors have the codes master-key-missing and
// master-key-wrong: nothing is changed by them.
func Open(ctx context.Context, c *catalog.Catalog, path string) (*Ring, error) {
	some, err := c.AnyKey(ctx)
	if err != nil {
		return nil, err
	}
	text, err := os.ReadFile(path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && some == nil:
		if text, err = makeMaster(path); err != nil {
			return nil, err
		}
	case errors.Is(err, fs.ErrNotExist):
		return nil, fault.New(fault.Unavailable, "master-key-missing", "the database holds sealed secrets, and the master key %s is missing", path).In("master-key").
			Do("put the file back from its backup")
	case err != nil:
		return nil, fault.New(fault.Unavailable, "master-key-missing", "the master key cannot be read").In("master-key").Because(err)
	}
	master, err := hex.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(master) != 32 {
		return nil, fault.New(fault.Unavailable, "master-key-wrong", "%s does not hold a master key: 64 hex digits", path).In("master-key").Do("put the file back from its backup")
	}
	block, err := aes.NewCipher(master)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	if err != nil {
		return nil, err
	}
	r := &Ring{catalog: c, aead: aead, known: map[string]entry{}}
	if some != nil {
		if _, err := r.unseal(some); err != nil {
			return nil, err
		}
	}
	return r, nil
}

func makeMaster(path string) ([]byte, error) {
	raw := make([]byte, 32)
	if _, err := rand.Read(raw); err != nil {
		return nil, err
	}
	text := []byte(hex.EncodeToString(raw) + "\n")
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, fault.New(fault.Invalid, "master-key-missing", "the master key cannot be written").In("data").Because(err)
	}
	if _, err := f.Write(text); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return nil, err
	}
	d, err := os.Open(filepath.Dir(path))
	if err != nil {
		return nil, err
	}
	return text, errors.Join(d.Sync(), d.Close())
}

func (r *Ring) unseal(k *catalog.AccessKey) (*Key, error) {
	n := r.aead.NonceSize()
	if len(k.Sealed) < n {
		return nil, fault.New(fault.Internal, "secret-damaged", "the sealed secret of key %s is too short", k.ID)
	}
	secret, err := r.aead.Open(nil, k.Sealed[:n], k.Sealed[n:], []byte(k.ID))
	if err != nil {
		return nil, fault.New(fault.Unavailable, "master-key-wrong", "the master key does not open the sealed secrets of this database").In("master-key").
			Do("put back the master key that belongs to this database").Because(err)
	}
	return &Key{ID: k.ID, Secret: string(secret), Account: k.Account, Name: k.Name}, nil
}

// Find gives an active key; nil when there is none.
func (r *Ring) Find(ctx context.Context, id string) (*Key, error) {
	now := time.Now()
	r.mu.Lock()
	e, ok := r.known[id]
	r.mu.Unlock()
	if ok && now.Before(e.until) {
		return e.key, nil
	}
	if len(id) > 128 {
		return nil, nil
	}
	k, err := r.catalog.Key(ctx, id)
	if err != nil {
		return nil, err
	}
	var key *Key
	if k != nil && k.Active {
		if key, err = r.unseal(k); err != nil {
			return nil, err
		}
	}
	r.mu.Lock()
	if len(r.known) > 10_000 { // somebody tries ids
		clear(r.known)
	}
	r.known[id] = entry{key, now.Add(believed)}
	r.mu.Unlock()
	return key, nil
}

var (
	validID     = regexp.MustCompile(`^[A-Za-z0-9_-]{3,64}$`)
	validSecret = regexp.MustCompile(`^[\x21-\x7e]{8,128}$`)
)

// Put writes a key that somebody brought along.
func (r *Ring) Put(ctx context.Context, k Key) error {
	if !validID.MatchString(k.ID) {
		return fault.New(fault.Invalid, "key-id", "a key's id has 3 to 64 letters, digits, hyphens and underscores").In("key")
	}
	if !validSecret.MatchString(k.Secret) {
		return fault.New(fault.Invalid, "key-secret", "a secret has 8 to 128 printable ASCII characters without spaces").In("secret")
	}
	nonce := make([]byte, r.aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return err
	}
	sealed := r.aead.Seal(nonce, nonce, []byte(k.Secret), []byte(k.ID))
	return r.catalog.PutKey(ctx, catalog.AccessKey{ID: k.ID, Account: k.Account, Name: k.Name, Sealed: sealed, Active: true})
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
	k := Key{ID: id, Secret: secret, Account: account, Name: "owner"}
	return &k, r.Put(ctx, k)
}
