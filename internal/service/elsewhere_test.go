package service_test

import (
	"bytes"
	"crypto/rand"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/tier"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/standin"
	"spindle/internal/store"
	"spindle/internal/wire/client"
)

// A bucket whose bytes are at another store is used as any other: whole and in parts, by
// ranges, with versions, moved there and back; what is removed is removed there.
func TestABucketThatLivesElsewhere(t *testing.T) {
	r, annex, _ := withAnnex(t, func(cfg *service.Config) {
		cfg.Works.CollectGrace, cfg.Works.CollectEvery, cfg.Works.SweepEvery = time.Millisecond, 50*time.Millisecond,
			50*time.Millisecond
	})
	here := r.Client()
	if err := here.SetVersioning(t.Context(), "moss", true); err != nil {
		t.Fatal(err)
	}
	large := make([]byte, 19<<20)
	_, _ = rand.Read(large)
	write(t, here, "moss", "sheet", []byte("first"), client.Put{})
	write(t, here, "moss", "sheet", []byte("second"), client.Put{Metadata: object.Metadata{"collector": "Varga"}})
	write(t, here, "moss", "scan", large, client.Put{})
	write(t, here, "moss", "nothing", nil, client.Put{})
	up, err := here.StartUpload(t.Context(), "moss", "parts", client.Put{})
	if err != nil {
		t.Fatal(err)
	}
	var parts []client.Part
	for i, b := range [][]byte{large[:6<<20], large[6<<20 : 7<<20]} {
		p, err := here.PutPart(t.Context(), "moss", "parts", up, i+1, bytes.NewReader(b), int64(len(b)))
		if err != nil {
			t.Fatal(err)
		}
		parts = append(parts, p)
	}
	if _, err := here.CompleteUpload(t.Context(), "moss", "parts", up, parts, 7<<20, nil, client.Put{}); err != nil {
		t.Fatal(err)
	}
	for key, want := range map[string][]byte{"sheet": []byte("second"), "scan": large, "nothing": {},
		"parts": large[:7<<20]} {
		if x, err := read(t.Context(), here, "moss", key); err != nil || x.body != string(want) {
			t.Errorf("%s: %d bytes, %v", key, len(x.body), err)
		}
	}
	for _, x := range [][2]int64{{0, 1}, {18<<20 + 5, 300_000}, {1<<20 - 3, 6}} {
		body, err := here.GetRange(t.Context(), "moss", "scan", "", x[0], x[1], "")
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(body)
		body.Close()
		if err != nil || !bytes.Equal(got, large[x[0]:x[0]+x[1]]) {
			t.Errorf("%d bytes from %d: %d, %v", x[1], x[0], len(got), err)
		}
	}
	versions, err := here.ListVersions(t.Context(), "moss", "sheet", client.VersionPlace{}, 10)
	if err != nil || len(versions.Versions) != 2 {
		t.Fatalf("%+v, %v", versions, err)
	}
	if n := len(keysThere(t, annex)); n != 6 { // two sheets, scan, two parts, the marker
		t.Errorf("%d objects are there: %v", n, keysThere(t, annex))
	}
	moveThereAndBack(t, r)
	if list, _, _, err := r.Store.Catalog.Misfits(t.Context(), bucketID(t, r), nil, nil, false, 100); err != nil ||
		len(list) > 0 {
		t.Errorf("what the tier seals would be made plain: %+v, %v", list, err)
	}

	for _, key := range []string{"scan", "parts", "nothing"} {
		removeAll(t, here, "moss", key)
	}
	removeAll(t, here, "moss", "sheet")
	harness.Until(t, "what was removed is removed there", func() bool { return len(keysThere(t, annex)) == 1 })
}

