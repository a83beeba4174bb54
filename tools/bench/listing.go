package main

import (
	"fmt"
	"net/http"
	"slices"
	"time"
)

func (b *bench) list() error {
	for name, n := range map[string]int{"few": 10_000, "many": 1_000_000} {
		if st, err := b.request(http.MethodPut, "/"+name, nil, 0); err != nil || st != 200 {
			return fmt.Errorf("creating a bucket: %d, %v", st, err)
		}
		// 1,000 keys lie beneath each prefix but for 200 at the root, so that a folded page crosses both.
		if _, err := b.db.Exec(`insert into heads (bucket, key, created, size, md5, crc64, body_file, body_offset, content_type, written_by)
			select b.id, convert_to(case when i % ($2::int / 200) = 0 then 'root-' || lpad(i::text, 9, '0') else 'prefix-' || lpad((i % 1000)::text, 4, '0') || '/object-' || lpad(i::text, 9, '0') end, 'UTF8'),
			now(), 4096, decode(md5(i::text), 'hex'), i, 0, -1, 'text/plain', 'bench' from buckets b, generate_series(1, $2::int) i where b.name = $1 and b.removed is null`, name, n); err != nil {
			return err
		}
	}
	if _, err := b.db.Exec("vacuum analyze heads"); err != nil {
		return err
	}
	c, err := dial(b.wire, true)
	if err != nil {
		return err
	}
	defer c.c.Close()
	for _, kind := range []struct{ name, query string }{{"flat", "?list-type=2&max-keys=1000"},
		{"deep", "?list-type=2&max-keys=1000&start-after=prefix-0700%2F"},
		{"folded", "?list-type=2&delimiter=%2F&max-keys=1000"}} {
		var all [2][]time.Duration
		for range 41 {
			for k, bucket := range []string{"few", "many"} {
				start := time.Now()
				st, _, err := c.do(http.MethodGet, "/"+bucket+kind.query, nil, 0)
				if err != nil || st != 200 {
					return fmt.Errorf("listing %s: %d, %v", bucket, st, err)
				}
				all[k] = append(all[k], time.Since(start))
			}
		}
		slices.Sort(all[0])
		slices.Sort(all[1])
		few, many := all[0][20], all[1][20]
		b.row(map[string]string{"flat": "page of 1,000 keys, flat, of 1,000,000", "deep": "the same, deep in the bucket",
			"folded": "page of 1,000, root folded, of 1,000,000"}[kind.name],
			fmt.Sprintf("%.1f ms", float64(many.Microseconds())/1000),
			fmt.Sprintf("%.2f of the same in 10,000 (%.1f ms)", many.Seconds()/few.Seconds(), float64(few.Microseconds())/1000),
			"at most 1.5")
	}
	return nil
}
