package catalog_test

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/jmoiron/sqlx"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/harness"
)

// removers are the functions that take versions away for good. Each asks retained() of all it takes.
var removers = []string{"commit_changes", "purge_keys", "remove_due"}

// TestOneDoor reads the functions and statements of the catalog: versions go, journals are written
// and bodies are released by nothing but the functions that are meant to.
func TestOneDoor(t *testing.T) {
	begins := regexp.MustCompile(`(?m)^create function (\w+)`)
	takes := regexp.MustCompile(`delete from (heads|history)|update heads( h)? set number =`)
	writes := regexp.MustCompile(`insert into (journal|released)\b`)
	var taking []string
	err := filepath.WalkDir(".", func(path string, _ fs.DirEntry, err error) error {
		if err != nil || strings.Contains(path, "migrations/") || strings.HasSuffix(path, "_test.go") ||
			!strings.HasSuffix(path, ".go") && !strings.HasSuffix(path, ".sql") {
			return err
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if s := string(text); writes.MatchString(s) && path != "functions/door.sql" {
			t.Errorf("%s writes into the journal, or releases bodies, by itself: call write_down", path)
		} else if strings.HasSuffix(path, ".go") && takes.MatchString(s) {
			t.Errorf("%s takes versions away by itself", path)
		}
		if strings.HasSuffix(path, ".sql") {
			from := begins.FindAllStringSubmatchIndex(string(text), -1)
			for i, m := range from {
				until := len(text)
				if i+1 < len(from) {
					until = from[i+1][0]
				}
				name, body := string(text[m[2]:m[3]]), string(text[m[0]:until])
				if !takes.MatchString(body) {
					continue
				}
				taking = append(taking, name)
				if !strings.Contains(body, "retained(") {
					t.Errorf("%s takes versions away and does not ask whether they are retained", name)
				}
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if slices.Sort(taking); !slices.Equal(taking, removers) {
		t.Errorf("%q take versions away; %q are known", taking, removers)
	}
}

// keep is the plain model of what is retained: what stands in a table.
const keep = `create table keep (bucket bigint, key bytea, number bigint, primary key (bucket, key, number));
create or replace function retained(p_bucket bigint, p_key bytea, p_number bigint, p_at timestamptz) returns boolean
language sql stable as 'select exists (select 1 from keep where bucket = p_bucket and key = p_key and number = p_number)'`

// house is a bucket of the test below, with what was done to it.
type house struct {
	t      *testing.T
	c      *catalog.Catalog
	db     *sqlx.DB
	r      *rand.Rand
	bucket int64
	name   object.BucketName
	mode   object.Versioning
	files  int64
}

// versions gives the numbers of a key's versions, the current one first.
func (h *house) versions(key string) (out []catalog.PastVersion) {
	h.t.Helper()
	list, err := h.c.History(h.t.Context(), h.bucket, object.MustKey(key), 0, 100)
	must(h.t, err)
	return list.Versions
}

func (h *house) kept(key string, number int64) (yes bool) {
	h.t.Helper()
	must(h.t, h.db.Get(&yes, `select retained($1, $2, $3, now())`, h.bucket, []byte(key), number))
	return yes
}

// takes gives the version that goes for good when a key's current version is written over or removed.
func (h *house) takes(key string) (numbers []int64) {
	for i, v := range h.versions(key) {
		if v.Version.Plain && (h.mode != object.On && i == 0 || h.mode == object.Paused) {
			numbers = append(numbers, v.Version.Number)
		}
	}
	return numbers
}

// refusedFor reports whether changing a key's current version must be refused.
func (h *house) refusedFor(key string) bool {
	return slices.ContainsFunc(h.takes(key), func(n int64) bool { return h.kept(key, n) })
}

// expect compares what came of a change with what had to.
func (h *house) expect(what, key string, refused bool, err error) {
	h.t.Helper()
	if fault.HasCode(err, "version-retained") != refused || err != nil && !refused {
		h.t.Fatalf("%s of %s: refused %v, and came to %v", what, key, refused, err)
	}
}

func (h *house) change(key string) catalog.Change {
	if h.r.IntN(3) == 0 {
		return catalog.Change{Kind: catalog.ObjectRemoved, Bucket: h.bucket, Key: key, Author: author()}
	}
	h.files++
	return write(h.bucket, key, int64(h.r.IntN(5000)), h.files)
}

// step does something at random.
func (h *house) step() {
	t, ctx := h.t, h.t.Context()
	key := fmt.Sprint("k", h.r.IntN(5))
	switch n := h.r.IntN(20); {
	case n < 3: // one by one
		ch := h.change(key)
		if list := h.versions(key); len(list) > 0 && h.r.IntN(2) == 0 {
			ch.IfState = &catalog.State{Number: list[0].Version.Number, Revision: list[0].Version.Revision}
		}
		refused := h.refusedFor(key)
		_, err := h.c.Commit(ctx, ch)
		h.expect("a change", key, refused, err)
	case n < 9: // many in a batch
		var batch []catalog.Change
		var refused []bool
		for i := range 5 {
			if h.r.IntN(2) == 0 {
				k := fmt.Sprint("k", i)
				batch, refused = append(batch, h.change(k)), append(refused, h.refusedFor(k))
			}
		}
		_, errs := h.c.CommitMany(ctx, batch)
		for i := range batch {
			h.expect("one of many", batch[i].Key, refused[i], errs[i])
		}
	case n < 12: // a version
		list := h.versions(key)
		if len(list) == 0 {
			return
		}
		v := list[h.r.IntN(len(list))].Version
		refused := h.kept(key, v.Number)
		_, err := h.c.Commit(ctx, catalog.Change{Kind: catalog.VersionRemoved, Bucket: h.bucket, Key: key, ID: v.ID(),
			Author: author()})
		h.expect("removing a version", key, refused, err)
	case n == 12: // keys whole
		keys := []string{key, fmt.Sprint("k", h.r.IntN(5))}
		slices.Sort(keys)
		var want []string
		for _, k := range slices.Compact(keys) {
			if slices.ContainsFunc(h.versions(k), func(v catalog.PastVersion) bool { return h.kept(k, v.Version.Number) }) {
				want = append(want, k)
			}
		}
		_, stay, err := h.c.Purge(ctx, h.bucket, keys, author())
		must(t, err)
		if !slices.Equal(stay, want) {
			t.Fatalf("purging %q: %q stay, not %q", keys, stay, want)
		}
	case n == 13: // what rules judged
		list := h.versions(key)
		previous := h.mode != object.Off
		if previous && len(list) > 0 {
			list = list[1:]
		}
		var keys [][]byte
		var numbers []int64
		var rules []string
		for _, v := range list {
			keys, numbers, rules = append(keys, []byte(key)), append(numbers, v.Version.Number), append(rules, "old")
		}
		_, err := h.db.Exec(`select remove_due($1, $2, $3, $4, 1, $5, now(), 'rules')`, h.bucket, keys, numbers, rules,
			previous)
		must(t, err)
	case n == 14: // metadata: of what is retained, too
		list := h.versions(key)
		if len(list) == 0 || list[0].Version.Marker {
			return
		}
		_, err := h.c.Commit(ctx, catalog.Change{Kind: catalog.ObjectAnnotated, Bucket: h.bucket, Key: key,
			Version: &object.Version{Metadata: object.Metadata{"taxon": "Calluna"}}, Author: author()})
		must(t, err)
	case n < 17 && h.mode != object.Off:
		h.mode = []object.Versioning{object.On, object.Paused}[h.r.IntN(2)]
		must(t, h.c.ChangeBucket(ctx, h.name, 0, author(), bucket.Versioning(h.mode)))
	default: // one is retained, or is not any more
		list := h.versions(key)
		if len(list) == 0 {
			return
		}
		v := list[h.r.IntN(len(list))].Version
		if h.kept(key, v.Number) {
			h.db.MustExec(`delete from keep where bucket = $1 and key = $2 and number = $3`, h.bucket, []byte(key), v.Number)
		} else if !v.Marker {
			h.db.MustExec(`insert into keep values ($1, $2, $3)`, h.bucket, []byte(key), v.Number)
		}
	}
}

// TestNothingRetainedGoes has a plain table say what is retained, and does everything that takes
// versions away: what must be kept stays with its body and its metadata, who asked is told,
// and what may go goes.
func TestNothingRetainedGoes(t *testing.T) {
	for _, seed := range harness.Seeds(t, 4) {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			c, plain, first := open(t)
			db := sqlx.NewDb(plain, "pgx")
			db.MustExec(keep)
			ctx := t.Context()
			other := object.MustBucketName("loans")
			must(t, c.CreateBucket(ctx, catalog.Bucket{Name: other, Account: "herbarium", Region: "fenn"}, author()))
			must(t, c.ChangeBucket(ctx, other, 0, author(), bucket.Versioning(object.On)))
			f, err := c.Facts(ctx, other)
			must(t, err)
			r := rand.New(rand.NewPCG(seed, 7))
			houses := []*house{{t: t, c: c, db: db, r: r, bucket: first, name: plates, mode: object.Off},
				{t: t, c: c, db: db, r: r, bucket: f.ID, name: other, mode: object.On, files: 1_000_000}}
			for i := range 400 {
				houses[r.IntN(2)].step()
				var lost int
				must(t, db.Get(&lost, `select count(*) from keep x where not exists (select 1 from (select bucket, key, number,
					body_file, tier from heads union all select bucket, key, number, body_file, tier from history) v
					where v.bucket = x.bucket and v.key = x.key and v.number = x.number
						and not exists (select 1 from released where file = v.body_file and tier = v.tier))`))
				if lost > 0 {
					t.Fatalf("after step %d, %d versions that must be kept are gone, or their bodies are released", i, lost)
				}
			}
			for more := true; more; {
				n, err := c.RollUp(ctx, 100)
				must(t, err)
				more = n > 0
			}
			for _, h := range houses {
				b, err := c.Bucket(ctx, h.name)
				must(t, err)
				var want catalog.Usage
				must(t, db.Get(&want, `select count(*) filter (where head and not marker) as objects,
					coalesce(sum(size) filter (where head and not marker), 0) as bytes,
					count(*) filter (where not head and not marker) as prev,
					coalesce(sum(size) filter (where not head and not marker), 0) as prev_bytes,
					count(*) filter (where marker) as markers
					from (select bucket, size, marker, true as head from heads
						union all select bucket, size, marker, false from history) v where bucket = $1`, h.bucket))
				if b.Usage != want {
					t.Errorf("%s: usage is %+v, counted anew %+v", h.name, b.Usage, want)
				}
			}
			var orphans int
			must(t, db.Get(&orphans, `select count(*) from revisions r where not exists (select 1 from heads v
				where v.bucket = r.bucket and v.key = r.key and v.number = r.number) and not exists (select 1 from history v
				where v.bucket = r.bucket and v.key = r.key and v.number = r.number)`))
			if orphans > 0 {
				t.Errorf("%d earlier revisions of versions that are gone", orphans)
			}
		})
	}
}
