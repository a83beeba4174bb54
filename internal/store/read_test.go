package store_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/harness"
)

// TestPartsOfBodies sends stretches of small and large bodies.
func TestPartsOfBodies(t *testing.T) {
	s := newStore(t, nil)
	large := strings.Repeat("0123456789", 300_000) // more than one stretch of 1 MiB
	for key, body := range map[string]string{"small": "0123456789", "large": large} {
		put(t, s, key, body)
		v, err := s.Find(t.Context(), at(key))
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range [][2]int64{{0, v.Size}, {3, 4}, {v.Size - 1, 1}, {0, 0}} {
			b, _, err := s.Open(t.Context(), at(key), v)
			if err != nil {
				t.Fatal(err)
			}
			var out bytes.Buffer
			stretches := 0
			if err := b.Send(&out, r[0], r[1], func() { stretches++ }); err != nil {
				t.Errorf("%s %v: %v", key, r, err)
			}
			b.Close()
			if out.String() != body[r[0]:r[0]+r[1]] {
				t.Errorf("%s %v: %d bytes", key, r, out.Len())
			}
			if want := int((r[1] + 1<<20 - 1) >> 20); key == "large" && stretches != want {
				t.Errorf("%s %v: %d stretches, want %d", key, r, stretches, want)
			}
		}
	}
}

// TestABodyThatMovesUnderAReader opens a version whose body was moved or
// replaced since it was found.
func TestABodyThatMovesUnderAReader(t *testing.T) {
	s := newStore(t, nil)
	old := put(t, s, "k", strings.Repeat("old", 100_000))
	name := fmt.Sprintf("%016x", old.Body.File)
	gone := filepath.Join(harness.Volume(s).Dir(), "whole", name[14:], name+".body")
	put(t, s, "k", "new")
	if err := os.Remove(gone); err != nil { // as the collector does
		t.Fatal(err)
	}
	b, v, err := s.Open(t.Context(), at("k"), old)
	if err != nil || v.Size != 3 {
		t.Fatalf("opened %+v, %v", v, err)
	}
	b.Close()
	if _, err := s.Remove(t.Context(), at("k"), nil, me); err != nil {
		t.Fatal(err)
	}
	_, _, err = s.Open(t.Context(), at("k"), old)
	wantCode(t, "a version that is gone altogether", err, "key-missing")

	lost := put(t, s, "lost", strings.Repeat("lost", 100_000))
	name = fmt.Sprintf("%016x", lost.Body.File)
	if err := os.Remove(filepath.Join(harness.Volume(s).Dir(), "whole", name[14:], name+".body")); err != nil {
		t.Fatal(err)
	}
	_, _, err = s.Open(t.Context(), at("lost"), lost)
	if fault.KindOf(err) != fault.Damaged {
		t.Errorf("a body that is lost: %v", err)
	}
	d, err := s.Catalog.Damaged(t.Context(), "", 10)
	if err != nil || len(d) != 1 || d[0].Key != "lost" {
		t.Errorf("reported: %+v, %v", d, err)
	}
	put(t, s, "lost", "put again")
	if d, err := s.Catalog.Damaged(t.Context(), "", 10); err != nil || len(d) != 0 {
		t.Errorf("after putting it again: %+v, %v", d, err)
	}
}

func TestConditionsOnRemoval(t *testing.T) {
	s := newStore(t, nil)
	v := put(t, s, "k", "body")
	other := object.ETag{MD5: [16]byte{9}}
	_, err := s.Remove(t.Context(), at("k"), &other, me)
	wantCode(t, "removing another content", err, "mismatch")
	_, err = s.Remove(t.Context(), at("none"), &other, me)
	wantCode(t, "removing nothing, on a condition", err, "absent")
	gone, err := s.Remove(t.Context(), at("k"), &v.ETag, me)
	if gone.Number == 0 || err != nil {
		t.Errorf("removing it: %v, %v", gone, err)
	}
	gone, err = s.Remove(t.Context(), at("k"), nil, me)
	if gone.Number != 0 || err != nil {
		t.Errorf("removing it twice: %v, %v", gone, err)
	}
	_, err = s.Remove(t.Context(), catalog.Address{Bucket: object.MustBucketName("nowhere"), Key: object.MustKey("k")},
		nil, me)
	wantCode(t, "removing from no bucket", err, "bucket-missing")
}

