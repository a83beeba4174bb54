package catalog_test

import (
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/harness"
)

// A database that comes from a cluster whose transactions had higher numbers goes on in order:
// what is written is followed, once, and posts know what was there before they were made.
func TestOrderOutlivesACluster(t *testing.T) {
	url := harness.Database(t)
	c, db, bucket := openAt(t, url)
	put := func(c *catalog.Catalog, key string) {
		t.Helper()
		if _, err := c.Commit(t.Context(), write(bucket, key, 4, 0)); err != nil {
			t.Fatal(err)
		}
	}
	put(c, "a")
	put(c, "b")
	all := func(c *catalog.Catalog) (n int) {
		t.Helper()
		for {
			k, err := c.RollUp(t.Context(), 100)
			if err != nil {
				t.Fatal(err)
			}
			if n += k; k == 0 {
				return n
			}
		}
	}
	all(c)
	c.Close()
	if _, err := db.Exec(`update journal set xid = (xid::text::bigint + 5000000)::text::xid8;
		update followers set xid = (xid::text::bigint + 5000000)::text::xid8 where xid <> '0'`); err != nil {
		t.Fatal(err)
	}
	for range 2 { // the second start finds nothing to do
		var err error
		if c, err = catalog.Open(t.Context(), url); err != nil {
			t.Fatal(err)
		}
		put(c, "c"+time.Now().String())
		harness.Until(t, "the new entry is followed", func() bool { return all(c) == 1 })
		if n := all(c); n != 0 {
			t.Errorf("%d entries are followed again", n)
		}
		c.Close()
	}
	var base, known int64
	if err := db.QueryRow(`select base, (select count(*) from journal where pg_visible_in_snapshot(xid, journal_known()))
		from journal_base`).Scan(&base, &known); err != nil || base < 4_000_000 || base > 5_100_000 || known < 4 {
		t.Errorf("the base is %d, %d entries are known: %v", base, known, err)
	}
}
