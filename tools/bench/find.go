package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"
)

const findObjects = 5_000_000

// find asks millions of objects for what is rare and what is common, by their index, and
// lists them all.
func (b *bench) find() error {
	if err := b.described("found", findObjects); err != nil {
		return err
	}
	if err := b.censuses("found"); err != nil { // first, while the service holds nothing else
		return err
	}
	if err := b.indexed("found"); err != nil {
		return err
	}
	for _, x := range []struct {
		what, wanted string
		args         []string
		says         string
	}{
		{"a value that one in 300 has", "100 ms", []string{`field taxon is "taxon 7"`}, `"bucket":"found"`},
		{"a value that one object has", "100 ms", []string{"field sheet is 4999999"}, `"bucket":"found"`},
		{"two fields", "100 ms", []string{`field taxon is "taxon 8" and field dpi is 600`}, `"bucket":"found"`},
		{"a range", "100 ms", []string{"field dpi over 500"}, `"bucket":"found"`},
		{"a range of few", "100 ms", []string{"field sheet between 4000000 and 4000009"}, `"bucket":"found"`},
		{"lacks a field, one in 100,000", "100 ms", []string{"lacks field collector"}, `"bucket":"found"`},
		{"begins with", "100 ms", []string{`field check begins with "ab12"`}, `"bucket":"found"`},
		{"nothing", "100 ms", []string{"field taxon is nothing"}, ""},
		{"a pattern over a unique field", "2 s", []string{`field check like "*ab12cd*"`}, ""},
		{"count of a range", "1 s", []string{"field dpi over 500", "--count"}, `"objects":`},
		{"count of a pattern", "", []string{`field check like "*ab12*"`, "--count"}, `"objects":`},
	} {
		took, out, err := b.asked(x.args...)
		if err != nil {
			return err
		}
		if !bytes.Contains(out, []byte(x.says)) {
			return fmt.Errorf("%s: %s", x.what, out)
		}
		b.row("find, "+x.what, ms(took), "of 5,000,000 objects with four fields each", x.wanted)
	}
	if err := b.foundAtOnce("found"); err != nil {
		return err
	}
	return b.putsBesideIndex("found")
}

// putsBesideIndex compares puts into a bucket with an index with those into one without.
func (b *bench) putsBesideIndex(bucket string) error {
	if _, err := b.cli("bucket", "create", "unlisted"); err != nil {
		return err
	}
	plain, indexed, err := b.putsInTurns("unlisted", bucket, 5, func() error { return nil })
	if err != nil {
		return err
	}
	b.row("put 4 KiB into a bucket with an index of find", fmt.Sprintf("%.0f/s", indexed),
		fmt.Sprintf("%.2f of one without (%.0f/s), the following beside it", indexed/plain, plain), "0.95")
	return nil
}

// asked gives the median of five answers, less what a command costs that asks nothing of
// objects.
func (b *bench) asked(args ...string) (time.Duration, []byte, error) {
	var out []byte
	median := func(args ...string) (time.Duration, error) {
		var all []time.Duration
		for range 5 {
			start := time.Now()
			var err error
			if out, err = b.cli(args...); err != nil {
				return 0, err
			}
			all = append(all, time.Since(start))
		}
		slices.Sort(all)
		return all[2], nil
	}
	idle, err := median("find", "index")
	if err != nil {
		return 0, nil, err
	}
	q := append([]string{"find"}, args...)
	if !slices.Contains(q, "--count") {
		q = append(q, "--limit", "100")
	}
	took, err := median(q...)
	return max(took-idle, 0), out, err
}