func TestBucketsAndTheirQuotas(t *testing.T) {
	s := newStore(t, nil)
	for _, q := range []int64{0, -1} {
		wantCode(t, "a quota of nothing", s.CreateBucket(t.Context(),
			catalog.Bucket{Name: object.MustBucketName("other"), Account: "herbarium", Settings: bucket.Settings{Quota: &q}},
			me), "quota-value")
		wantCode(t, "a quota of nothing, later", s.ChangeBucket(t.Context(), plates, 0, me, bucket.Quota(&q)), "quota-value")
	}
	wantCode(t, "a bucket that is there", s.CreateBucket(t.Context(), catalog.Bucket{Name: plates, Account: "herbarium"},
		me), "bucket-exists")
	nowhere := object.MustBucketName("nowhere")
	wantCode(t, "a quota for no bucket", s.ChangeBucket(t.Context(), nowhere, 0, me, bucket.Quota(nil)), "bucket-missing")
	wantCode(t, "removing no bucket", s.RemoveBucket(t.Context(), nowhere, me), "bucket-missing")
	if _, err := s.Bucket(t.Context(), nowhere); !fault.HasCode(err, "bucket-missing") {
		t.Errorf("no bucket: %v", err)
	}
	if f, err := s.Bucket(t.Context(), plates); err != nil || f.Region != "fenn" {
		t.Errorf("region %q, %v", f.Region, err)
	}
	wantCode(t, "removing an empty bucket", s.RemoveBucket(t.Context(), plates, me), "")
	wantCode(t, "making it again", s.CreateBucket(t.Context(),
		catalog.Bucket{Name: plates, Account: "herbarium", Region: "lowland"}, me), "")
	if f, err := s.Bucket(t.Context(), plates); err != nil || f.Region != "lowland" {
		t.Errorf("region of the new one %q, %v", f.Region, err)
	}
	journal, err := s.Catalog.Journal(t.Context(), catalog.JournalQuery{Bucket: "plates", Limit: 10})
	if err != nil || len(journal.Entries) != 3 || journal.Entries[1].Kind != catalog.BucketRemoved {
		t.Errorf("the journal of both: %+v, %v", journal, err)
	}
}

func TestTimeOfAChange(t *testing.T) {
	s := newStore(t, nil)
	then := time.Date(2024, 3, 14, 14, 2, 7, 123_456_789, time.FixedZone("", 3600))
	if err := s.Catalog.EnsurePartitions(t.Context(), then, then); err != nil {
		t.Fatal(err)
	}
	by := me
	by.At = then
	if _, err := s.Put(t.Context(), putOf("old", "x", by)); err != nil {
		t.Fatal(err)
	}
	v, err := s.Find(t.Context(), at("old"))
	if err != nil || !v.Created.Equal(then.Truncate(time.Microsecond)) || v.By != me.Who {
		t.Errorf("written at %s by %s, %v", v.Created, v.By, err)
	}
	if err := s.Fresh(t.Context(), time.Now()); err != nil {
		t.Fatal(err)
	}
	days, err := s.Catalog.Days(t.Context(), then.AddDate(0, 0, -1), "", "plates")
	if err != nil || len(days) == 0 || days[0].Day.Format(time.DateOnly) != "2024-03-14" {
		t.Errorf("counted on %+v, %v", days, err)
	}
	cancelled, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := s.Put(cancelled, putOf("late", "x", me)); err == nil || errors.Is(err, os.ErrNotExist) {
		t.Errorf("a put that nobody waits for: %v", err)
	}
}

// More damage than a process knows by heart is known all the same.
func TestMuchDamageIsRemembered(t *testing.T) {
	s := newStore(t, nil)
	s.DamageAtHand = 1
	ctx := t.Context()
	var list []*object.Version
	for _, key := range []string{"a", "b", "c", "sound"} {
		v := put(t, s, key, "content of "+key)
		list = append(list, v)
		if f, err := s.Facts(ctx, at(key).Bucket); err != nil {
			t.Fatal(err)
		} else if key != "sound" {
			if _, err := s.Catalog.ReportDamage(ctx, f.ID, v, "bytes are otherwise", time.Now()); err != nil {
				t.Fatal(err)
			}
		}
	}
	s.Catalog.LookAgain()
	if err := s.RefreshDamage(ctx); err != nil {
		t.Fatal(err)
	}
	for i, v := range list {
		b, _, err := s.Open(ctx, catalog.Address{Bucket: at("a").Bucket, Key: v.Key}, v)
		if i < 3 && fault.KindOf(err) != fault.Damaged || i == 3 && err != nil {
			t.Errorf("%s: %v", v.Key, err)
		}
		if err == nil {
			b.Close()
		}
	}
}
