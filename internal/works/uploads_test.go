package works_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/lifecycle"
	"spindle/internal/core/object"
	"spindle/internal/harness"
	"spindle/internal/store"
	"spindle/internal/works"
)

// parted puts an object in parts, and gives its content.
func parted(t *testing.T, s *store.Store, key string, sizes ...int) (*object.Version, []byte) {
	t.Helper()
	ctx := t.Context()
	u, err := s.StartUpload(ctx, at(key), catalog.Upload{}, me)
	if err != nil {
		t.Fatal(err)
	}
	var whole []byte
	c := store.Complete{Address: at(key), Author: me, Upload: u.ID, Size: -1}
	for i, n := range sizes {
		b := bytes.Repeat([]byte{byte('a' + i)}, n)
		whole = append(whole, b...)
		if _, err := s.PutPart(ctx, store.PutPart{Address: at(key), Author: me, Upload: u.ID, Number: i + 1,
			Body: bytes.NewReader(b), Size: int64(n)}); err != nil {
			t.Fatal(err)
		}
		c.Parts = append(c.Parts, store.CompletePart{Number: i + 1})
	}
	v, err := s.Complete(ctx, c)
	if err != nil {
		t.Fatal(err)
	}
	return v, whole
}

func TestPartsAreCollectedWithTheirObjects(t *testing.T) {
	s := newStore(t)
	ctx := t.Context()
	parted(t, s, "gone", 5<<20, 5<<20, 1000)
	_, whole := parted(t, s, "kept", 5<<20, 200_000)
	if _, err := s.Copy(ctx, store.Copy{From: at("kept"), To: at("copy"), Author: me}); err != nil {
		t.Fatal(err)
	}
	for _, key := range []string{"gone", "kept"} {
		if _, err := s.Remove(ctx, at(key), nil, me); err != nil {
			t.Fatal(err)
		}
	}
	// A part sent twice, a part that was not taken, an upload that was abandoned.
	u, err := s.StartUpload(ctx, at("left"), catalog.Upload{}, me)
	if err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if _, err := s.PutPart(ctx, store.PutPart{Address: at("left"), Author: me, Upload: u.ID, Number: 1,
			Body: strings.NewReader(strings.Repeat("x", 300_000)), Size: 300_000}); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Abandon(ctx, at("left"), u.ID); err != nil {
		t.Fatal(err)
	}
	crew := works.Start(s, works.Settings{CollectGrace: time.Millisecond, CollectEvery: 30 * time.Millisecond,
		SweepEvery: 50 * time.Millisecond}, quiet())
	defer crew.Stop()
	until(t, "only the copy's two large pieces are left",
		func() bool { whole, _ := files(t, harness.Volume(s)); return whole == 2 })
	time.Sleep(200 * time.Millisecond)
	v, err := s.Find(ctx, at("copy"))
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	if err := s.ReadAll(ctx, v, &b, func(int) error { return nil }); err != nil || !bytes.Equal(b.Bytes(), whole) {
		t.Errorf("the copy has %d bytes, %v", b.Len(), err)
	}
}

func TestSumsOfTheWholeAndDamagedParts(t *testing.T) {
	s := newStore(t)
	ctx := t.Context()
	v, whole := parted(t, s, "k", 5<<20, 5<<20, 300_000)
	crew := works.Start(s, works.Settings{SumEvery: 20 * time.Millisecond, ScrubRate: 1 << 40,
		ScrubEvery: 100 * time.Millisecond, DamageRefresh: 20 * time.Millisecond}, quiet())
	defer crew.Stop()
	want := sha256.Sum256(whole)
	until(t, "its SHA-256 is worked out", func() bool {
		sum, err := s.Catalog.Sum(context.Background(), v.Body)
		return err == nil && bytes.Equal(sum, want[:])
	})
	parts, err := s.Catalog.Parts(ctx, -v.Body.File, 0, 10)
	if err != nil || len(parts) != 3 || parts[2].Start != 10<<20 {
		t.Fatalf("parts %+v, %v", parts, err)
	}
	name := fmt.Sprintf("%016x", parts[1].Body.File)
	name = filepath.Join(harness.Volume(s).Dir(), "whole", name[14:], name+".body")
	w, err := os.OpenFile(name, os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.WriteAt([]byte{'!'}, 77); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	until(t, "the damaged part is found and not served", func() bool {
		return fault.KindOf(s.ReadAll(context.Background(), v, &bytes.Buffer{},
			func(int) error { return nil })) == fault.Damaged
	})
	d, err := s.Catalog.Damaged(ctx, "", 10)
	if err != nil || len(d) != 1 || d[0].Key != "k" {
		t.Errorf("reported: %+v, %v", d, err)
	}
	if err := s.ReadAll(ctx, &object.Version{Size: 300_000}, &bytes.Buffer{},
		func(int) error { return nil }); fault.KindOf(err) != fault.Damaged {
		t.Errorf("bytes of which nothing says where they are: %v", err)
	}
}

func TestUploadsAreAbandonedWhenTheyAreOld(t *testing.T) {
	s := newStore(t)
	ctx := t.Context()
	rules(t, s, lifecycle.Form{Name: "unfinished-uploads",
		Actions: []lifecycle.ActionForm{{Of: "uploads", Do: "remove", Days: days(7)}}})
	old := me
	old.At = time.Now().Add(-8 * 24 * time.Hour)
	for _, by := range []catalog.Author{old, me} {
		if _, err := s.StartUpload(ctx, at("k"), catalog.Upload{}, by); err != nil {
			t.Fatal(err)
		}
	}
	crew := works.Start(s, works.Settings{AgeLook: 20 * time.Millisecond}, quiet())
	defer crew.Stop()
	until(t, "the old one is gone, the young one there", func() bool {
		u, err := s.Catalog.UnfinishedIn(context.Background(), 0, "")
		return err == nil && u.Uploads == 1 && time.Since(u.Oldest) < time.Hour
	})
}
