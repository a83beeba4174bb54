package sealing

import (
	"bytes"
	"encoding/hex"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"filippo.io/age"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

const words = "linen thread on a wooden reel"

var salt = Salt{0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15}

func keys(t *testing.T) *Keys {
	t.Helper()
	k, err := Derive(words, salt)
	if err != nil {
		t.Fatal(err)
	}
	return k
}

// TestTheVector holds what docs/sealed-sync.md says: whoever reads it can write a program
// that opens what this one sealed.
func TestTheVector(t *testing.T) {
	k := keys(t)
	name, err := k.SealName("notes/trip.txt")
	if err != nil {
		t.Fatal(err)
	}
	for what, x := range map[string][2]string{
		"salt":      {salt.String(), "000g40-o40k30-e20918-5go38e-1s"},
		"master":    {hex.EncodeToString(k.Master()), "02d86a821a74972a917be70e60425be57143a1ade8c9a41cfea227563408d134"},
		"recipient": {k.Recipient(), "age1aqkxk4pk9jrlkvxr0qj08r2k70ke4u0suva7gh9uffyqcwm00czqkklz2a"},
		"identity":  {k.Identity(), "AGE-SECRET-KEY-1MPWY6NKN5SJWSTP4NP2M4GQZ2GRT0P7HRJ7AGMRZU7ACS6D8WZ6SGFHE3G"},
		"name":      {name, "3nqdfuk6lsg6e929rd34ssshk0qvad99jviq6kpnhqdhpmgl"},
	} {
		if x[0] != x[1] {
			t.Errorf("%s: %s, not %s", what, x[0], x[1])
		}
	}
	if composed, err := Derive("e\u0301 "+words, salt); err != nil || composed.Recipient() != func() string {
		k, _ := Derive("\u00e9 "+words+"\n", salt)
		return k.Recipient()
	}() {
		t.Errorf("the same passphrase typed otherwise makes other keys: %v", err)
	}
	if _, err := Derive("short", salt); !fault.HasCode(err, "passphrase-weak") {
		t.Errorf("a weak passphrase: %v", err)
	}
	if back, err := ParseSalt(strings.ToUpper(salt.String())); err != nil || back != salt {
		t.Errorf("the salt comes back as %v, %v", back, err)
	}
	if _, err := ParseSalt("nothing"); !fault.HasCode(err, "salt") {
		t.Errorf("no salt: %v", err)
	}
}

func TestNames(t *testing.T) {
	k := keys(t)
	seen := map[string]bool{}
	for _, key := range []string{"a", "b", "plates/2026/a b.tif", "é/ö", strings.Repeat("k", 60), strings.Repeat("l", 59),
		strings.Repeat("x", LongestKey), "tab\tand\nline"} {
		name, err := k.SealName(key)
		again, _ := k.SealName(key)
		if err != nil || name != again || seen[name] || len(name) > object.MaxKey {
			t.Errorf("%q: %q and %q, %v", key, name, again, err)
		}
		seen[name] = true
		if _, err := object.SafePath(name); err != nil {
			t.Errorf("%q is no name of a file: %v", name, err)
		}
		if back, ok := k.OpenName(name); !ok || back != key {
			t.Errorf("%q comes back as %q, %v", key, back, ok)
		}
		for i := range name { // a name that was changed is nobody's
			bad := []byte(name)
			if bad[i] = "0123456789abcdefghijklmnopqrstuv/"[(strings.IndexByte("0123456789abcdefghijklmnopqrstuv/",
				bad[i])+1)%33]; i%7 == 0 {
				if back, ok := k.OpenName(string(bad)); ok {
					t.Errorf("%q opens as %q", bad, back)
				}
			}
		}
	}
	if _, err := k.SealName(strings.Repeat("x", LongestKey+1)); !fault.HasCode(err, "name-too-long") {
		t.Errorf("too long: %v", err)
	}
	for _, s := range []string{"", "a", MarkName, strings.Repeat("0", 40), strings.ToUpper("00112233445566778899")} {
		if key, ok := k.OpenName(s); ok {
			t.Errorf("%q opens as %q", s, key)
		}
	}
}

func ranger(b []byte) Ranger {
	return func(from, n int64) (io.ReadCloser, error) {
		return io.NopCloser(iotest.OneByteReader(bytes.NewReader(b[from : from+n]))), nil
	}
}

func all(t *testing.T, r io.ReadCloser, err error) []byte {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
	b, err := io.ReadAll(r)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// TestContents seals contents of lengths about the chunks, opens them with the ordinary
// library of the format, and reads random ranges of both forms.
func TestContents(t *testing.T) {
	k := keys(t)
	rnd := rand.New(rand.NewPCG(1, 4))
	ordinary, err := age.ParseX25519Identity(k.Identity())
	if err != nil {
		t.Fatal(err)
	}
	at := time.Unix(1_790_000_000, 5).UTC()
	for _, n := range []int64{0, 1, 15, ChunkSize - 1, ChunkSize, ChunkSize + 1, 2 * ChunkSize, 3*ChunkSize + 77} {
		b := make([]byte, n)
		for i := range b {
			b[i] = byte(rnd.Uint32())
		}
		facts := Facts{Size: n, CRC64: 7, Modified: at, Mode: 0o640}
		f, err := k.Begin("a/b", facts)
		if err != nil {
			t.Fatal(err)
		}
		r, err := f.Sealed(ranger(b), 0, Length(n))
		sealed := all(t, r, err)
		if int64(len(sealed)) != Length(n) || PlainLength(Length(n)) != n {
			t.Errorf("%d bytes become %d, not %d, and those %d", n, len(sealed), Length(n), PlainLength(Length(n)))
		}
		plain, err := age.Decrypt(bytes.NewReader(sealed), ordinary)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := io.ReadAll(plain); err != nil || !bytes.Equal(got, b) {
			t.Errorf("the ordinary library opens %d bytes as %d, %v", n, len(got), err)
		}
		back, err := k.Open("a/b", sealed[:HeaderSize])
		if err != nil || back.Facts != facts {
			t.Fatalf("%+v, %v", back, err)
		}
		for range 40 {
			from := rnd.Int64N(Length(n))
			length := rnd.Int64N(Length(n) - from + 1)
			r, err := f.Sealed(ranger(b), from, length)
			if got := all(t, r, err); !bytes.Equal(got, sealed[from:from+length]) {
				t.Errorf("of %d, %d bytes of the file from %d are others", n, length, from)
			}
			from = rnd.Int64N(n + 1)
			length = rnd.Int64N(n - from + 1)
			r, err = back.Opened(ranger(sealed), from, length)
			if got := all(t, r, err); !bytes.Equal(got, b[from:from+length]) {
				t.Errorf("of %d, %d bytes of the content from %d are others", n, length, from)
			}
		}
	}
	for _, n := range []int64{0, HeaderSize, HeaderSize + 15, HeaderSize + sealedSize + 15} {
		if p := PlainLength(n); p >= 0 {
			t.Errorf("a file of %d bytes would have a content of %d", n, p)
		}
	}
}

// TestDamage has files changed in every way: each is found.
func TestDamage(t *testing.T) {
	k := keys(t)
	b := bytes.Repeat([]byte("specimen "), 20_000)
	f, err := k.Begin("one", Facts{Size: int64(len(b))})
	if err != nil {
		t.Fatal(err)
	}
	r, err := f.Sealed(ranger(b), 0, Length(f.Size))
	sealed := all(t, r, err)
	read := func(key string, sealed []byte) error {
		back, err := k.Open(key, sealed[:min(HeaderSize, len(sealed))])
		if err != nil {
			return err
		}
		r, err := back.Opened(func(from, n int64) (io.ReadCloser, error) {
			return io.NopCloser(bytes.NewReader(sealed[min(from, int64(len(sealed))):min(from+n, int64(len(sealed)))])), nil
		}, 0, back.Size)
		if err == nil {
			_, err = io.ReadAll(r)
		}
		return err
	}
	if err := read("one", sealed); err != nil {
		t.Fatal(err)
	}
	if err := read("two", sealed); !fault.HasCode(err, "sealed-damaged") {
		t.Errorf("a file in another's place: %v", err)
	}
	for i := 0; i < len(sealed); i += 997 {
		bad := bytes.Clone(sealed)
		if bad[i] ^= 4; read("one", bad) == nil {
			t.Errorf("a change at %d is not found", i)
		}
	}
	for _, n := range []int{0, 10, HeaderSize, HeaderSize + sealedSize, len(sealed) - 1} {
		if read("one", sealed[:n]) == nil {
			t.Errorf("a file cut to %d bytes is not found", n)
		}
	}
	other, err := Derive(words+"!", salt)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := other.Open("one", sealed[:HeaderSize]); !fault.HasCode(err, "passphrase-wrong") {
		t.Errorf("another passphrase: %v", err)
	}
	word, err := k.SealAbout("one", nil, About{Tags: object.Tags{"a": "b"}})
	if err != nil {
		t.Fatal(err)
	}
	if a, err := k.OpenAbout("one", nil, word); err != nil || a.Tags["a"] != "b" {
		t.Errorf("%+v, %v", a, err)
	}
	for _, bad := range []string{"", "!", word[:len(word)-3], "A" + word[1:]} {
		if _, err := k.OpenAbout("one", nil, bad); err == nil && bad != word {
			t.Errorf("%q is read", bad)
		}
	}
	if _, err := k.OpenAbout("two", nil, word); !fault.HasCode(err, "sealed-damaged") {
		t.Errorf("another's: %v", err)
	}
}

// TestMark writes a place's mark and reads it, opens it with the passphrase, and its key
// file as the ordinary program would.
func TestMark(t *testing.T) {
	m, k, err := New(words, true)
	if err != nil {
		t.Fatal(err)
	}
	b, err := m.Bytes()
	if err != nil || bytes.Contains(b, []byte(words)) || bytes.Contains(b, []byte(k.Identity())) {
		t.Fatalf("%s, %v", b, err)
	}
	back, err := ParseMark(b)
	if err != nil {
		t.Fatal(err)
	}
	if again, err := back.Open(words); err != nil || again.Identity() != k.Identity() {
		t.Errorf("opened again: %v", err)
	}
	if _, err := back.Open(words + "s"); !fault.HasCode(err, "passphrase-wrong") {
		t.Errorf("another passphrase: %v", err)
	}
	id, err := age.NewScryptIdentity(words)
	if err != nil {
		t.Fatal(err)
	}
	r, err := age.Decrypt(bytes.NewReader(back.Key), id)
	if err != nil {
		t.Fatal(err)
	}
	if list, err := age.ParseIdentities(r); err != nil || len(list) != 1 ||
		list[0].(*age.X25519Identity).String() != k.Identity() {
		t.Errorf("the key file: %v", err)
	}
	for _, bad := range []string{"", "{}", `{"format":2}`} {
		if _, err := ParseMark([]byte(bad)); !fault.HasCode(err, "sealed-mark") {
			t.Errorf("%q: %v", bad, err)
		}
	}
}