// described fills a bucket with objects that have fields.
func (b *bench) described(bucket string, n int) error {
	if _, err := b.cli("bucket", "create", bucket); err != nil {
		return err
	}
	if _, err := b.db.Exec(`set statement_timeout = 0; insert into heads (bucket, key, created, size, md5, crc64, body_file, body_offset, content_type,
			written_by, metadata) select b.id, convert_to('plates/' || lpad((i % 1000)::text, 4, '0') || '/' || lpad(i::text, 9, '0'), 'UTF8'),
			now() - i * interval '1 second', 4096 + i % 5000, decode(md5(i::text), 'hex'), i, 0, -1, 'image/tiff', 'bench',
			jsonb_build_object('sheet', i::text, 'taxon', 'taxon ' || i % 300, 'dpi', (300 + i / 7 % 5 * 100)::text, 'check', md5('c' || i)) ||
			case when i % 100000 = 0 then '{}'::jsonb else jsonb_build_object('collector', 'collector ' || i / 1000 % 40) end
		from buckets b, generate_series(1, ` + fmt.Sprint(n) + `) i where b.name = '` + bucket + `' and b.removed is null`); err != nil {
		return err
	}
	_, err := b.db.Exec("vacuum analyze heads")
	return err
}

// indexed has the index of a bucket built, and says what it costs.
func (b *bench) indexed(bucket string) error {
	start := time.Now()
	if _, err := b.cli("find", "rebuild", bucket); err != nil {
		return err
	}
	for {
		out, err := b.cli("find", "index")
		if err != nil {
			return err
		}
		var x struct {
			Indexes []struct {
				State          string
				Objects, Bytes int64
			}
		}
		if err := json.Unmarshal(out, &x); err != nil {
			return err
		}
		if len(x.Indexes) > 0 && x.Indexes[0].State == "ready" {
			i := x.Indexes[0]
			b.row("index of find, size", fmt.Sprintf("%.1f bytes", float64(i.Bytes)/float64(i.Objects)),
				"an object with five fields", "60 bytes")
			b.row("index of find, built anew", fmt.Sprintf("%.0f/s", float64(i.Objects)/time.Since(start).Seconds()),
				"objects, resting as long as it works", "")
			return nil
		}
		if time.Since(start) > 20*time.Minute {
			return fmt.Errorf("the index was not built: %s", out)
		}
		time.Sleep(200 * time.Millisecond)
	}
}

// foundAtOnce puts objects and looks for each as soon as it is acknowledged.
func (b *bench) foundAtOnce(bucket string) error {
	file := "/tmp/spindle-bench-found"
	if err := os.WriteFile(file, []byte("leaf"), 0o600); err != nil {
		return err
	}
	defer os.Remove(file)
	found := 0
	const tries = 50
	for i := range tries {
		if _, err := b.cli("object", "put", file, fmt.Sprintf("%s/fresh/%d", bucket, i), "--metadata",
			fmt.Sprintf("fresh=%d", i)); err != nil {
			return err
		}
		out, err := b.cli("find", fmt.Sprintf("field fresh is %d", i), "--count")
		if err != nil {
			return err
		}
		if strings.Contains(string(out), `"objects":1`) {
			found++
		}
	}
	b.row("found in the first answer after the put", fmt.Sprintf("%d of %d", found, tries), "", "all")
	return nil
}

// censuses lists all objects, as CSV and as Parquet.
func (b *bench) censuses(bucket string) error {
	if _, err := b.cli("bucket", "create", "lists"); err != nil {
		return err
	}
	pid := b.service.Process.Pid
	for _, x := range []struct{ format, wanted string }{{"csv", "120,000/s"}, {"parquet", "90,000/s"}} {
		if err := os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", pid), []byte("5"), 0); err != nil {
			return err
		}
		out, err := b.cli("census", "create", "all-"+x.format, "lists/", "--of", bucket, "--format", x.format)
		if err != nil {
			return err
		}
		var r struct {
			State          string
			Rows           int64
			Started, Ended time.Time
		}
		if err := json.Unmarshal(out, &r); err != nil || r.State != "done" || r.Rows < findObjects {
			return fmt.Errorf("the census came to %s: %w", out, err)
		}
		peak, err := peakMemory(pid)
		if err != nil {
			return err
		}
		b.row("census as "+x.format, fmt.Sprintf("%.0f/s", float64(r.Rows)/r.Ended.Sub(r.Started).Seconds()),
			fmt.Sprintf("rows, files put into a bucket included; service %d MiB", peak>>20), x.wanted)
	}
	return nil
}
