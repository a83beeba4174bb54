package store_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/iotest"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/harness"
	"spindle/internal/store"
)

func TestMain(m *testing.M) { os.Exit(harness.Main(m)) }

var (
	plates = object.MustBucketName("plates")
	me     = catalog.Author{Who: harness.Key, Source: "127.0.0.1"}
)

func at(key string) catalog.Address { return catalog.Address{Bucket: plates, Key: object.MustKey(key)} }

func newStore(t *testing.T, quota *int64) *store.Store {
	t.Helper()
	s := harness.Store(t)
	if err := s.CreateBucket(t.Context(), catalog.Bucket{Name: plates, Account: "herbarium",
		Settings: bucket.Settings{Quota: quota}}, me); err != nil {
		t.Fatal(err)
	}
	return s
}

func putOf(key, body string, by catalog.Author) store.Put {
	return store.Put{Address: at(key), Author: by, Body: strings.NewReader(body), Size: int64(len(body))}
}

func put(t *testing.T, s *store.Store, key, body string) *object.Version {
	t.Helper()
	v, err := s.Put(t.Context(), putOf(key, body, me))
	if err != nil {
		t.Fatalf("putting %q: %v", key, err)
	}
	return v
}

func get(t *testing.T, s *store.Store, key string) (string, error) {
	t.Helper()
	v, err := s.Find(t.Context(), at(key))
	if err != nil {
		return "", err
	}
	b, v, err := s.Open(t.Context(), at(key), v)
	if err != nil {
		return "", err
	}
	defer b.Close()
	var out bytes.Buffer
	err = b.Send(&out, 0, v.Size, nil)
	return out.String(), err
}

func wantCode(t *testing.T, what string, err error, code string) {
	t.Helper()
	if code == "" && err != nil || code != "" && !fault.HasCode(err, code) {
		t.Errorf("%s: %v, want code %q", what, err, code)
	}
}

func TestPutReadReplaceRemove(t *testing.T) {
	s := newStore(t, nil)
	big := strings.Repeat("calluna ", 100_000)
	for key, body := range map[string]string{"a": "", "b": "x", "c": strings.Repeat("y", 128<<10), "d": big} {
		v := put(t, s, key, body)
		if v.CRC64 != digest.CRC64([]byte(body)) {
			t.Errorf("%s: digest %x", key, v.CRC64)
		}
		if got, err := get(t, s, key); err != nil || got != body {
			t.Errorf("%s came back as %d bytes, %v", key, len(got), err)
		}
	}
	put(t, s, "d", "smaller")
	if got, _ := get(t, s, "d"); got != "smaller" {
		t.Errorf("after replacing: %q", got)
	}
	for range 2 { // a second removal is no error
		if _, err := s.Remove(t.Context(), at("d"), nil, me); err != nil {
			t.Error(err)
		}
	}
	_, err := get(t, s, "d")
	wantCode(t, "reading what was removed", err, "key-missing")
	wantCode(t, "removing a bucket that holds objects", s.RemoveBucket(t.Context(), plates, me), "bucket-not-empty")
	_, err = s.Find(t.Context(), catalog.Address{Bucket: object.MustBucketName("nowhere"), Key: object.MustKey("x")})
	wantCode(t, "reading from no bucket", err, "bucket-missing")
}

func TestNothingIsVisibleOfARefusedPut(t *testing.T) {
	s := newStore(t, nil)
	broken := errors.New("broken line")
	md5 := [16]byte{1}
	base := store.Put{Address: at("k"), Author: me, Size: 5}
	for name, change := range map[string]func(*store.Put){
		"broken":    func(p *store.Put) { p.Body = io.MultiReader(strings.NewReader("he"), iotest.ErrReader(broken)) },
		"short":     func(p *store.Put) { p.Body = strings.NewReader("hell") },
		"long":      func(p *store.Put) { p.Body = strings.NewReader("hello!") },
		"wrong MD5": func(p *store.Put) { p.Body = strings.NewReader("hello"); p.MD5 = &md5 },
		"wrong SHA-256": func(p *store.Put) {
			p.Body, p.Checksum, p.Claim = strings.NewReader("hello"), digest.SHA256, claim(make([]byte, 32))
		},
		"wrong CRC-64": func(p *store.Put) {
			p.Body, p.Checksum, p.Claim = strings.NewReader("hello"), digest.CRC64NVME, claim(make([]byte, 8))
		},
		"nothing to match": func(p *store.Put) { p.Body = strings.NewReader("hello"); p.IfETag = &object.ETag{} },
	} {
		p := base
		change(&p)
		if _, err := s.Put(t.Context(), p); err == nil {
			t.Errorf("%s: accepted", name)
		}
		if _, err := get(t, s, "k"); !fault.HasCode(err, "key-missing") {
			t.Errorf("%s: visible afterwards: %v", name, err)
		}
	}
}

