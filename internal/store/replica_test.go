package store_test

import (
	"strings"
	"sync"
	"testing"
	"time"

	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
	"spindle/internal/store"
)

// Tags that are set while an older replica arrives are those of what is current afterwards, whichever came first.
func TestTagsOutliveAnOlderReplica(t *testing.T) {
	s := newStore(t, nil)
	if err := s.ChangeBucket(t.Context(), plates, 0, me, bucket.Versioning(object.On)); err != nil {
		t.Fatal(err)
	}
	var keys sync.WaitGroup
	for i := range 200 {
		key := strings.Repeat("k", i+1)
		put(t, s, key, "first")
		o := replication.Origin{Key: key, Version: "1", Through: []string{replication.Place("elsewhere", "plates")},
			Written: s.Catalog.Now().Add(-5 * time.Microsecond)}
		for _, does := range []func() error{
			func() error {
				_, err := s.Annotate(t.Context(), store.Annotation{Address: at(key), Author: me,
					Tags: object.Edit{Set: map[string]string{"set": "later"}}})
				return err
			},
			func() error {
				p := putOf(key, "replica", me)
				p.Origin = o.String()
				if _, err := s.Put(t.Context(), p); !fault.HasCode(err, "newer-there") {
					return err
				}
				return nil
			},
		} {
			keys.Go(func() {
				if err := does(); err != nil {
					t.Error(err)
				}
			})
		}
		if i%8 == 0 {
			keys.Wait()
		}
	}
	keys.Wait()
	for i := range 200 {
		v, err := s.Find(t.Context(), at(strings.Repeat("k", i+1)))
		if err != nil || v.Tags["set"] != "later" {
			t.Errorf("key %d: tags %v, %v", i, v.Tags, err)
		}
	}
}
