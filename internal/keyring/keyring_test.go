package keyring_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"spindle/internal/catalog"
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
	r, err := keyring.Open(t.Context(), c, path)
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
	r2, err := keyring.Open(t.Context(), c, path) // another process
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
	if err := c.PutKey(t.Context(), moved); err != nil {
		t.Fatal(err)
	}
	if _, err := r2.Find(t.Context(), "MOVED"); !fault.HasCode(err, "master-key-wrong") {
		t.Errorf("a moved secret: %v", err)
	}
	off := *stored
	off.Active = false
	if err := c.PutKey(t.Context(), off); err != nil {
		t.Fatal(err)
	}
	r3, err := keyring.Open(t.Context(), c, path)
	if err != nil {
		t.Fatal(err)
	}
	if k, err := r3.Find(t.Context(), made.ID); k != nil || err != nil {
		t.Errorf("a key that is off: %v, %v", k, err)
	}
}

func TestAWrongMasterKeyStopsTheStart(t *testing.T) {
	c := open(t)
	dir := t.TempDir()
	path := filepath.Join(dir, "master.key")
	r, err := keyring.Open(t.Context(), c, path)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.First(t.Context(), "herbarium", "GIVEN", "given-secret"); err != nil {
		t.Fatal(err)
	}
	for name, content := range map[string]string{"other": strings.Repeat("ab", 32), "short": "abcd", "no hex": strings.Repeat("xy", 32), "empty": ""} {
		other := filepath.Join(dir, name)
		if err := os.WriteFile(other, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := keyring.Open(t.Context(), c, other); !fault.HasCode(err, "master-key-wrong") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := keyring.Open(t.Context(), c, filepath.Join(dir, "none")); !fault.HasCode(err, "master-key-missing") {
		t.Errorf("missing: %v", err)
	}
	if _, err := os.Stat(filepath.Join(dir, "none")); err == nil {
		t.Error("a new master key was made beside sealed secrets")
	}
}

func TestKeysThatAreBroughtAlong(t *testing.T) {
	c := open(t)
	r, err := keyring.Open(t.Context(), c, filepath.Join(t.TempDir(), "master.key"))
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range []struct{ id, secret, code string }{
		{"scanner-2", "eight888", ""}, {"ab", "eight888", "key-id"}, {"with space", "eight888", "key-id"}, {"a/b", "eight888", "key-id"}, {strings.Repeat("k", 65), "eight888", "key-id"},
		{"field-kit", "seven77", "key-secret"}, {"field-kit", "with space", "key-secret"}, {"field-kit", "nül-secret", "key-secret"}, {"field-kit", strings.Repeat("s", 129), "key-secret"},
	} {
		err := r.Put(t.Context(), keyring.Key{ID: k.id, Secret: k.secret, Account: "herbarium", Name: "n"})
		if k.code == "" && err != nil || k.code != "" && !fault.HasCode(err, k.code) {
			t.Errorf("%.12q, %.12q: %v, want %q", k.id, k.secret, err, k.code)
		}
	}
}
