package catalog_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/harness"
)

func TestMain(m *testing.M) { os.Exit(harness.Main(m)) }

var plates = object.MustBucketName("plates")

func author() catalog.Author {
	return catalog.Author{At: time.Now().UTC().Truncate(time.Microsecond), Who: "scanner-2", Source: "10.4.0.17"}
}

// open gives a catalog with a bucket, and a plain connection beside it.
func open(t *testing.T) (*catalog.Catalog, *sql.DB, int64) {
	t.Helper()
	return openAt(t, harness.Database(t))
}

func openAt(t *testing.T, url string) (*catalog.Catalog, *sql.DB, int64) {
	t.Helper()
	c, err := catalog.Open(harness.Context(t), url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	db, err := sql.Open("pgx", url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	if err := c.FirstKey(t.Context(), catalog.AccessKey{ID: "K", Account: "herbarium", Name: "owner", Role: 3,
		Sealed: []byte{1}, Active: true}); err != nil {
		t.Fatal(err)
	}
	if err := c.CreateBucket(t.Context(), catalog.Bucket{Name: plates, Account: "herbarium", Region: "fenn"},
		author()); err != nil {
		t.Fatal(err)
	}
	f, err := c.Facts(t.Context(), plates)
	if err != nil {
		t.Fatal(err)
	}
	return c, db, f.ID
}

func write(bucket int64, key string, size int64, file int64) catalog.Change {
	a := author()
	return catalog.Change{Bucket: bucket, Key: key, Author: a,
		Version: &object.Version{Size: size, ETag: object.ETag{MD5: [16]byte{byte(size)}},
			Body: object.BodyRef{File: file, Offset: -1}, Metadata: object.Metadata{"taxon": "Erica"}}}
}

// TestFollowerMissesNothingThatCommitsLate rolls usage up while 16 writers
// commit and transactions that began early commit late.
func TestFollowerMissesNothingThatCommitsLate(t *testing.T) {
	c, db, bucket := open(t)
	ctx := t.Context()
	stop := make(chan struct{})
	var follower, writers sync.WaitGroup
	read := 0
	follower.Go(func() {
		for {
			n, err := c.RollUp(ctx, 11)
			if err != nil {
				t.Error(err)
				return
			}
			read += n
			select {
			case <-stop:
				return
			default:
			}
		}
	})
	for w := range 12 {
		writers.Go(func() {
			for i := range 30 {
				if _, err := c.Commit(ctx, write(bucket, fmt.Sprintf("w%d/%d", w, i), 10, 1)); err != nil {
					t.Error(err)
				}
			}
		})
	}
	for w := range 4 { // the late ones: they take their place early and commit after others
		writers.Go(func() {
			r := rand.New(rand.NewPCG(uint64(w), 5))
			for range 8 {
				tx, err := db.BeginTx(ctx, nil)
				if err != nil {
					t.Error(err)
					return
				}
				if _, err := tx.ExecContext(ctx,
					`insert into journal (at, kind, bucket, d_objects, d_bytes, who) values (now(), 1, $1, 1, 1000, 'late')`,
					bucket); err != nil {
					t.Error(err)
				}
				time.Sleep(time.Duration(r.IntN(30)) * time.Millisecond)
				if err := tx.Commit(); err != nil {
					t.Error(err)
				}
			}
		})
	}
	writers.Wait()
	close(stop)
	follower.Wait()
	for {
		n, err := c.RollUp(ctx, 1000)
		if err != nil {
			t.Fatal(err)
		}
		if read += n; n == 0 {
			break
		}
	}
	if want := 12*30 + 4*8 + 1; read != want {
		t.Errorf("the follower read %d entries, want %d: none missed, none twice", read, want)
	}
	b, err := c.Bucket(ctx, plates)
	if err != nil || b.Usage.Objects != 12*30+4*8 || b.Usage.Bytes != 12*30*10+4*8*1000 {
		t.Errorf("usage %+v, %v", b.Usage, err)
	}
}

// TestOneChangeAtFaultFailsAlone shares a commit between good changes and one
// that the database refuses.
func TestOneChangeAtFaultFailsAlone(t *testing.T) {
	c, _, bucket := open(t)
	var wg sync.WaitGroup
	for i := range 40 {
		wg.Go(func() {
			ch := write(bucket, fmt.Sprint(i), 1, 1)
			if i == 7 {
				ch.Version.Metadata = object.Metadata{"taxon": "nul \x00"} // cannot come from the faces
			}
			_, err := c.Commit(t.Context(), ch)
			if (err != nil) != (i == 7) {
				t.Errorf("change %d: %v", i, err)
			}
		})
	}
	wg.Wait()
	n, _, err := c.Count(t.Context(), bucket, "")
	if err != nil || n != 39 {
		t.Errorf("%d objects, %v", n, err)
	}
}

// TestVersionsOfAKeyAreNumberedInOrder replaces keys from many sides: the last
// number given must be the one that is there.
func TestVersionsOfAKeyAreNumberedInOrder(t *testing.T) {
	c, _, bucket := open(t)
	var mu sync.Mutex
	highest := map[string]int64{}
	var wg sync.WaitGroup
	for w := range 16 {
		wg.Go(func() {
			for i := range 20 {
				key := fmt.Sprint("k", (w+i)%5)
				r, err := c.Commit(t.Context(), write(bucket, key, int64(w), int64(100*w+i+1)))
				if err != nil {
					t.Error(err)
				}
				mu.Lock()
				highest[key] = max(highest[key], r.Number)
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	for key, want := range highest {
		f, err := c.Lookup(t.Context(), catalog.Address{Bucket: plates, Key: object.MustKey(key)})
		if err != nil || f.Version.Number != want {
			t.Errorf("%s has number %d, want %d; %v", key, f.Version.Number, want, err)
		}
	}
	released, err := c.ReleasedBefore(t.Context(), time.Now().Add(time.Hour), 1000)
	if err != nil || len(released) != 16*20-5 {
		t.Errorf("%d bodies were let go of, want %d; %v", len(released), 16*20-5, err)
	}
	var files []object.BodyFile
	for _, r := range released {
		files = append(files, r.BodyFile)
	}
	free, err := c.Unreferenced(t.Context(), files)
	if err != nil || len(free) != len(released) {
		t.Errorf("%d of them nobody refers to, %v", len(free), err)
	}
}

func TestLookupsOfManyAddressesKeepApart(t *testing.T) {
	c, _, bucket := open(t)
	for i := range 30 {
		if _, err := c.Commit(t.Context(), write(bucket, fmt.Sprint(i), int64(i), 1)); err != nil {
			t.Fatal(err)
		}
	}
	var wg sync.WaitGroup
	for i := range 200 {
		wg.Go(func() {
			name := plates
			if i%7 == 0 {
				name = object.MustBucketName("nowhere")
			}
			f, err := c.Lookup(t.Context(), catalog.Address{Bucket: name, Key: object.MustKey(fmt.Sprint(i % 40))})
			switch {
			case err != nil:
				t.Error(err)
			case i%7 == 0:
				if f.Bucket != 0 || f.Version != nil {
					t.Errorf("in no bucket: %+v", f)
				}
			case i%40 >= 30:
				if f.Bucket != bucket || f.Version != nil {
					t.Errorf("no such key: %+v", f)
				}
			case f.Version == nil || f.Version.Size != int64(i%40) || f.Version.Metadata["taxon"] != "Erica":
				t.Errorf("%d: %+v", i%40, f.Version)
			}
		})
	}
	wg.Wait()
}

func TestJournalPages(t *testing.T) {
	c, _, bucket := open(t)
	for i := range 25 {
		if _, err := c.Commit(t.Context(), write(bucket, fmt.Sprint("k", i), 1, 1)); err != nil {
			t.Fatal(err)
		}
	}
	var keys []string
	for at := ""; ; {
		page, err := c.Journal(t.Context(), catalog.JournalQuery{Before: at, Bucket: "plates", Limit: 7})
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range page.Entries {
			keys = append(keys, e.Key)
			if e.Bucket != "plates" || e.At.IsZero() || e.Who != "scanner-2" {
				t.Errorf("entry %+v", e)
			}
		}
		if page.Next == "" {
			break
		}
		at = page.Next
	}
	if len(keys) != 26 || keys[0] != "k24" || keys[24] != "k0" || keys[25] != "" {
		t.Errorf("latest first: %v", keys)
	}
	for _, bad := range []string{"x", "1", "1.x", "-1.1", "1.1.1"} {
		if _, err := c.Journal(t.Context(), catalog.JournalQuery{Before: bad, Limit: 1}); !fault.HasCode(err, "position") {
			t.Errorf("position %q: %v", bad, err)
		}
	}
}

func TestSessionsExpire(t *testing.T) {
	c, _, _ := open(t)
	now := time.Now()
	k := "K"
	s := catalog.Session{Token: []byte("t"), Key: &k, Account: "herbarium", Forgery: "f", Created: now,
		Expires: now.Add(time.Hour)}
	if err := c.PutSession(t.Context(), s); err != nil {
		t.Fatal(err)
	}
	for after, there := range map[time.Duration]bool{0: true, 59 * time.Minute: true, 61 * time.Minute: false} {
		got, err := c.FindSession(t.Context(), s.Token, now.Add(after))
		if err != nil || (got != nil) != there {
			t.Errorf("after %s: %v, %v", after, got, err)
		}
	}
	got, err := c.FindSession(t.Context(), s.Token, now)
	if err != nil {
		t.Fatal(err)
	}
	if err := c.EndSession(t.Context(), got.ID, "seed-lab", access.TrailSessionEnded,
		catalog.Author{At: now}); !fault.HasCode(err, "session-missing") {
		t.Errorf("ended from another account: %v", err)
	}
	if err := c.EndSession(t.Context(), got.ID, "herbarium", access.TrailSessionEnded,
		catalog.Author{At: now}); err != nil {
		t.Fatal(err)
	}
	if got, err := c.FindSession(t.Context(), s.Token, now); got != nil || err != nil {
		t.Errorf("after its end: %v, %v", got, err)
	}
}

// TestSeveralProcessesStartAtOnce brings one empty database up to date from
// several sides.
func TestSeveralProcessesStartAtOnce(t *testing.T) {
	url := harness.EmptyDatabase(t)
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			c, err := catalog.Open(harness.Context(t), url)
			if err != nil {
				t.Error(err)
				return
			}
			if _, err := c.Buckets(context.Background(), "", nil, "", 1); err != nil {
				t.Error(err)
			}
			c.Close()
		})
	}
	wg.Wait()
}

func TestRemovingABucketWaitsForWriters(t *testing.T) {
	c, _, bucket := open(t)
	var wg sync.WaitGroup
	var mu sync.Mutex
	wrote, gone := 0, 0
	for w := range 8 {
		wg.Go(func() {
			for i := range 20 {
				_, err := c.Commit(t.Context(), write(bucket, fmt.Sprintf("%d/%d", w, i), 1, 1))
				mu.Lock()
				if err == nil {
					wrote++
				} else if fault.HasCode(err, "bucket-missing") {
					gone++
				} else {
					t.Error(err)
				}
				mu.Unlock()
			}
		})
	}
	removed := c.RemoveBucket(t.Context(), plates, author())
	wg.Wait()
	n, _, err := c.Count(t.Context(), bucket, "")
	if err != nil {
		t.Fatal(err)
	}
	if removed == nil && (n != 0 || wrote != 0) || removed != nil && int(n) != wrote || wrote+gone != 160 {
		t.Errorf("removal: %v; %d acknowledged, %d refused, %d there", removed, wrote, gone, n)
	}
}

// TestFollowersMoveWithWhatTheyDo has what a follower does fail, and its place stay;
// months of the journal that all have read are let go.
func TestFollowersMoveWithWhatTheyDo(t *testing.T) {
	c, db, bucket := open(t)
	ctx := t.Context()
	for m := range 4 {
		at := time.Date(2024, time.Month(1+m), 10, 0, 0, 0, 0, time.UTC)
		if err := c.EnsurePartitions(ctx, at, at); err != nil {
			t.Fatal(err)
		}
		for i := range 5 {
			if _, err := db.Exec(`insert into journal (at, kind, bucket, key, who) values ($1, 1, $2, $3, 'scanner-2')`, at,
				bucket, []byte(fmt.Sprint(i))); err != nil {
				t.Fatal(err)
			}
		}
	}
	var seen int
	read := func(fails error) (int, error) {
		return c.Follow(ctx, "reader", 8, func(ctx context.Context, tx *sqlx.Tx, s catalog.Stretch) error {
			if _, err := tx.ExecContext(ctx, `update buckets set region = region || 'x' where id = $1`, bucket); err != nil {
				return err
			}
			if fails == nil {
				seen += s.Entries
			}
			return fails
		})
	}
	if n, err := read(fault.New(fault.Invalid, "no", "no")); !fault.HasCode(err, "no") || n != 0 {
		t.Errorf("a reader that fails: %d, %v", n, err)
	}
	var region string
	if err := db.QueryRow(`select region from buckets where id = $1`, bucket).Scan(&region); err != nil ||
		strings.Contains(region, "x") {
		t.Errorf("what it did stayed: %q, %v", region, err)
	}
	before := time.Date(2024, 4, 1, 0, 0, 0, 0, time.UTC)
	if gone, err := c.ForgetJournal(ctx, before); err != nil || len(gone) != 0 {
		t.Errorf("let go before it was read: %v, %v", gone, err)
	}
	for {
		n, err := read(nil)
		if err != nil {
			t.Fatal(err)
		}
		if n == 0 {
			break
		}
	}
	readAll(t, c)
	if seen < 20 {
		t.Errorf("%d entries were read", seen)
	}
	gone, err := c.ForgetJournal(ctx, before)
	if err != nil || len(gone) != 3 {
		t.Errorf("let go: %v, %v", gone, err)
	}
	var left int
	if err := db.QueryRow(`select count(*) from journal where at < '2024-06-01'`).Scan(&left); err != nil || left != 5 {
		t.Errorf("%d entries of old months are left, %v", left, err)
	}
}

// readAll has the service's own followers read all of the journal.
func readAll(t *testing.T, c *catalog.Catalog) {
	t.Helper()
	for n := 1; n > 0; {
		a, err := c.RollUp(t.Context(), 1000)
		b, ferr := c.FollowFind(t.Context(), nil, 1000)
		if err = errors.Join(err, ferr); err != nil {
			t.Fatal(err)
		}
		n = a + b
	}
}

// TestJournalsAreKeptAsAsked pauses the journal of a bucket and keeps it for a day: what is
// left out is not told at once, and goes when every reader has had it.
func TestJournalsAreKeptAsAsked(t *testing.T) {
	c, db, id := open(t)
	ctx := t.Context()
	told := func(want ...string) {
		t.Helper()
		p, err := c.Journal(ctx, catalog.JournalQuery{Bucket: "plates", After: "0.0", Limit: 100})
		if err != nil {
			t.Fatal(err)
		}
		var keys []string
		for _, e := range p.Entries {
			keys = append(keys, e.Key)
		}
		if !slices.Equal(keys, want) {
			t.Errorf("the journal tells of %q, not %q", keys, want)
		}
	}
	change := func(edits ...bucket.Edit) {
		t.Helper()
		if err := c.ChangeBucket(ctx, plates, 0, author(), edits...); err != nil {
			t.Fatal(err)
		}
	}
	put := func(key string) {
		t.Helper()
		if _, err := c.Commit(ctx, write(id, key, 10, 1)); err != nil {
			t.Fatal(err)
		}
	}
	clears := func(went, left int64) {
		t.Helper()
		n, err := c.ClearGaps(ctx)
		if err != nil || n != went {
			t.Errorf("%d entries went, not %d, %v", n, went, err)
		}
		if s, err := c.JournalSize(ctx, id); err != nil || s.Entries != left || s.Bytes < 50*left {
			t.Errorf("the journal has %+v, not %d entries, %v", s, left, err)
		}
	}
	put("before")
	change(bucket.PauseJournal(true))
	put("during")
	change(bucket.PauseJournal(false))
	put("after")
	told("", "before", "", "", "after") // settings are on record all the same
	clears(0, 6)
	readAll(t, c)
	clears(1, 5)
	if from, err := c.JournalFrom(ctx, id, false); err != nil || from.IsZero() {
		t.Errorf("all of it is there from %s, %v", from, err)
	}

	if _, err := db.Exec(`update journal set at = at - interval '2 days' where key = 'before' or key is null and kind <> $1`,
		catalog.BucketChanged); err != nil {
		t.Fatal(err)
	}
	change(bucket.JournalDays(1))
	if n, err := c.JournalOlder(ctx, id, c.Now().AddDate(0, 0, -1)); err != nil || n != 2 {
		t.Errorf("%d entries would go, %v", n, err)
	}
	readAll(t, c)
	clears(2, 4)
	told("", "", "after", "")
	clears(0, 4)
	gaps, err := c.Gaps(ctx, id)
	if err != nil || len(gaps) != 2 || gaps[0].Until == nil || !gaps[1].Since.IsZero() {
		t.Errorf("left out: %+v, %v", gaps, err)
	}
	b, err := c.Bucket(ctx, plates)
	if err != nil || b.Usage.Objects != 3 || b.Journal != (bucket.Journal{Days: 1}) {
		t.Errorf("%+v, %v", b, err)
	}
	if err := c.ChangeBucket(ctx, plates, 0, author(), bucket.JournalDays(-1)); !fault.HasCode(err, "journal-days") {
		t.Errorf("less than a day: %v", err)
	}
}

// TestTiersAddUp changes a bucket at random in which bodies lie in three tiers, moves
// some between them, and compares what is known of each tier with a recount.
func TestTiersAddUp(t *testing.T) {
	c, db, id := open(t)
	ctx := t.Context()
	r := rand.New(rand.NewPCG(3, 4))
	for i := range 400 {
		key := fmt.Sprint("k", r.IntN(12))
		switch n := r.IntN(20); {
		case i%100 == 40:
			must(t, c.ChangeBucket(ctx, plates, 0, author(), bucket.Versioning(object.On)))
		case i%100 == 80:
			must(t, c.ChangeBucket(ctx, plates, 0, author(), bucket.Versioning(object.Paused)))
		case n < 11:
			ch := write(id, key, int64(r.IntN(5000)), int64(i+1))
			ch.Version.Body.Tier = int16(r.IntN(3))
			if r.IntN(3) == 0 {
				ch.IfAbsent = true // one by one
			}
			if _, err := c.Commit(ctx, ch); err != nil && !fault.HasCode(err, "exists") {
				t.Fatal(err)
			}
		case n < 13:
			_, err := c.Commit(ctx, catalog.Change{Kind: catalog.ObjectRemoved, Bucket: id, Key: key, Author: author()})
			must(t, err)
		case n == 13:
			_, _, err := c.Purge(ctx, id, []string{key}, author())
			must(t, err)
		default:
			h, err := c.History(ctx, id, object.MustKey(key), 0, 10)
			must(t, err)
			if len(h.Versions) == 0 {
				continue
			}
			v := h.Versions[r.IntN(len(h.Versions))].Version
			if n < 16 {
				_, err := c.Commit(ctx, catalog.Change{Kind: catalog.VersionRemoved, Bucket: id, Key: key, ID: v.ID(),
					Author: author()})
				must(t, err)
				continue
			}
			if v.Marker {
				continue
			}
			to := object.BodyRef{Tier: int16(r.IntN(3)), File: int64(1000 + i), Offset: -1}
			must(t, c.MoveBody(ctx, catalog.Moving{Bucket: id, Key: v.Key, Number: v.Number, From: v.Body, To: to,
				Author: author()}))
			if err := c.MoveBody(ctx, catalog.Moving{Bucket: id, Key: v.Key, Number: v.Number, From: v.Body, To: to,
				Author: author()}); !fault.HasCode(err, "version-moved") {
				t.Fatalf("moved twice: %v", err)
			}
		}
	}
	for more := true; more; {
		n, err := c.RollUp(ctx, 100)
		must(t, err)
		more = n > 0
	}
	got, err := c.TierUsage(ctx, id)
	must(t, err)
	for _, tier := range []int16{1, 2} {
		var want int64
		must(t, db.QueryRow(`select coalesce(sum(size), 0) from (select size, tier, bucket from heads where not marker
			union all select size, tier, bucket from history where not marker) v where bucket = $1
				and tier = $2`, id, tier).Scan(&want))
		if got[tier] != want || want == 0 {
			t.Errorf("tier %d holds %d bytes, counted anew %d", tier, got[tier], want)
		}
	}
}

// TestJournalPagesAreInOrder reads pages of several sizes either way, with the
// statistics that the database has of a service in use: each is in order, and together
// they are the journal.
func TestJournalPagesAreInOrder(t *testing.T) {
	c, db, id := open(t)
	ctx := t.Context()
	for i := range 12 {
		must(t, c.CreateBucket(ctx, catalog.Bucket{Name: object.MustBucketName(fmt.Sprint("other-", i)), Account: "herbarium",
			Region: "fenn"}, author()))
	}
	for i := range 400 {
		_, err := c.Commit(ctx, write(id, fmt.Sprint("k", i), 1, int64(i+1)))
		must(t, err)
	}
	_, err := db.ExecContext(ctx, `analyze`)
	must(t, err)
	for _, limit := range []int{7, 100, 150, 1000} {
		for _, forward := range []bool{false, true} {
			var all []catalog.JournalEntry
			q := catalog.JournalQuery{Limit: limit}
			if forward {
				q.After = "0.0"
			}
			for {
				p, err := c.Journal(ctx, q)
				must(t, err)
				all = append(all, p.Entries...)
				if forward {
					q.After = p.Next
				} else {
					q.Before = p.Next
				}
				if p.Next == "" || len(p.Entries) == 0 {
					break
				}
			}
			if len(all) != 413 {
				t.Errorf("pages of %d, forward %v: %d entries", limit, forward, len(all))
			}
			for i := 1; i < len(all); i++ {
				a, b := all[i-1], all[i]
				if forward {
					a, b = b, a
				}
				if a.XID < b.XID || a.XID == b.XID && a.Seq <= b.Seq {
					t.Fatalf("pages of %d, forward %v: %s stands before %s", limit, forward, all[i-1].Position(), all[i].Position())
				}
			}
		}
	}
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