func claim(b []byte) func() ([]byte, error) { return func() ([]byte, error) { return b, nil } }

func TestConditionalWritesHaveOneWinner(t *testing.T) {
	s := newStore(t, nil)
	var wg sync.WaitGroup
	var mu sync.Mutex
	won := 0
	for i := range 40 {
		wg.Go(func() {
			_, err := s.Put(t.Context(), store.Put{Address: at("one"), Author: me, Body: strings.NewReader(fmt.Sprint(i)),
				Size: -1, IfAbsent: true})
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				won++
			} else if !fault.HasCode(err, "exists") {
				t.Errorf("writer %d: %v", i, err)
			}
		})
	}
	wg.Wait()
	if won != 1 {
		t.Errorf("%d of 40 writers that wanted the key absent won", won)
	}
	v, err := s.Find(t.Context(), at("one"))
	if err != nil {
		t.Fatal(err)
	}
	won = 0
	for range 40 {
		wg.Go(func() {
			tag := v.ETag
			_, err := s.Put(t.Context(), store.Put{Address: at("one"), Author: me, Body: strings.NewReader("next"), Size: 4,
				IfETag: &tag})
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				won++
			} else if !fault.HasCode(err, "mismatch") {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	if won != 1 {
		t.Errorf("%d of 40 writers that wanted one ETag won", won)
	}
}

// TestUsageAndJournalAgreeWithObjects writes and removes the same keys from many
// sides at once: afterwards the journal's deltas, the rolled-up usage and what
// is there must be the same.
func TestUsageAndJournalAgreeWithObjects(t *testing.T) {
	s := newStore(t, nil)
	ctx := t.Context()
	stop := make(chan struct{})
	var roll, wg sync.WaitGroup
	roll.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
				if _, err := s.Catalog.RollUp(ctx, 7); err != nil {
					t.Error(err)
				}
			}
		}
	})
	var mu sync.Mutex
	wrote, removed := 0, 0
	for w := range 16 {
		wg.Go(func() {
			r := rand.New(rand.NewPCG(uint64(w), 1))
			for range 40 {
				key := fmt.Sprintf("k%d", r.IntN(12))
				if r.IntN(3) == 0 {
					gone, err := s.Remove(ctx, at(key), nil, me)
					mu.Lock()
					if gone.Number > 0 {
						removed++
					}
					mu.Unlock()
					if err != nil {
						t.Error(err)
					}
					continue
				}
				body := strings.Repeat("z", r.IntN(300))
				if _, err := s.Put(ctx, store.Put{Address: at(key), Author: me, Body: strings.NewReader(body),
					Size: int64(len(body))}); err != nil {
					t.Error(err)
				}
				mu.Lock()
				wrote++
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	close(stop)
	roll.Wait()
	b, err := s.Catalog.Bucket(ctx, plates)
	if err != nil {
		t.Fatal(err)
	}
	objects, bytes, err := s.Catalog.Count(ctx, b.ID, "")
	if err != nil {
		t.Fatal(err)
	}
	if b.Usage.Objects != objects || b.Usage.Bytes != bytes {
		t.Errorf("usage before the last roll-up is %d objects, %d bytes; there are %d, %d", b.Usage.Objects, b.Usage.Bytes,
			objects, bytes)
	}
	if err := s.Fresh(ctx, time.Now()); err != nil {
		t.Fatal(err)
	}
	days, err := s.Catalog.Days(ctx, time.Time{}, "", "plates")
	if err != nil {
		t.Fatal(err)
	}
	var sum catalog.Day
	for _, d := range days {
		sum.Written, sum.Removed, sum.Objects, sum.Bytes = sum.Written+d.Written, sum.Removed+d.Removed,
			sum.Objects+d.Objects, sum.Bytes+d.Bytes
	}
	if sum.Written != int64(wrote) || sum.Removed != int64(removed) || sum.Objects != objects || sum.Bytes != bytes {
		t.Errorf("rolled up: %d written, %d removed, %d objects, %d bytes; want %d, %d, %d, %d", sum.Written, sum.Removed,
			sum.Objects, sum.Bytes, wrote, removed, objects, bytes)
	}
	journal, err := s.Catalog.Journal(ctx, catalog.JournalQuery{Bucket: "plates", Limit: 1000})
	if err != nil {
		t.Fatal(err)
	}
	if want := wrote + removed + 1; len(journal.Entries) != want {
		t.Errorf("the journal has %d entries, want %d", len(journal.Entries), want)
	}
}

func TestQuotaHoldsUnderManyWriters(t *testing.T) {
	quota := int64(10_000)
	s := newStore(t, &quota)
	ctx := t.Context()
	var wg sync.WaitGroup
	for i := range 30 {
		wg.Go(func() {
			body := strings.Repeat("q", 1000)
			_, err := s.Put(ctx, store.Put{Address: at(fmt.Sprint(i)), Author: me, Body: strings.NewReader(body), Size: -1})
			if err != nil && !fault.HasCode(err, "quota") {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	b, err := s.Catalog.Bucket(ctx, plates)
	if err != nil {
		t.Fatal(err)
	}
	if b.Usage.Bytes != 10_000 {
		t.Errorf("%d bytes under a quota of 10,000, want it exactly full", b.Usage.Bytes)
	}
	unread := iotest.ErrReader(errors.New("the body was read"))
	_, err = s.Put(ctx, store.Put{Address: at("new"), Author: me, Body: unread, Size: 1})
	wantCode(t, "a put of known length over quota", err, "quota")
	key := ""
	page, _, err := s.List(ctx, plates, catalog.Listing{Max: 1})
	if err != nil {
		t.Fatal(err)
	}
	key = page[0].Name()
	put(t, s, key, strings.Repeat("r", 1000)) // replacing in the same size fits
	less := int64(9_999)
	wantCode(t, "shrinking below use", s.ChangeBucket(ctx, plates, 0, me, bucket.Quota(&less)), "quota-below-use")
	wantCode(t, "shrinking to use", s.ChangeBucket(ctx, plates, 0, me, bucket.Quota(&quota)), "")
	wantCode(t, "taking it away", s.ChangeBucket(ctx, plates, 0, me, bucket.Quota(nil)), "")
	put(t, s, "new", "fits now")
}

// TestListingAgreesWithAModel pages through random keys with random prefixes
// and delimiters and compares with a plain loop over all of them.
func TestListingAgreesWithAModel(t *testing.T) {
	s := newStore(t, nil)
	ctx := t.Context()
	r := rand.New(rand.NewPCG(20260314, 1))
	alphabet := []string{"a", "b", "/", "//", "\x00", "\x7f", "é", "\U0010FFFF", "z", "-", "\u07ff"}
	word := func(n int) string {
		var b strings.Builder
		for range n {
			b.WriteString(alphabet[r.IntN(len(alphabet))])
		}
		return b.String()
	}
	have := map[string]bool{}
	for len(have) < 400 {
		have[word(1+r.IntN(6))] = true
	}
	var keys []string
	for k := range have {
		keys = append(keys, k)
		put(t, s, k, "x")
	}
	slices.Sort(keys)
	for round := range 300 {
		prefix, delimiter, start := "", "", ""
		if r.IntN(3) > 0 {
			prefix = word(r.IntN(3))
		}
		if r.IntN(4) > 0 {
			delimiter = []string{"/", "/", "a", "//", "é", "\x00"}[r.IntN(6)]
		}
		if r.IntN(3) == 0 {
			start = word(1 + r.IntN(4))
		}
		var want []string
		for _, k := range keys {
			rest, ok := strings.CutPrefix(k, prefix)
			if !ok {
				continue
			}
			name := k
			if delimiter != "" {
				if head, _, folded := strings.Cut(rest, delimiter); folded {
					name = prefix + head + delimiter
				}
			}
			if name <= start || start != "" && name != k && strings.HasPrefix(start, name) || len(want) > 0 &&
				want[len(want)-1] == name {
				continue
			}
			want = append(want, name)
		}
		var got []string
		for after, max := start, 1+r.IntN(9); ; {
			page, more, err := s.List(ctx, plates, catalog.Listing{Prefix: prefix, Delimiter: delimiter, After: after, Max: max})
			if err != nil {
				t.Fatal(err)
			}
			for _, e := range page {
				got = append(got, e.Name())
			}
			if !more {
				break
			}
			if len(page) != max {
				t.Fatalf("round %d: a page of %d where %d were asked for and more follow", round, len(page), max)
			}
			after = page[len(page)-1].Name()
		}
		if !slices.Equal(got, want) {
			t.Fatalf("round %d: prefix %q, delimiter %q, after %q:\n got %q\nwant %q", round, prefix, delimiter, start, got,
				want)
		}
	}
}

func TestCopyAndRenameShareTheBody(t *testing.T) {
	s := newStore(t, nil)
	ctx := t.Context()
	body := strings.Repeat("body", 50_000)
	v := put(t, s, "from", body)
	c, err := s.Copy(ctx, store.Copy{From: at("from"), To: at("copy"), Author: me})
	if err != nil {
		t.Fatal(err)
	}
	if c.Body != v.Body || c.Number <= v.Number {
		t.Errorf("the copy has body %+v and number %d; the source %+v, %d", c.Body, c.Number, v.Body, v.Number)
	}
	if _, err := s.Copy(ctx, store.Copy{From: at("from"), To: at("moved"), Author: me, Move: true}); err != nil {
		t.Fatal(err)
	}
	if _, err := get(t, s, "from"); !fault.HasCode(err, "key-missing") {
		t.Errorf("the source of a rename: %v", err)
	}
	for _, key := range []string{"copy", "moved"} {
		if got, err := get(t, s, key); err != nil || got != body {
			t.Errorf("%s: %d bytes, %v", key, len(got), err)
		}
	}
	meta := object.Metadata{"taxon": "Erica cinerea"}
	if _, err := s.Copy(ctx, store.Copy{From: at("copy"), To: at("copy"), Author: me, Replace: true,
		Metadata: meta}); err != nil {
		t.Fatal(err)
	}
	if v, err := s.Find(ctx, at("copy")); err != nil || v.Metadata["taxon"] != "Erica cinerea" || v.Body != c.Body {
		t.Errorf("after changing metadata by a copy onto itself: %+v, %v", v, err)
	}
	_, err = s.Copy(ctx, store.Copy{From: at("copy"), To: at("copy"), Author: me})
	wantCode(t, "a copy onto itself without a change", err, "copy-to-itself")
	_, err = s.Copy(ctx, store.Copy{From: at("copy"), To: at("moved"), Author: me, IfAbsent: true})
	wantCode(t, "a copy onto what is there", err, "exists")
	_, err = s.Copy(ctx, store.Copy{From: at("nix"), To: at("moved"), Author: me})
	wantCode(t, "a copy of nothing", err, "key-missing")
}

func TestEmptyingGoesOnAfterAStop(t *testing.T) {
	s := newStore(t, nil)
	for i := range 25 {
		put(t, s, fmt.Sprintf("gone/%02d", i), "xx")
	}
	put(t, s, "kept", "x")
	total := store.Cleared{}
	for more := true; more; {
		c, err := s.RemoveUnder(context.Background(), plates, "gone/", 10, me)
		if err != nil {
			t.Fatal(err)
		}
		total.Objects, total.Bytes, more = total.Objects+c.Objects, total.Bytes+c.Bytes, c.More
	}
	if total.Objects != 25 || total.Bytes != 50 {
		t.Errorf("removed %+v", total)
	}
	page, _, err := s.List(t.Context(), plates, catalog.Listing{Max: 10})
	if err != nil || len(page) != 1 || page[0].Name() != "kept" {
		t.Errorf("left: %v, %v", page, err)
	}
}

func TestRemoveManyAndBucketMadeAgain(t *testing.T) {
	s := newStore(t, nil)
	ctx := t.Context()
	var keys []store.Removal
	for i := range 600 {
		k := object.MustKey(fmt.Sprintf("k%03d", i))
		keys = append(keys, store.Removal{Key: k}, store.Removal{Key: k})
		if i%2 == 0 {
			put(t, s, k.String(), "x")
		}
	}
	_, errs, err := s.RemoveMany(ctx, plates, keys, me)
	if err := errors.Join(append(errs, err)...); err != nil {
		t.Fatalf("%v, %v", errs, err)
	}
	// The bucket's number is known; after removing and making it again it must not be used.
	if err := s.Catalog.RemoveBucket(ctx, plates, catalog.Author{At: time.Now(), Who: "x"}); err != nil {
		t.Fatal(err)
	}
	_, err = s.Put(ctx, store.Put{Address: at("x"), Author: me, Body: strings.NewReader("x"), Size: 1})
	wantCode(t, "a put into a bucket removed elsewhere", err, "bucket-missing")
	if err := s.Catalog.CreateBucket(ctx, catalog.Bucket{Name: plates, Account: "herbarium", Region: "fenn"},
		catalog.Author{At: time.Now(), Who: "x"}); err != nil {
		t.Fatal(err)
	}
	put(t, s, "x", "into the new one")
}
