package main

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"spindle/internal/wire/sign"
)

const keepDocument = `<VersioningConfiguration><Status>Enabled</Status></VersioningConfiguration>`

// keep makes a bucket that keeps versions.
func (b *bench) keep(bucket string) error {
	for _, x := range [][2]string{{"/" + bucket, ""}, {"/" + bucket + "?versioning=", keepDocument}} {
		if st, err := b.request(http.MethodPut, x[0], strings.NewReader(x[1]), int64(len(x[1]))); err != nil || st != 200 {
			return fmt.Errorf("making a bucket with versions: %d, %v", st, err)
		}
	}
	return nil
}

// versions measures what keeping versions costs.
func (b *bench) versions() error {
	if err := b.keep("kept"); err != nil {
		return err
	}
	if err := b.overwrite(); err != nil {
		return err
	}
	return b.pages()
}

// overwrite compares replacing and annotating with first puts, in one bucket.
func (b *bench) overwrite() error {
	body := make([]byte, small)
	tags := []byte("<Tagging><TagSet><Tag><Key>state</Key><Value>checked</Value></Tag></TagSet></Tagging>")
	cs, err := b.conns(b.wire, true)
	if err != nil {
		return err
	}
	const known = 300
	puts, err := b.heads(cs, http.MethodPut, "kept", "", prepared, small)
	if err != nil {
		return err
	}
	notes, err := b.heads(cs, http.MethodPut, "kept", "?tagging=", known, int64(len(tags)))
	if err != nil {
		return err
	}
	var written, replaced, noted [clients]int
	var g errgroup.Group
	for w := range clients {
		g.Go(func() error { // what will be replaced is there
			for ; written[w] < known; written[w]++ {
				if err := sends(cs[w], puts[w][written[w]], body); err != nil {
					return err
				}
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	put := func(w, _ int) error {
		n := written[w]
		written[w]++
		if n < prepared {
			return sends(cs[w], puts[w][n], body)
		}
		head, err := cs[w].head(http.MethodPut, fmt.Sprintf("/kept/client-%02d/object-%08d", w, n), small)
		if err != nil {
			return err
		}
		return sends(cs[w], head, body)
	}
	r, cost, err := b.costs(put, func(w, _ int) error {
		replaced[w]++
		return sends(cs[w], puts[w][replaced[w]%known], body)
	}, func(w, _ int) error {
		noted[w]++
		return sends(cs[w], notes[w][noted[w]%known], tags)
	})
	if err != nil {
		return err
	}
	b.row("overwrite 4 KiB, versioning on, 32 clients", fmt.Sprintf("%.0f/s", r[1]),
		fmt.Sprintf("%.2f of a first put there (%.0f/s, %s); %s", r[1]/r[0], r[0], cost[0], cost[1]), "0.9")
	b.row("annotate (tags on the wire), 32 clients", fmt.Sprintf("%.0f/s", r[2]),
		fmt.Sprintf("%.2f of a first put of 4 KiB; %s", r[2]/r[0], cost[2]), "1")
	return nil
}

// grow fills a bucket with keys that have a number of versions each, an hour
// apart, by the database alone.
func (b *bench) grow(bucket string, keys, versions int) error {
	if err := b.keep(bucket); err != nil {
		return err
	}
	columns := `(bucket, key, number, created, size, md5, crc64, body_file, body_offset, content_type, written_by`
	values := `b.id, convert_to('prefix-' || lpad((i % 1000)::text, 4, '0') || '/object-' || lpad(i::text, 9, '0'), 'UTF8'), v, now() - ($3::bigint - v) * interval '1 hour', 4096, decode(md5(i::text), 'hex'), i, 0, -1, 'text/plain', 'bench'`
	if _, err := b.db.Exec(`update buckets set created = now() - interval '1 year' where name = $1`, bucket); err != nil {
		return err
	}
	if _, err := b.db.Exec(`insert into heads `+columns+`) select `+values+`
		from buckets b, generate_series(1, $2::int) i, (select $3::bigint as v) latest where b.name = $1 and b.removed is null`, bucket, keys, versions); err != nil {
		return err
	}
	if versions == 1 {
		return nil
	}
	_, err := b.db.Exec(`insert into history `+columns+`, replaced) select `+values+`, now() - ($3::bigint - v - 1) * interval '1 hour'
		from buckets b, generate_series(1, $2::int) i, generate_series(1, $3::bigint - 1) v where b.name = $1 and b.removed is null`, bucket, keys, versions)
	return err
}

// page is a page of something, at a place, to be compared with another.
type page struct {
	what, path string
	desk       bool
}

// pages compares listings beside and of versions, and of the past.
func (b *bench) pages() error {
	for bucket, n := range map[string][2]int{"few-5": {10_000, 5}, "many-5": {1_000_000, 5}, "hundred-1": {100_000, 1},
		"hundred-10": {100_000, 10}} {
		if err := b.grow(bucket, n[0], n[1]); err != nil {
			return err
		}
	}
	if _, err := b.db.Exec("vacuum analyze heads, history"); err != nil {
		return err
	}
	wire, err := dial(b.wire, true)
	if err != nil {
		return err
	}
	defer wire.c.Close()
	then := url.QueryEscape(time.Now().Add(-150 * time.Minute).UTC().
		Format(time.RFC3339)) // the third of five versions was current
	list := func(bucket, query string) string { return "/" + bucket + "?" + query }
	past := func(bucket, query string) string {
		return "/api/v1/buckets/" + bucket + "/objects?limit=1000&" + query
	}
	for _, x := range []struct {
		got, against page
		wanted       string
	}{
		{page{"page of 1,000, keys with 10 versions each", list("hundred-10", "list-type=2"), false},
			page{"the same with one version each", list("hundred-1", "list-type=2"), false}, "at most 1.5"},
		{page{"page of 1,000 versions, of 5,000,000", list("many-5", "versions=&key-marker=prefix-0500%2F"), false},
			page{"the same of 50,000", list("few-5", "versions=&key-marker=prefix-0500%2F"), false}, "flat"},
		{page{"the root folded with all versions, 1,000 prefixes", list("many-5", "versions=&delimiter=%2F"), false},
			page{"the same of current versions", list("many-5", "list-type=2&delimiter=%2F"), false}, "measured"},
		{page{"page of 1,000 as of a moment, of 1,000,000 keys", past("many-5", "asOf="+then+"&after=prefix-0500%2F"), true},
			page{"the same page now", past("many-5", "after=prefix-0500%2F"), true}, "measured"},
		{page{"the same, of 1,000,000", past("many-5", "asOf="+then+"&after=prefix-0500%2F"), true},
			page{"the same of 10,000 keys", past("few-5", "asOf="+then+"&after=prefix-0500%2F"), true}, "measured"},
		{page{"the root folded as of a moment, 1,000 prefixes", past("many-5", "delimiter=%2F&asOf="+then), true},
			page{"the same page now", past("many-5", "delimiter=%2F"), true}, "measured"},
	} {
		var all [2][]time.Duration
		for range 31 {
			for k, p := range []page{x.got, x.against} {
				start := time.Now()
				st, n, err := b.get(wire, p)
				if err != nil || st != 200 || n < 10_000 {
					return fmt.Errorf("%s: %d, %d bytes, %v", p.path, st, n, err)
				}
				all[k] = append(all[k], time.Since(start))
			}
		}
		slices.Sort(all[0])
		slices.Sort(all[1])
		got, against := all[0][15], all[1][15]
		b.row(x.got.what, ms(got), fmt.Sprintf("%.2f of %s (%s)", got.Seconds()/against.Seconds(), x.against.what,
			ms(against)), x.wanted)
	}
	return nil
}

// get reads a page from the wire, or from the desk by an ordinary client.
func (b *bench) get(wire *conn, p page) (status int, length int64, err error) {
	if !p.desk {
		return wire.do(http.MethodGet, p.path, nil, 0)
	}
	r, err := http.NewRequest(http.MethodGet, "http://"+b.desk+p.path, nil)
	if err != nil {
		return 0, 0, err
	}
	sign.SignDesk(r, cred, "desk", sign.EmptyHash, time.Now())
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0, 0, err
	}
	defer resp.Body.Close()
	length, err = io.Copy(io.Discard, resp.Body)
	return resp.StatusCode, length, err
}

func ms(d time.Duration) string { return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000) }
