package main

import (
	"bytes"
	"fmt"
	"net/http"
	"slices"
	"sync"
	"time"
)

// orders measures work on whole prefixes: renames with versions and without, putting back to a
// moment, and emptying; and what it does to gets of others meanwhile.
func (b *bench) orders() error {
	const keys = 20_000
	if st, err := b.request(http.MethodPut, "/plainly", nil, 0); err != nil || st != 200 {
		return fmt.Errorf("making a bucket: %d, %v", st, err)
	}
	if err := b.keep("versioned"); err != nil {
		return err
	}
	for _, bucket := range []string{"plainly", "versioned"} {
		if _, err := b.db.Exec(`insert into heads (bucket, key, created, size, md5, crc64, body_file, body_offset,
				content_type, written_by, plain)
			select b.id, convert_to('from/' || lpad(i::text, 9, '0'), 'UTF8'), now(), 4096, decode(md5(i::text), 'hex'), i,
				0, -1, 'text/plain', 'bench', b.versioning <> 1 from buckets b, generate_series(1, $2::int) i
			where b.name = $1 and b.removed is null`, bucket, keys); err != nil {
			return err
		}
	}
	if _, err := b.db.Exec("vacuum analyze heads"); err != nil {
		return err
	}
	if err := b.readable(); err != nil {
		return err
	}
	alone, err := b.slowest(3*time.Second, nil)
	if err != nil {
		return err
	}
	then := time.Now()
	time.Sleep(1100 * time.Millisecond)
	for _, x := range []struct {
		what, wanted string
		args         []string
	}{
		{"rename 20,000 keys", "4,000/s", []string{"object", "rename", "plainly/from/", "plainly/to/", "--yes"}},
		{"rename 20,000 keys, versioned", "3,000/s", []string{"object", "rename", "versioned/from/", "versioned/to/",
			"--yes"}},
		{"put 40,000 keys back, versioned", "3,000/s", []string{"object", "restore", "versioned", "--as-of",
			then.UTC().Format(time.RFC3339Nano), "--yes"}},
		{"empty a bucket of 20,000 keys", "8,000/s", []string{"bucket", "empty", "plainly", "--yes"}},
	} {
		n := keys
		if x.args[1] == "restore" {
			n = 2 * keys // those that are put back, and those that are removed
		}
		var took time.Duration
		busy, err := b.slowest(0, func() error {
			begun := time.Now()
			_, err := b.cli(x.args...)
			took = time.Since(begun)
			return err
		})
		if err != nil {
			return fmt.Errorf("%s: %w", x.what, err)
		}
		b.row(x.what, fmt.Sprintf("%.0f/s", float64(n)/took.Seconds()),
			fmt.Sprintf("gets beside it: p99 %.1f ms, alone %.1f ms",
				busy.Seconds()*1000, alone.Seconds()*1000), x.wanted)
	}
	return nil
}

// readable puts what is read beside orders.
func (b *bench) readable() error {
	c, err := dial(b.wire, true)
	if err != nil {
		return err
	}
	defer c.c.Close()
	st, _, err := c.do(http.MethodPut, "/bench/beside", bytes.NewReader(smallBody()), small)
	if err == nil && st != 200 {
		err = fmt.Errorf("status %d", st)
	}
	return err
}

// slowest gives the time within which 99 of 100 gets by four clients are answered, for a while
// or while something is done.
func (b *bench) slowest(span time.Duration, while func() error) (time.Duration, error) {
	stop := make(chan struct{})
	var mu sync.Mutex
	var all []time.Duration
	var failed error
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			c, err := dial(b.wire, true)
			for err == nil {
				select {
				case <-stop:
					c.c.Close()
					return
				default:
				}
				begun := time.Now()
				var st int
				if st, _, err = c.do(http.MethodGet, "/bench/beside", nil, 0); err == nil && st != 200 {
					err = fmt.Errorf("status %d", st)
				}
				mu.Lock()
				all = append(all, time.Since(begun))
				mu.Unlock()
				time.Sleep(2 * time.Millisecond)
			}
			mu.Lock()
			failed = err
			mu.Unlock()
		})
	}
	var err error
	if while == nil {
		time.Sleep(span)
	} else {
		err = while()
	}
	close(stop)
	wg.Wait()
	if err == nil {
		err = failed
	}
	if err != nil || len(all) == 0 {
		return 0, err
	}
	slices.Sort(all)
	return all[len(all)*99/100], nil
}
