package catalog_test

import (
	"errors"
	"fmt"
	"sync"
	"testing"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// TestSettingsChangeAsAWhole changes several settings at once: all or none, each
// time one revision and one entry of the journal.
func TestSettingsChangeAsAWhole(t *testing.T) {
	c, db, id := open(t)
	ctx := t.Context()
	quota, tiny := int64(1<<20), int64(10)
	edits := func(e ...bucket.Edit) error { return c.ChangeBucket(ctx, plates, 0, author(), e...) }
	entries := func() (n int) {
		t.Helper()
		if err := db.QueryRow(`select count(*) from journal where bucket = $1 and kind = $2`, id, int(catalog.BucketChanged)).
			Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	want := func(what string, revision, journal int, s bucket.Settings) {
		t.Helper()
		b, err := c.Bucket(ctx, plates)
		if err != nil || b.Revision != revision || len(b.Settings.Differences(s)) != 0 || entries() != journal {
			t.Errorf("%s: %+v at revision %d with %d entries, %v; want %+v", what, b.Settings, b.Revision, entries(), err, s)
		}
	}
	all := bucket.Settings{Versioning: object.On, Quota: &quota, Tags: object.Tags{"unit": "imaging"}, Sealing: true}
	if err := edits(bucket.Versioning(object.On), bucket.Quota(&quota),
		bucket.EditTags(object.Edit{Set: map[string]string{"unit": "imaging"}}),
		bucket.Sealing(true)); err != nil {
		t.Fatal(err)
	}
	want("all at once", 2, 1, all)
	if err := edits(bucket.Sealing(true), bucket.Quota(&quota)); err != nil {
		t.Fatal(err)
	}
	want("nothing new", 2, 1, all)

	if _, err := c.Commit(ctx, write(id, "a", 100, 1)); err != nil {
		t.Fatal(err)
	}
	for code, e := range map[string][]bucket.Edit{
		"quota-below-use": {bucket.Sealing(false), bucket.Quota(&tiny)},
		"versioning-kept": {bucket.Quota(nil), bucket.Versioning(object.Off)},
		"quota-value":     {bucket.Sealing(false), bucket.Quota(new(int64))},
	} {
		if err := edits(e...); !fault.HasCode(err, code) {
			t.Errorf("want %s: %v", code, err)
		}
		want(code, 2, 1, all)
	}
	if err := edits(bucket.Sealing(false), func(*bucket.Settings) error { return errors.New("refused") }); err == nil {
		t.Error("an edit's refusal was not heard")
	}
	want("an edit that refuses", 2, 1, all)
	if err := c.ChangeBucket(ctx, plates, 1, author(), bucket.Sealing(false)); !fault.HasCode(err, "revision") {
		t.Errorf("another revision: %v", err)
	}
	want("another revision", 2, 1, all)
}

// TestSettingsChangedAtOnce has many change tags at once: each finds what the others
// left, and of those who name a revision one goes.
func TestSettingsChangedAtOnce(t *testing.T) {
	c, _, _ := open(t)
	var all sync.WaitGroup
	var mu sync.Mutex
	went := 0
	for i := range 8 {
		all.Go(func() {
			set := object.Edit{Set: map[string]string{fmt.Sprint("tag", i): "x"}}
			if err := c.ChangeBucket(t.Context(), plates, 0, author(), bucket.EditTags(set)); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	for range 8 {
		all.Go(func() {
			err := c.ChangeBucket(t.Context(), plates, 9, author(), bucket.Sealing(true))
			if err != nil && !fault.HasCode(err, "revision") {
				t.Error(err)
			}
			if err == nil {
				mu.Lock()
				went++
				mu.Unlock()
			}
		})
	}
	all.Wait()
	b, err := c.Bucket(t.Context(), plates)
	if err != nil || len(b.Tags) != 8 || b.Revision != 10 || !b.Sealing || went != 1 {
		t.Errorf("%+v at revision %d, %d went, %v", b.Settings, b.Revision, went, err)
	}
}