// withAnnex gives a service with a stand-in, a tier that is there, and a bucket in it.
func withAnnex(t *testing.T, more func(*service.Config)) (*harness.Running, *client.Client, *standin.Standin) {
	t.Helper()
	r := harness.Service(t, func(cfg *service.Config) {
		reaching(cfg)
		if more != nil {
			more(cfg)
		}
	})
	is, annex := harness.Standin(t, standin.Faults{})
	if err := annex.CreateBucket(t.Context(), "bodies"); err != nil {
		t.Fatal(err)
	}
	e := r.StandinEndpoint("lowland", is)
	by := catalog.Author{Who: harness.Key, Source: "127.0.0.1"}
	if err := r.Store.AddTier(t.Context(), &tier.Tier{Name: "annex", Copies: 1, Sealed: true, Volumes: []tier.Volume{{
		Place: &tier.Place{Endpoint: e.ID, Name: "lowland", Bucket: "bodies"}}}}, by); err != nil {
		t.Fatal(err)
	}
	if err := r.Store.CreateBucket(t.Context(), catalog.Bucket{Name: object.MustBucketName("moss"), Account: "herbarium",
		Settings: bucket.Settings{Tier: "annex"}}, by); err != nil {
		t.Fatal(err)
	}
	return r, annex, is
}

func keysThere(t *testing.T, annex *client.Client) (keys []string) {
	t.Helper()
	p, err := annex.List(t.Context(), "bodies", "", "", "", 1000)
	if err != nil {
		t.Fatal(err)
	}
	for _, o := range p.Objects {
		keys = append(keys, o.Key)
	}
	return keys
}

func removeAll(t *testing.T, c *client.Client, bucket, key string) {
	t.Helper()
	p, err := c.ListVersions(t.Context(), bucket, key, client.VersionPlace{}, 100)
	for _, v := range p.Versions {
		if err == nil {
			err = c.RemoveVersion(t.Context(), bucket, v.Key, v.Version)
		}
	}
	if err != nil {
		t.Fatal(err)
	}
}

func bucketID(t *testing.T, r *harness.Running) int64 {
	t.Helper()
	f, err := r.Store.Facts(t.Context(), object.MustBucketName("moss"))
	if err != nil {
		t.Fatal(err)
	}
	return f.ID
}

// moveThereAndBack moves an object out of the other store, and one in parts back.
func moveThereAndBack(t *testing.T, r *harness.Running) {
	t.Helper()
	moss, id := object.MustBucketName("moss"), bucketID(t, r)
	set, err := r.Store.Tiers(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, to := range []string{"main", "annex"} {
		for _, key := range []string{"sheet", "scan", "parts"} {
			at := catalog.Address{Bucket: moss, Key: object.MustKey(key)}
			v, err := r.Store.Find(t.Context(), at)
			if err != nil {
				t.Fatal(err)
			}
			x, err := set.Find(to)
			if err != nil {
				t.Fatal(err)
			}
			before, _ := read(t.Context(), r.Client(), "moss", key)
			if _, err := r.Store.Move(t.Context(), id, v, x,
				store.Moving{Author: catalog.Author{Who: harness.Key}}); err != nil {
				t.Fatalf("%s to %s: %v", key, to, err)
			}
			if after, err := read(t.Context(), r.Client(), "moss", key); err != nil || after.body != before.body {
				t.Errorf("%s in %s: %d bytes, %v", key, to, len(after.body), err)
			}
		}
	}
}

// An outage there is an outage of the bucket, with the time after which it is worth
// another try; who uses the bucket does not learn where it is. What was acknowledged is
// there afterwards, what was not is not.
func TestAnOutageElsewhere(t *testing.T) {
	r, _, is := withAnnex(t, nil)
	here := r.Client()
	write(t, here, "moss", "before", []byte("still there"), client.Put{})
	if err := is.Set(standin.Faults{Away: true}); err != nil {
		t.Fatal(err)
	}
	reader := r.NewKey("herbarium", "reader", access.Writer, nil)
	harness.Until(t, "answers say when to come again", func() bool {
		st, head, body := r.As(reader, "GET", "/moss/before", nil, "")
		if st != http.StatusServiceUnavailable || strings.Contains(body, "lowland") || strings.Contains(body, "127.0.0.1") {
			t.Fatalf("%d %s", st, body)
		}
		return head.Get("Retry-After") > "2" || len(head.Get("Retry-After")) > 1
	})
	if st, _, body := r.As(reader, "PUT", "/moss/during", nil, "lost"); st != http.StatusServiceUnavailable ||
		strings.Contains(body, "lowland") {
		t.Errorf("%d %s", st, body)
	}
	if st, _, _ := r.As(reader, "HEAD", "/moss/before", nil, ""); st != 200 {
		t.Errorf("what the catalog knows is not told: %d", st)
	}
	if err := is.Set(standin.Faults{}); err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "it is back", func() bool {
		x, err := read(t.Context(), here, "moss", "before")
		return err == nil && x.body == "still there"
	})
	if _, err := here.Head(t.Context(), "moss", "during"); fault.KindOf(err) != fault.NotFound {
		t.Errorf("what was refused: %v", err)
	}
	damaged, err := r.Store.Catalog.Damaged(t.Context(), "", 10)
	if err != nil || len(damaged) != 0 {
		t.Errorf("an outage was taken for damage: %+v, %v", damaged, err)
	}
}

