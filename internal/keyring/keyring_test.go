package keyring_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/harness"
	"spindle/internal/keyring"
)

func TestMain(m *testing.M) { os.Exit(harness.Main(m)) }

func open(t *testing.T) *catalog.Catalog {
	t.Helper()
	c, err := catalog.Open(harness.Context(t), harness.Database(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	return c
}

func TestSecretsAreSealedUnderAKeyKeptElsewhere(t *testing.T) {
	c := open(t)
	path := filepath.Join(t.TempDir(), "master.key")
	r, err := keyring.Open(t.Context(), c, path, "")
	if err != nil {
		t.Fatal(err)
	}
	if st, err := os.Stat(path); err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("the master key's file: %v, %v", st, err)
	}
	made, err := r.First(t.Context(), "herbarium", "", "")
	if err != nil || len(made.ID) != 16 || len(made.Secret) != 40 {
		t.Fatalf("the first key: %+v, %v", made, err)
	}
	if again, err := r.First(t.Context(), "herbarium", "", ""); again != nil || err != nil {
		t.Errorf("a second first key: %v, %v", again, err)
	}
	stored, err := c.Key(t.Context(), made.ID)
	if err != nil || strings.Contains(string(stored.Sealed), made.Secret) {
		t.Errorf("the database has the secret in the open: %v", err)
	}
	r2, err := keyring.Open(t.Context(), c, path, "") // another process
	if err != nil {
		t.Fatal(err)
	}
	k, err := r2.Find(t.Context(), made.ID)
	if err != nil || k.Secret != made.Secret || k.Account != "herbarium" {
		t.Errorf("found again: %+v, %v", k, err)
	}
	for _, id := range []string{"NOBODY", "", strings.Repeat("x", 5000), "nul\u0001"} {
		if k, err := r2.Find(t.Context(), id); k != nil || err != nil {
			t.Errorf("%.10q: %v, %v", id, k, err)
		}
	}
	// A sealed secret that is moved to another id does not open.
	moved := *stored
	moved.ID = "MOVED"
	if err := c.CreateKey(t.Context(), moved, catalog.Author{At: time.Now()}); err != nil {
		t.Fatal(err)
	}
	if _, err := r2.Find(t.Context(), "MOVED"); !fault.HasCode(err, "master-key-wrong") {
		t.Errorf("a moved secret: %v", err)
	}
	// Off, and expired.
	if err := c.CreateKey(t.Context(), catalog.AccessKey{ID: "SPARE", Account: "herbarium", Name: "spare",
		Role: access.Administrator, Sealed: []byte{}, Active: true}, catalog.Author{At: time.Now()}); err != nil {
		t.Fatal(err)
	}
	past := time.Now().Add(-time.Minute)
	for code, edit := range map[string]func(*catalog.AccessKey) error{
		"key-off":     func(k *catalog.AccessKey) error { k.Active = false; return nil },
		"key-expired": func(k *catalog.AccessKey) error { k.Active, k.Expires = true, &past; return nil },
	} {
		if err := c.ChangeKey(t.Context(), made.ID, 0, catalog.Author{At: time.Now()}, edit); err != nil {
			t.Fatal(err)
		}
		r.Forget(made.ID)
		if k, err := r.Find(t.Context(), made.ID); err != nil || !fault.HasCode(k.Works(time.Now()), code) {
			t.Errorf("%s: %+v, %v", code, k, err)
		}
	}
}

// TestTheMasterKeyIsRotated has two processes on one file: what is sealed before,
// while and after opens in both, and the old key opens nothing any more.
func TestTheMasterKeyIsRotated(t *testing.T) {
	c := open(t)
	path := filepath.Join(t.TempDir(), "master.key")
	r, err := keyring.Open(t.Context(), c, path, "")
	if err != nil {
		t.Fatal(err)
	}
	made, err := r.First(t.Context(), "herbarium", "", "")
	if err != nil {
		t.Fatal(err)
	}
	other, err := keyring.Open(t.Context(), c, path, "")
	if err != nil {
		t.Fatal(err)
	}
	old, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	before, err := r.Master(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	stop := make(chan struct{})
	var ids []string
	wg.Go(func() { // keys are made in another process all the while
		for i := 0; ; i++ {
			select {
			case <-stop:
				return
			default:
			}
			id, secret := fmt.Sprintf("MEANWHILE-%d", i), fmt.Sprintf("secret-%d-secret-secret", i)
			sealed, err := other.Seal(id, secret)
			if err == nil {
				err = c.CreateKey(t.Context(), catalog.AccessKey{ID: id, Account: "herbarium", Sealed: sealed, Active: true},
					catalog.Author{At: time.Now()})
			}
			if err != nil {
				t.Error(err)
				return
			}
			ids = append(ids, id)
			time.Sleep(5 * time.Millisecond)
		}
	})
	if n, err := r.Rotate(t.Context()); err != nil || n < 1 {
		t.Errorf("rotated %d, %v", n, err)
	}
	close(stop)
	wg.Wait()
	after, err := r.Master(t.Context())
	if err != nil || after.Fingerprint == before.Fingerprint || after.Keys != 1 || after.Sealed != len(ids)+1 {
		t.Errorf("%+v after %+v, %v", after, before, err)
	}
	fresh, err := keyring.Open(t.Context(), c, path, "")
	if err != nil {
		t.Fatal(err)
	}
	for i, id := range ids {
		if k, err := fresh.Find(t.Context(), id); err != nil || k.Secret != fmt.Sprintf("secret-%d-secret-secret", i) {
			t.Errorf("%s: %+v, %v", id, k, err)
		}
	}
	if k, err := other.Find(t.Context(), made.ID); err != nil || k.Secret != made.Secret {
		t.Errorf("in the other process: %v", err)
	}
	if _, err := keyring.Open(t.Context(), c, path, strings.TrimSpace(string(old))); !fault.HasCode(err,
		"master-key-wrong") {
		t.Errorf("with the old key: %v", err)
	}
	// Given by the environment: the new one first, then the old one.
	now, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	next := strings.Repeat("5e", 32)
	given, err := keyring.Open(t.Context(), c, "", strings.TrimSpace(string(now)))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := given.Rotate(t.Context()); !fault.HasCode(err, "master-key-given") {
		t.Errorf("one key in the environment: %v", err)
	}
	if given, err = keyring.Open(t.Context(), c, "", next+","+strings.TrimSpace(string(now))); err != nil {
		t.Fatal(err)
	}
	if _, err := given.Rotate(t.Context()); err != nil {
		t.Error(err)
	}
	if _, err := keyring.Open(t.Context(), c, "", next); err != nil {
		t.Errorf("with the new key alone: %v", err)
	}
}

func TestPasswords(t *testing.T) {
	for _, bad := range []string{"", "short", "aaaaaaaaaaaaaaa", strings.Repeat("ab", 129)} {
		if _, err := keyring.HashPassword(t.Context(), bad); !fault.HasCode(err, "password-weak") {
			t.Errorf("%.12q: %v", bad, err)
		}
	}
	a, err := keyring.HashPassword(t.Context(), "bog myrtle and heather")
	if err != nil || !strings.HasPrefix(a, "$argon2id$v=19$m=65536,t=3,p=4$") {
		t.Fatal(a, err)
	}
	b, err := keyring.HashPassword(t.Context(), "bog myrtle and heather")
	if err != nil || a == b {
		t.Errorf("two digests of one password are the same: %v", err)
	}
	for password, want := range map[string]bool{"bog myrtle and heather": true, "bog myrtle and heather ": false,
		"": false} {
		if ok, err := keyring.CheckPassword(t.Context(), password, a); ok != want || err != nil {
			t.Errorf("%q: %v, %v", password, ok, err)
		}
	}
	if ok, err := keyring.CheckPassword(t.Context(), "", ""); ok || err != nil { // of nobody
		t.Errorf("nobody: %v, %v", ok, err)
	}
	if _, err := keyring.CheckPassword(t.Context(), "x", "$2a$10$other"); err == nil {
		t.Error("a digest of another kind was read")
	}
}

func TestAWrongMasterKeyStopsTheStart(t *testing.T) {
	c := open(t)
	dir := t.TempDir()
	path := filepath.Join(dir, "master.key")
	r, err := keyring.Open(t.Context(), c, path, "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.First(t.Context(), "herbarium", "GIVEN", "given-secret-of-some-length"); err != nil {
		t.Fatal(err)
	}
	for name, content := range map[string]string{"other": strings.Repeat("ab", 32), "short": "abcd",
		"no hex": strings.Repeat("xy", 32), "empty": ""} {
		other := filepath.Join(dir, name)
		if err := os.WriteFile(other, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := keyring.Open(t.Context(), c, other, ""); !fault.HasCode(err, "master-key-wrong") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := keyring.Open(t.Context(), c, filepath.Join(dir, "none"), ""); !fault.HasCode(err, "master-key-missing") {
		t.Errorf("missing: %v", err)
	}
	if _, err := os.Stat(filepath.Join(dir, "none")); err == nil {
		t.Error("a new master key was made beside sealed secrets")
	}
}

func TestKeysThatAreBroughtAlong(t *testing.T) {
	c := open(t)
	r, err := keyring.Open(t.Context(), c, filepath.Join(t.TempDir(), "master.key"), "")
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range []struct{ id, secret, code string }{
		{"scanner-2", "sixteen-sixteen-", ""}, {"ab", "sixteen-sixteen-", "key-id"},
		{"with space", "sixteen-sixteen-", "key-id"}, {"a/b", "sixteen-sixteen-", "key-id"},
		{strings.Repeat("k", 65), "sixteen-sixteen-", "key-id"},
		{"field-kit", "fifteen-fifteen", "key-secret"}, {"field-kit", "with some space inside", "key-secret"},
		{"field-kit", "nül-secret-of-some-length", "key-secret"}, {"field-kit", strings.Repeat("s", 129), "key-secret"},
	} {
		_, err := r.Seal(k.id, k.secret)
		if k.code == "" && err != nil || k.code != "" && !fault.HasCode(err, k.code) {
			t.Errorf("%.12q, %.12q: %v, want %q", k.id, k.secret, err, k.code)
		}
	}
}
