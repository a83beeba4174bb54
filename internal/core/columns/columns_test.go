package columns_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"spindle/internal/core/census"
	"spindle/internal/core/columns"
	"spindle/internal/core/query"
)

var now = time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)

// objects gives random objects, as rows and as they are asked about.
func objects(r *rand.Rand, n, names int) (rows []census.Row, list []query.Object) {
	words := []string{"", "Drosera", "Drosera rotundifolia", "Carex", "100", "-3.5", "0099", "ünï",
		strings.Repeat("long ", 60), "z\xff"}
	for i := range n {
		meta, tags := map[string]string{}, map[string]string{}
		for range r.IntN(4) {
			meta[fmt.Sprintf("f%d", r.IntN(names))] = words[r.IntN(len(words))]
		}
		if r.IntN(3) == 0 {
			meta["unique"] = fmt.Sprintf("u%06d", i)
		}
		if r.IntN(3) > 0 {
			meta["n"] = fmt.Sprint(r.IntN(2000) - 1000)
			if r.IntN(3) == 0 {
				meta["n"] += []string{".5", ".0", "x", ".50"}[r.IntN(4)]
			}
		}
		if r.IntN(2) == 0 {
			tags["kind"] = words[r.IntN(4)]
		}
		m, _ := json.Marshal(meta)
		g, _ := json.Marshal(tags)
		if r.IntN(5) == 0 && len(meta) == 0 {
			m = nil
		}
		row := census.Row{Bucket: "plates", Key: fmt.Appendf(nil, "%02d/%05d", i%7, i), Current: true,
			Size:    r.Int64N(5) * r.Int64N(1<<20),
			Changed: now.Add(-time.Duration(r.Int64N(int64(90 * 24 * time.Hour)))).Truncate(time.Microsecond),
			Type:    []string{"image/tiff", "text/plain"}[r.IntN(2)], Tier: []string{"main", "cellar"}[r.IntN(2)],
			Sealed: r.IntN(2) == 0,
			Writer: words[r.IntN(3)], Metadata: m, Tags: g}
		rows = append(rows, row)
	}
	slices.SortFunc(rows, func(a, b census.Row) int { return strings.Compare(string(a.Key), string(b.Key)) })
	for _, x := range rows {
		o := query.Object{Bucket: x.Bucket, Key: string(x.Key), Type: x.Type, Tier: x.Tier, Writer: x.Writer, Size: x.Size,
			Changed: x.Changed,
			Sealed:  x.Sealed, Current: true, Metadata: map[string]string{}, Tags: map[string]string{}}
		_ = json.Unmarshal(x.Metadata, &o.Metadata)
		_ = json.Unmarshal(x.Tags, &o.Tags)
		list = append(list, o)
	}
	return rows, list
}

// expression gives a random one.
func expression(r *rand.Rand, names, depth int) string {
	if depth > 0 && r.IntN(2) == 0 {
		a, b := expression(r, names, depth-1), expression(r, names, depth-1)
		return []string{"(" + a + " and " + b + ")", "(" + a + " or " + b + ")", "not (" + a + ")"}[r.IntN(3)]
	}
	f := fmt.Sprintf("field f%d", r.IntN(names))
	list := []string{f + " is Drosera", f + " begins with Dro", f + ` contains "os"`, f + " over 50", f + " at most 99",
		"has " + f, "lacks " + f,
		f + ` is one of Carex, "100"`, f + ` is ""`, f + ` ends with "long "`, `field unique is u000123`, "has field unique",
		"field n over 100", "field n between -5 and 10.5", "not field n at most 3", "field n is 7", "field n under -1",
		`field unique like "u0001*"`, "tag kind is Carex", "lacks tag kind", "size over 500 KiB", "size at most 10.5",
		"size is 0", "size under 1",
		"size between 1 KiB and 400 KiB", "age over 30 days", "age at most 10 days", "age between 5 days and 20 days",
		"changed on 2026-11-01",
		"changed before 2026-10-10", "changed between 2026-10-01 and 2026-11-01", "type begins with image", "tier is cellar",
		"sealed", "current",
		`writer is ""`, "key begins with 03/", "key is 03/00010", `key like "*1?"`, "key contains 5/", "bucket is plates",
		"bucket is attic",
		"md5 is 00", "replication is failed"}
	return list[r.IntN(len(list))]
}

