package keyring

import (
	"context"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/core/seal"
)

// masters are the master keys in force: the first seals, all unseal. There are
// two while one is being rotated.
type masters struct {
	path  string // "" when they were given
	mu    sync.RWMutex
	aeads []cipher.AEAD
	names []string // fingerprints
}

func openMasters(path, given string, first bool) (*masters, error) {
	if given != "" {
		m := &masters{}
		return m, m.read(strings.ReplaceAll(given, ",", "\n"), "SPINDLE_MASTER_KEY")
	}
	m := &masters{path: path}
	text, err := os.ReadFile(path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && first:
		fresh, err := newMaster()
		if err != nil {
			return nil, err
		}
		if err := m.write(fresh); err != nil {
			return nil, err
		}
		return m, m.read(fresh, path)
	case errors.Is(err, fs.ErrNotExist):
		return nil, fault.New(fault.Unavailable, "master-key-missing",
			"the database holds sealed secrets, and the master key %s is missing", path).In("master-key").
			Do("put the file back from its backup, or give the key as SPINDLE_MASTER_KEY")
	case err != nil:
		return nil, fault.New(fault.Unavailable, "master-key-missing", "the master key cannot be read").In("master-key").
			Because(err)
	}
	return m, m.read(string(text), path)
}

func newMaster() (string, error) {
	raw := make([]byte, 32)
	_, err := rand.Read(raw)
	return hex.EncodeToString(raw), err
}

// read takes the keys of a text, one a line.
func (m *masters) read(text, from string) error {
	var aeads []cipher.AEAD
	var names []string
	for line := range strings.FieldsSeq(text) {
		raw, err := hex.DecodeString(line)
		if err != nil || len(raw) != 32 {
			return fault.New(fault.Unavailable, "master-key-wrong", "%s does not hold a master key: 64 hex digits", from).
				In("master-key").Do("put the key back from its backup")
		}
		aead, err := seal.NewKey(raw)
		if err != nil {
			return err
		}
		sum := sha256.Sum256(append([]byte("spindle master key "), raw...))
		aeads, names = append(aeads, aead), append(names, hex.EncodeToString(sum[:6]))
	}
	if len(aeads) == 0 {
		return fault.New(fault.Unavailable, "master-key-wrong", "%s holds no master key", from).In("master-key").
			Do("put the key back from its backup")
	}
	m.mu.Lock()
	m.aeads, m.names = aeads, names
	m.mu.Unlock()
	return nil
}

// write replaces the file, so that it is there whole or as it was.
func (m *masters) write(lines ...string) error {
	dir := filepath.Dir(m.path)
	f, err := os.CreateTemp(dir, ".master-*") // mode 0600
	if err != nil {
		return fault.New(fault.Invalid, "master-key-missing", "the master key cannot be written").In("data").Because(err)
	}
	defer os.Remove(f.Name())
	_, err = f.WriteString(strings.Join(lines, "\n") + "\n")
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Rename(f.Name(), m.path); err != nil {
		return err
	}
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// seal seals what belongs to a name under the first key; the first of the file as
// it is now, since another process may be rotating.
func (m *masters) seal(plain []byte, name string) ([]byte, error) {
	if m.path != "" {
		text, err := os.ReadFile(m.path)
		if err == nil {
			err = m.read(string(text), m.path)
		}
		if err != nil {
			return nil, fault.New(fault.Unavailable, "master-key-missing", "the master key cannot be read").In("master-key").
				Do("put the file back from its backup").Because(err)
		}
	}
	m.mu.RLock()
	aead := m.aeads[0]
	m.mu.RUnlock()
	nonce := make([]byte, aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return nil, err
	}
	return aead.Seal(nonce, nonce, plain, []byte(name)), nil
}

func (m *masters) unseal(sealed []byte, name string) ([]byte, error) {
	if plain, _, ok := m.try(sealed, name); ok {
		return plain, nil
	}
	// Another process may have rotated the key since the file was read.
	if m.path != "" {
		if text, err := os.ReadFile(m.path); err == nil && m.read(string(text), m.path) == nil {
			if plain, _, ok := m.try(sealed, name); ok {
				return plain, nil
			}
		}
	}
	return nil, fault.New(fault.Unavailable, "master-key-wrong",
		"the master key does not open the sealed secrets of this database").In("master-key").
		Do("put back the master key that belongs to this database")
}

// try opens what is sealed and says which key did.
func (m *masters) try(sealed []byte, name string) (plain []byte, which int, ok bool) {
	m.mu.RLock()
	defer m.mu.RUnlock()
	for i, a := range m.aeads {
		if n := a.NonceSize(); len(sealed) >= n {
			if plain, err := a.Open(nil, sealed[:n], sealed[n:], []byte(name)); err == nil {
				return plain, i, true
			}
		}
	}
	return nil, 0, false
}

// Master says which master key is in force.
type Master struct {
	Fingerprint string
	From        string
	Keys        int
	Sealed      int
}

// Master says which master key is in force.
func (r *Ring) Master(ctx context.Context) (Master, error) {
	r.masters.mu.RLock()
	m := Master{Fingerprint: r.masters.names[0], From: "file", Keys: len(r.masters.names)}
	r.masters.mu.RUnlock()
	if r.masters.path == "" {
		m.From = "environment"
	}
	var err error
	m.Sealed, err = r.catalog.CountSealed(ctx)
	return m, err
}

// settle is how long a process may take from reading the master key to writing
// what it sealed under it.
const settle = time.Second

// Rotate makes a new master key and seals everything under it. The old one stays
// beside it in the file until all is done, so that it can stop at any point and
// be said again. A key that was given by the environment is rotated by giving the
// new one before it: Rotate then seals everything under that.
func (r *Ring) Rotate(ctx context.Context) (int, error) {
	m := r.masters
	var fresh string
	if m.path != "" {
		text, err := os.ReadFile(m.path)
		if err != nil {
			return 0, err
		}
		lines := strings.Fields(string(text))
		if len(lines) == 1 { // else an earlier rotation stopped half-way: go on with it
			if fresh, err = newMaster(); err != nil {
				return 0, err
			}
			lines = []string{fresh, lines[0]}
			if err := m.write(lines...); err != nil {
				return 0, err
			}
		}
		fresh = lines[0]
		if err := m.read(strings.Join(lines, "\n"), m.path); err != nil {
			return 0, err
		}
	} else if len(m.names) < 2 {
		return 0, fault.New(fault.Conflict, "master-key-given",
			"the master key comes from the environment, and there is only one").In("master-key").
			Do("start the service with SPINDLE_MASTER_KEY=NEW,OLD, rotate, then start it with NEW alone")
	}
	// Twice: what another process sealed under the old key, having just read the
	// file as it was, is found the second time.
	n := 0
	for pass := range 2 {
		if pass > 0 {
			time.Sleep(settle)
		}
		k, err := r.catalog.Reseal(ctx, func(sealed []byte, name string) ([]byte, error) {
			if _, which, ok := m.try(sealed, name); ok && which == 0 {
				return sealed, nil
			}
			plain, err := m.unseal(sealed, name)
			if err != nil {
				return nil, err
			}
			return m.seal(plain, name)
		})
		n = max(n, k)
		if err != nil {
			return n, err
		}
	}
	if m.path == "" {
		return n, nil
	}
	if err := m.write(fresh); err != nil {
		return n, err
	}
	return n, m.read(fresh, m.path)
}
