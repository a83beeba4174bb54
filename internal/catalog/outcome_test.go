package catalog_test

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"spindle/internal/catalog"
	bucketset "spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/harness"
)

// throughLine opens a catalog whose way to the database fails on demand.
func throughLine(t *testing.T) (c *catalog.Catalog, line *harness.Line, bucket int64, entries func(key string) int) {
	t.Helper()
	url := harness.Database(t)
	_, db, bucket := openAt(t, url)
	line = harness.NewLine(t)
	c, err := catalog.OpenThrough(harness.Context(t), url, line.Dial)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	return c, line, bucket, func(key string) (n int) {
		if err := db.QueryRow(`select count(*) from journal where key = $1`, []byte(key)).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
}

// What a commit came to whose answer never arrived is looked up: it is told as done, with its
// number, and is done once. What never reached the server is done again.
func TestALostAnswerIsLookedUp(t *testing.T) {
	for mode, versioning := range map[string]object.Versioning{"off": object.Off, "on": object.On,
		"paused": object.Paused} {
		t.Run(mode, func(t *testing.T) {
			c, line, bucket, entries := throughLine(t)
			if versioning != object.Off {
				for _, v := range []object.Versioning{object.On, versioning} {
					if err := c.ChangeBucket(t.Context(), plates, 0, author(), bucketset.Versioning(v)); err != nil {
						t.Fatal(err)
					}
				}
			}
			written := write(bucket, "sheet", 1, 1)
			changes := []struct {
				name   string
				change func() catalog.Change
			}{
				{"new", func() catalog.Change { return write(bucket, "sheet", 2, 2) }},
				{"over it", func() catalog.Change { return write(bucket, "sheet", 3, 3) }},
				{"annotated", func() catalog.Change {
					return catalog.Change{Kind: catalog.ObjectAnnotated, Bucket: bucket, Key: "sheet", Version: written.Version,
						Author: author()}
				}},
				{"removed", func() catalog.Change {
					return catalog.Change{Kind: catalog.ObjectRemoved, Bucket: bucket, Key: "sheet", Author: author()}
				}},
			}
			for i := range 3 { // so that statements are prepared
				if _, err := c.Commit(t.Context(), write(bucket, fmt.Sprint("warm", i), 1, 1)); err != nil {
					t.Fatal(err)
				}
			}
			made := 0
			for _, x := range changes {
				for fails, arm := range map[string]func(int){"answer": func(n int) { line.LoseAnswers(n) },
					"request": line.DropRequests} {
					if fails == "request" && (x.name == "new" || x.name == "removed") {
						continue // done by the first
					}
					arm(1)
					r, err := c.Commit(t.Context(), x.change())
					if err != nil {
						t.Fatalf("%s, %s lost: %v", x.name, fails, err)
					}
					if made++; entries("sheet") != made {
						t.Fatalf("%s, %s lost: %d entries, not %d", x.name, fails, entries("sheet"), made)
					}
					f, err := c.Lookup(t.Context(), catalog.Address{Bucket: plates, Key: object.MustKey("sheet")})
					if err != nil {
						t.Fatal(err)
					}
					is := f.Version
					if x.name == "removed" {
						is = f.Deleted
					}
					if is != nil && (r.Number != is.Number || r.Revision != is.Revision || r.ID() != is.ID()) ||
						is == nil && (x.name != "removed" || r.Number == 0 || versioning != object.Off) {
						t.Errorf("%s, %s lost: told %+v, is %+v", x.name, fails, r, is)
					}
				}
			}
		})
	}
}

// Of a batch each change is told of by itself.
func TestALostBatch(t *testing.T) {
	c, line, bucket, entries := throughLine(t)
	if _, err := c.Commit(t.Context(), write(bucket, "there", 1, 1)); err != nil {
		t.Fatal(err)
	}
	var batch []catalog.Change
	for i := range 20 {
		batch = append(batch, write(bucket, fmt.Sprint("sheet", i), 2, 2))
	}
	refused := write(bucket, "there", 3, 3)
	refused.IfAbsent = true
	batch = append(batch, refused)
	line.LoseAnswers(1)
	results, errs := c.CommitMany(t.Context(), batch)
	for i, err := range errs[:20] {
		if err != nil || results[i].Number == 0 || entries(batch[i].Key) != 1 {
			t.Errorf("%s: %+v, %v, %d entries", batch[i].Key, results[i], err, entries(batch[i].Key))
		}
	}
	if !fault.HasCode(errs[20], "exists") {
		t.Errorf("the refused one: %v", errs[20])
	}
}

// So is a transaction of several statements.
func TestALostTransaction(t *testing.T) {
	c, line, bucket, entries := throughLine(t)
	if _, err := c.Commit(t.Context(), write(bucket, "from", 1, 1)); err != nil {
		t.Fatal(err)
	}
	copied := func(to string) error {
		_, _, err := c.Copy(t.Context(), catalog.Copying{From: catalog.Address{Bucket: plates, Key: object.MustKey("from")},
			Change: catalog.Change{Kind: catalog.ObjectCopied, Bucket: bucket, Key: to, Author: author()},
			Edit:   func(v *object.Version) (*object.Version, error) { return v, nil }})
		return err
	}
	if err := copied("warm"); err != nil {
		t.Fatal(err)
	}
	lost, told := 0, 0
	for after := 0; ; after++ { // as many answers come before
		to := fmt.Sprint("to", after)
		line.LoseAnswersAfter(after)
		err := copied(to)
		if line.LoseAnswers(0) > 0 {
			break // it had no more
		}
		switch n := entries(to); {
		case err == nil && n == 1:
			told++
		case err != nil && n == 0 && fault.KindOf(err) == fault.Unavailable:
			lost++
		default:
			t.Errorf("%s: %v, and %d entries", to, err, n)
		}
	}
	if lost == 0 || told == 0 {
		t.Errorf("%d were lost, %d done: the commit was never in doubt", lost, told)
	}
}

// Connections that say nothing any more hold up nobody for ever: what was under way is found
// out about and goes on by others.
func TestFrozenConnections(t *testing.T) {
	t.Parallel()
	c, line, bucket, entries := throughLine(t)
	var wg sync.WaitGroup
	writeSome := func(prefix string) {
		for i := range 30 {
			wg.Go(func() {
				key := fmt.Sprint(prefix, i)
				if _, err := c.Commit(t.Context(), write(bucket, key, 1, 1)); err != nil || entries(key) != 1 {
					t.Errorf("%s: %v, %d entries", key, err, entries(key))
				}
			})
		}
	}
	writeSome("before")
	wg.Wait()
	line.Freeze()
	begun := time.Now()
	writeSome("after")
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	for ctx.Err() == nil {
		if _, err := c.Lookup(ctx, catalog.Address{Bucket: plates, Key: object.MustKey("before1")}); err == nil {
			break
		}
	}
	wg.Wait()
	t.Logf("went on after %v", time.Since(begun).Round(time.Second))
}