// Bytes that the other store has spoilt are not given out as good, and are reported.
func TestDamageElsewhere(t *testing.T) {
	r, annex, _ := withAnnex(t, func(cfg *service.Config) {
		cfg.Works.ScrubEvery, cfg.Works.ReadElsewhere = 100*time.Millisecond, true
	})
	here := r.Client()
	body := bytes.Repeat([]byte("moss "), 200_000)
	write(t, here, "moss", "sheet", body, client.Put{})
	for _, key := range keysThere(t, annex) {
		if !strings.HasPrefix(key, "whole/") {
			continue
		}
		o, err := annex.Get(t.Context(), "bodies", key, "", 0, "")
		if err != nil {
			t.Fatal(err)
		}
		stored, err := io.ReadAll(o.Body)
		o.Body.Close()
		if err != nil {
			t.Fatal(err)
		}
		if bytes.Contains(stored, []byte("moss moss")) {
			t.Error("whoever keeps the bytes can read them")
		}
		stored[700_000] ^= 1
		write(t, annex, "bodies", key, stored, client.Put{})
	}
	if x, err := read(t.Context(), here, "moss", "sheet"); err == nil {
		t.Errorf("%d bytes were given out, same: %v", len(x.body), x.body == string(body))
	}
	harness.Until(t, "the scrubber tells", func() bool {
		list, err := r.Store.Catalog.Damaged(t.Context(), "", 10)
		return err == nil && len(list) == 1 && fmt.Sprint(list[0].Key) == "sheet"
	})
}

// The scrubber asks whether what is elsewhere is there, without reading it.
func TestLossElsewhere(t *testing.T) {
	r, annex, is := withAnnex(t, func(cfg *service.Config) { cfg.Works.ScrubEvery = 100 * time.Millisecond })
	here := r.Client()
	for _, key := range []string{"kept", "lost", "cut"} {
		write(t, here, "moss", key, bytes.Repeat([]byte(key), 200_000), client.Put{})
	}
	reads := is.Counts()["Get"]
	for _, key := range []string{"lost", "cut"} {
		v, err := r.Store.Find(t.Context(), catalog.Address{Bucket: object.MustBucketName("moss"), Key: object.MustKey(key)})
		if err != nil {
			t.Fatal(err)
		}
		name := fmt.Sprintf("%016x", v.Body.File)
		name = "whole/" + name[14:] + "/" + name + ".body"
		if key == "cut" {
			write(t, annex, "bodies", name, []byte("short"), client.Put{})
		} else if err := annex.Remove(t.Context(), "bodies", name); err != nil {
			t.Fatal(err)
		}
	}
	harness.Until(t, "the scrubber tells of both", func() bool {
		list, err := r.Store.Catalog.Damaged(t.Context(), "", 10)
		return err == nil && len(list) == 2
	})
	if n := is.Counts()["Get"] - reads; n > 4 { // for the marker
		t.Errorf("%d bodies were read", n)
	}
	if x, err := read(t.Context(), here, "moss", "kept"); err != nil || !strings.HasPrefix(x.body, "keptkept") {
		t.Errorf("%d bytes, %v", len(x.body), err)
	}
}
