package demo_test

import (
	"bytes"
	"encoding/csv"
	"image/png"
	"os"
	"path"
	"strings"
	"testing"
	"time"

	"golang.org/x/image/tiff"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/object"
	"spindle/internal/demo"
	"spindle/internal/harness"
	"spindle/internal/store"
)

func TestMain(m *testing.M) { os.Exit(harness.Main(m)) }

// plainly stands for a keyring: nobody signs in here.
type plainly struct{}

func (plainly) Seal(_, secret string) ([]byte, error) { return []byte(secret), nil }

// TestTheSampleIsWhatItSeems loads the sample data and reads it as its users would.
func TestTheSampleIsWhatItSeems(t *testing.T) {
	s := harness.Store(t)
	now := time.Now()
	last := 0
	if err := demo.Load(harness.Context(t), s, plainly{}, t.TempDir(), now,
		func(done, all int) { last = max(last, done*100/all) }); err != nil {
		t.Fatal(err)
	}
	if last != 100 {
		t.Errorf("progress ended at %d %%", last)
	}
	journalInOrder(t, s)
	buckets, err := s.Catalog.Buckets(t.Context(), "", nil, "", 100)
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]int64{"attic": 600, "field-notes": 150, "germination": 2000, "loans": 120, "plates": 700}
	for _, b := range buckets {
		if b.Usage.Objects < want[b.Name.String()] || want[b.Name.String()] == 0 {
			t.Errorf("bucket %s has %d objects", b.Name, b.Usage.Objects)
		}
		oldest, kinds := now, map[string]int{}
		for after := ""; ; {
			page, more, err := s.List(t.Context(), b.Name, catalog.Listing{After: after, Max: 1000, Full: true})
			if err != nil {
				t.Fatal(err)
			}
			for _, e := range page {
				v := e.Version
				after = e.Name()
				if v.Created.After(now) {
					t.Errorf("%s is from the future: %s", after, v.Created)
				}
				if v.Created.Before(oldest) {
					oldest = v.Created
				}
				if kind := path.Ext(after); kinds[kind] < 5 {
					kinds[kind]++
					look(t, b.Name, v, func() []byte {
						body, _, err := s.Open(t.Context(), catalog.Address{Bucket: b.Name, Key: v.Key}, v)
						if err != nil {
							t.Fatal(err)
						}
						defer body.Close()
						var buf bytes.Buffer
						if err := body.Send(&buf, 0, v.Size, nil); err != nil {
							t.Fatal(err)
						}
						return buf.Bytes()
					}())
				}
			}
			if !more {
				break
			}
		}
		if b.Name.String() != "germination" && now.Sub(oldest) < 600*24*time.Hour {
			t.Errorf("the oldest of %s is of %s", b.Name, oldest)
		}
		if b.Name.String() == "germination" && (b.Quota == nil || b.Usage.Bytes*100 / *b.Quota < 90) {
			t.Errorf("germination does not near its quota: %+v", b)
		}
	}
	// Loading again, as after a stop in the middle, changes nothing that counts.
	before, _, err := s.Catalog.Count(t.Context(), buckets[0].ID, "")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.ChangeBucket(t.Context(), object.MustBucketName("germination"), 0, catalog.Author{Who: "x"},
		bucket.Quota(nil)); err != nil {
		t.Fatal(err)
	}
	if err := demo.Load(harness.Context(t), s, plainly{}, t.TempDir(), now, func(int, int) {}); err != nil {
		t.Fatal(err)
	}
	if after, _, err := s.Catalog.Count(t.Context(), buckets[0].ID, ""); err != nil || after != before {
		t.Errorf("%d objects after loading again, %d before; %v", after, before, err)
	}
}

func look(t *testing.T, bucket object.BucketName, v *object.Version, b []byte) {
	t.Helper()
	var err error
	switch path.Ext(v.Key.String()) {
	case ".tif":
		_, err = tiff.Decode(bytes.NewReader(b))
		if v.Metadata["taxon"] == "" || v.Headers.ContentType != "image/tiff" {
			t.Errorf("%s/%s: %v, %s", bucket, v.Key, v.Metadata, v.Headers.ContentType)
		}
	case ".png":
		_, err = png.Decode(bytes.NewReader(b))
	case ".csv":
		var rows [][]string
		rows, err = csv.NewReader(bytes.NewReader(b)).ReadAll()
		if len(rows) < 3 {
			t.Errorf("%s/%s has %d rows", bucket, v.Key, len(rows))
		}
	case ".wav":
		if !strings.HasPrefix(string(b), "RIFF") || string(b[8:16]) != "WAVEfmt " {
			t.Errorf("%s/%s is no sound", bucket, v.Key)
		}
	case ".txt":
		if len(strings.Fields(string(b))) < 5 {
			t.Errorf("%s/%s says little: %q", bucket, v.Key, b)
		}
	}
	if err != nil {
		t.Errorf("%s/%s: %v", bucket, v.Key, err)
	}
}

// journalInOrder reads the journal as somebody would who opens it: what comes later
// stands later.
func journalInOrder(t *testing.T, s *store.Store) {
	t.Helper()
	var before catalog.JournalEntry
	read := 0
	for at := "0.0"; ; {
		p, err := s.Catalog.Journal(t.Context(), catalog.JournalQuery{After: at, Limit: 1000})
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range p.Entries {
			if e.At.Before(before.At) {
				t.Fatalf("%s/%s, %s at %s, stands behind %s/%s at %s", e.Bucket, e.Key, e.Kind, e.At, before.Bucket, before.Key,
					before.At)
			}
			before = e
			read++
		}
		if len(p.Entries) == 0 {
			break
		}
		at = p.Next
	}
	if read < 4000 {
		t.Errorf("%d entries", read)
	}
}