// What the columns surely say is so, and what is so they never exclude; where they know all
// fields both are the same.
func TestColumnsAgree(t *testing.T) {
	for seed := range uint64(40) {
		r := rand.New(rand.NewPCG(seed, 1))
		names := []int{3, 10, 400}[seed%3]
		rows, list := objects(r, 1+r.IntN(3000), names)
		b := columns.NewBuilder()
		gone := map[string]bool{}
		for i := range rows {
			if r.IntN(50) == 0 {
				b.AddGone(string(rows[i].Key))
				gone[string(rows[i].Key)] = true
			} else if err := b.Add(&rows[i]); err != nil {
				t.Fatal(err)
			}
		}
		s := b.Segment()
		hidden := &columns.Bits{}
		for range r.IntN(20) {
			hidden.Set(r.IntN(len(rows)))
		}
		for range 60 {
			text := expression(r, names, 3)
			x, err := query.Parse(text, now)
			if err != nil {
				t.Fatal(text, err)
			}
			sure, may, asked := ask(t, s, x, hidden)
			knows := !strings.Contains(text, "md5") && !strings.Contains(text, "replication")
			var sum int64
			for i, o := range list {
				is := query.Holds(x, o, now) && !gone[o.Key] && !hidden.Has(i)
				if sure.Has(i) && !is || is && !may.Has(i) {
					t.Fatalf("seed %d: %s: %+v is %v, sure %v, may %v", seed, text, o, is, sure.Has(i), may.Has(i))
				}
				if may.Has(i) && !sure.Has(i) && knows && !isLong(o) {
					t.Fatalf("seed %d: %s: %+v is not known", seed, text, o)
				}
				if sure.Has(i) {
					sum += o.Size
				}
			}
			all := asked.Heads[columns.SizeColumn]
			if got, err := asked.Sizes(piece(s, columns.SizeColumn, all.All()), sure); err != nil || got != sum {
				t.Fatalf("%d bytes, want %d: %v", got, sum, err)
			}
			keys := asked.Heads[columns.KeyColumn]
			n := 0
			for _, c := range keys.Of(may, 1+r.IntN(5)) {
				if err := keys.Keys(c, piece(s, columns.KeyColumn, c), func(i int, key []byte) {
					if may.Has(i) {
						n++
						if string(key) != list[i].Key {
							t.Fatalf("ordinal %d has the key %q, want %q", i, key, list[i].Key)
						}
					}
				}); err != nil {
					t.Fatal(err)
				}
			}
			if n != may.Count() {
				t.Fatalf("%d keys of %d", n, may.Count())
			}
		}
	}
}

func isLong(o query.Object) bool {
	for _, v := range o.Metadata {
		if len(v) >= 180 {
			return true
		}
	}
	return false
}

func piece(s *columns.Segment, name string, c columns.Chunks) []byte {
	return s.Columns[name].Body[c.Offset:][:c.Bytes]
}

// ask answers as whoever keeps the columns elsewhere does.
func ask(t *testing.T, s *columns.Segment, x query.Expr, hidden *columns.Bits) (sure, may *columns.Bits,
	a *columns.Asked) {
	t.Helper()
	q := &columns.Question{Expr: x, Bucket: "plates", Now: now}
	a = &columns.Asked{Objects: s.Objects, Hidden: hidden, Sets: map[string]*columns.Bits{},
		Heads: map[string]*columns.Head{}}
	for _, name := range append(q.Names(), columns.SizeColumn) {
		c, ok := s.Columns[name]
		if !ok {
			continue
		}
		var err error
		if columns.IsSet(name) {
			a.Sets[name], err = columns.Unpack(c.Head)
		} else {
			a.Heads[name], err = columns.ReadHead(c.Head)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	for test, p := range q.Parts(a) {
		a.Give(test, piece(s, p.Column, p.Chunks))
	}
	sure, may, err := q.Answer(a)
	if err != nil {
		t.Fatal(err)
	}
	return sure, may, a
}

// A damaged column is told, whatever its bytes are.
func FuzzHead(f *testing.F) {
	b := columns.NewBuilder()
	rows, _ := objects(rand.New(rand.NewPCG(1, 1)), 300, 3)
	for i := range rows {
		_ = b.Add(&rows[i])
	}
	s := b.Segment()
	f.Add(s.Columns["key"].Head, s.Columns["key"].Body)
	f.Add(s.Columns["size"].Head, s.Columns["size"].Body)
	f.Fuzz(func(t *testing.T, head, body []byte) {
		h, err := columns.ReadHead(head)
		if err != nil {
			return
		}
		c := h.All()
		if c.Bytes > len(body) {
			return
		}
		_ = h.Keys(c, body[:c.Bytes], func(int, []byte) {})
	})
}
