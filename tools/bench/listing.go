package main

import (
	"fmt"
	"net/http"
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
	for _, kind := range []struct{ name, query string }{
		{"page of 1,000 keys, flat, of 1,000,000", "?list-type=2&max-keys=1000"},
		{"the same, deep in the bucket", "?list-type=2&max-keys=1000&start-after=prefix-0700%2F"},
		{"page of 1,000, root folded, of 1,000,000", "?list-type=2&delimiter=%2F&max-keys=1000"}} {
		few, many, cost, err := b.inTurns(c, kind.query)
		if err != nil {
			return err
		}
		b.row(kind.name, fmt.Sprintf("%.1f ms (%s)", float64(many.Microseconds())/1000, cost),
			fmt.Sprintf("%.2f of the same in 10,000 (%.1f ms)", many.Seconds()/few.Seconds(), float64(few.Microseconds())/1000),
			"at most 1.5")
	}
	return nil
}

// inTurns asks for a page of the small and of the large bucket in turns, and gives the median time
// of each and what one costs.
func (b *bench) inTurns(c *conn, query string) (few, many time.Duration, cost spent, err error) {
	var all [2][]time.Duration
	s0, d0 := b.cpu()
	c0 := own()
	for end := time.Now().Add(b.span); len(all[1]) < 41 || time.Now().Before(end); {
		for k, bucket := range []string{"few", "many"} {
			start := time.Now()
			st, _, err := c.do(http.MethodGet, "/"+bucket+query, nil, 0)
			if err != nil || st != 200 {
				return 0, 0, cost, fmt.Errorf("listing %s: %d, %v", bucket, st, err)
			}
			all[k] = append(all[k], time.Since(start))
		}
	}
	s1, d1 := b.cpu()
	n := time.Duration(2 * len(all[1]))
	return middle(all[0]), middle(all[1]), spent{(s1 - s0) / n, (d1 - d0) / n, (own() - c0) / n}, nil
}
