package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"spindle/internal/standin"
	"spindle/internal/standin/hold"
	"spindle/internal/wire/client"
)

// syncs measures comparing, folders, large objects from one endpoint to another, and sealing.
func (b *bench) syncs() error {
	left, err := b.standin("left", standin.Faults{})
	if err != nil {
		return err
	}
	defer left.Stop()
	right, err := b.standin("right", standin.Faults{})
	if err != nil {
		return err
	}
	defer right.Stop()
	for _, part := range []func(left, right *elsewhere) error{b.compared, b.folder, b.between, b.sealedSync} {
		if err := part(left, right); err != nil {
			return err
		}
	}
	return nil
}

// equal fills a bucket with rows for so many objects, as if they had been put.
func (b *bench) equal(bucket string, n int) error {
	if _, err := b.cli("bucket", "create", bucket); err != nil {
		return err
	}
	_, err := b.db.Exec(`insert into heads (bucket, key, created, size, md5, crc64, body_file, body_offset, content_type,
			written_by) select b.id, convert_to('plates/' || lpad((i % 1000)::text, 4, '0') || '/' || lpad(i::text, 9, '0'), 'UTF8'),
			now(), 4096, decode(md5(i::text), 'hex'), i, 0, -1, 'image/tiff', 'bench'
		from buckets b, generate_series(1, $2::int) i where b.name = $1 and b.removed is null`, bucket, n)
	return err
}

// rehearsed times a rehearsal of a job that finds both sides equal.
func (b *bench) rehearsed(job, from, to string) (time.Duration, int64, error) {
	if _, err := b.cli("sync", "create", job, from, to); err != nil {
		return 0, 0, err
	}
	pid := b.service.Process.Pid
	if err := os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", pid), []byte("5"), 0); err != nil {
		return 0, 0, err
	}
	start := time.Now()
	out, err := b.cli("sync", "rehearse", job, "--check")
	took := time.Since(start)
	if err == nil && !bytes.Contains(out, []byte(`"objects":1000000`)) {
		err = fmt.Errorf("not all was compared: %s", out)
	}
	if err != nil {
		return 0, 0, err
	}
	peak, err := peakMemory(pid)
	return took, peak, err
}

// compared compares a million keys with a million, of two buckets here, and of one here and
// one at an endpoint.
func (b *bench) compared(left, _ *elsewhere) error {
	const n = 1_000_000
	for _, bucket := range []string{"one-side", "other-side"} {
		if err := b.equal(bucket, n); err != nil {
			return err
		}
	}
	if _, err := b.db.Exec("vacuum analyze heads"); err != nil {
		return err
	}
	took, peak, err := b.rehearsed("compare-here", "one-side", "other-side")
	if err != nil {
		return err
	}
	b.row("compare 1,000,000 keys with 1,000,000, here", fmt.Sprintf("%.1f s", took.Seconds()),
		fmt.Sprintf("the service's memory at most %d MiB", peak>>20), "10 s, 100 MiB")
	ctx := context.Background()
	if err := left.client.CreateBucket(ctx, "one-side"); err != nil {
		return err
	}
	rows, err := b.db.Query(`select key, encode(md5, 'hex') from heads h join buckets b on b.id = h.bucket
		where b.name = 'one-side' and b.removed is null`)
	if err != nil {
		return err
	}
	defer rows.Close()
	now := time.Now()
	for rows.Next() {
		var key, etag string
		if err := rows.Scan(&key, &etag); err != nil {
			return err
		}
		if _, err := left.Hold.Put("one-side", key, &hold.Body{Size: 4096, ETag: etag}, hold.Facts{}, hold.Condition{},
			now); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	start := time.Now()
	for after := ""; ; {
		p, err := left.client.ListAfter(ctx, "one-side", "", after, 1000)
		if err != nil {
			return err
		}
		if len(p.Objects) == 0 {
			break
		}
		after = p.Objects[len(p.Objects)-1].Key
	}
	listing := time.Since(start)
	if took, _, err = b.rehearsed("compare-there", "one-side", "@left/one-side"); err != nil {
		return err
	}
	b.row("compare 1,000,000 keys with an endpoint's", fmt.Sprintf("%.1f s", took.Seconds()),
		fmt.Sprintf("%.2f of its listing alone (%.1f s)", listing.Seconds()/took.Seconds(), listing.Seconds()), "0.8")
	return nil
}

// folder syncs a folder of small files into a bucket, from the command line, and again.
func (b *bench) folder(_, _ *elsewhere) error {
	const n = 20_000
	dir := filepath.Join(b.dir, "folder")
	body := make([]byte, small)
	name := func(i int) string { return fmt.Sprintf("%03d/%05d.txt", i%200, i) }
	for i := range n {
		path := filepath.Join(dir, name(i))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		copy(body, fmt.Sprint(i))
		if err := os.WriteFile(path, body, 0o644); err != nil {
			return err
		}
	}
	if _, err := b.cli("bucket", "create", "folders"); err != nil {
		return err
	}
	here, err := client.New("http://"+b.wire, "fenn", cred)
	if err != nil {
		return err
	}
	start := time.Now()
	if err := sideBySide(n, func(i int) error {
		in, err := os.Open(filepath.Join(dir, name(i)))
		if err != nil {
			return err
		}
		defer in.Close()
		_, err = here.Put(context.Background(), "folders", "direct/"+name(i), in, small, client.Put{})
		return err
	}); err != nil {
		return err
	}
	direct := time.Since(start)
	var times [2]time.Duration
	for i := range times {
		start := time.Now()
		if _, err := b.cli("sync", dir, "folders/synced/", "--parallel", fmt.Sprint(clients)); err != nil {
			return err
		}
		times[i] = time.Since(start)
	}
	b.row("sync of a folder, 20,000 files of 4 KiB", fmt.Sprintf("%.0f/s", n/times[0].Seconds()),
		fmt.Sprintf("%.2f of direct puts, %d side by side (%.0f/s)", direct.Seconds()/times[0].Seconds(), clients,
			n/direct.Seconds()), "0.8")
	b.row("the same again, nothing changed", fmt.Sprintf("%.2f s", times[1].Seconds()),
		fmt.Sprintf("1/%.0f of the first time", times[0].Seconds()/times[1].Seconds()), "1/20")
	return os.RemoveAll(dir)
}

// synced runs a job to its end, and gives how long that took.
func (b *bench) synced(job, from, to string, flags ...string) (time.Duration, error) {
	if _, err := b.cli(append([]string{"sync", "create", job, from, to}, flags...)...); err != nil {
		return 0, err
	}
	start := time.Now()
	out, err := b.cli("sync", "run", job)
	if err == nil && !bytes.Contains(out, []byte(`"state":"done"`)) {
		err = fmt.Errorf("the run of %s: %s", job, out)
	}
	return time.Since(start), err
}

// between syncs large objects from one endpoint to another.
func (b *bench) between(left, right *elsewhere) error {
	ctx := context.Background()
	src, err := b.source("large", gib)
	if err != nil {
		return err
	}
	for _, x := range []struct {
		at      *elsewhere
		buckets []string
	}{{left, []string{"large"}}, {right, []string{"large", "piped"}}} {
		for _, bucket := range x.buckets {
			if err := x.at.client.CreateBucket(ctx, bucket); err != nil {
				return err
			}
		}
	}
	for _, key := range []string{"one", "two"} {
		in, err := os.Open(src)
		if err != nil {
			return err
		}
		_, err = left.client.Put(ctx, "large", key, in, gib, client.Put{})
		in.Close()
		if err != nil {
			return err
		}
	}
	start := time.Now()
	for _, key := range []string{"one", "two"} {
		o, err := left.client.Get(ctx, "large", key, "", 0, "")
		if err != nil {
			return err
		}
		_, err = right.client.Put(ctx, "piped", key, io.LimitReader(o.Body, gib), gib, client.Put{})
		o.Body.Close()
		if err != nil {
			return err
		}
	}
	piped := time.Since(start)
	took, err := b.synced("between", "@left/large", "@right/large", "--parallel", "1")
	if err != nil {
		return err
	}
	b.row("sync of 1 GiB objects between endpoints", rate(2*gib, took), fmt.Sprintf("%.2f of a plain get and put (%s)",
		piped.Seconds()/took.Seconds(), rate(2*gib, piped)), "0.7")
	return nil
}

// sealedSync compares syncs to an endpoint with sealed ones, of small and of large objects.
func (b *bench) sealedSync(_, right *elsewhere) error {
	const n = 5000
	here, err := client.New("http://"+b.wire, "fenn", cred)
	if err != nil {
		return err
	}
	src, err := b.source("large", gib)
	if err != nil {
		return err
	}
	words := filepath.Join(b.dir, "words")
	if err := os.WriteFile(words, []byte("measured with a passphrase\n"), 0o600); err != nil {
		return err
	}
	for _, bucket := range []string{"to-seal", "to-seal-large"} {
		if _, err := b.cli("bucket", "create", bucket); err != nil {
			return err
		}
		if err := right.client.CreateBucket(context.Background(), bucket); err != nil {
			return err
		}
	}
	body := bytes.Repeat([]byte("x"), small)
	if err := sideBySide(n, func(i int) error {
		_, err := here.Put(context.Background(), "to-seal", fmt.Sprintf("%06d", i), bytes.NewReader(body), small,
			client.Put{})
		return err
	}); err != nil {
		return err
	}
	if err := b.putFile(src, "/to-seal-large/one", gib); err != nil {
		return err
	}
	for _, x := range []struct {
		what, bucket, per string
	}{{"of 4 KiB objects", "to-seal", "/s"}, {"of a 1 GiB object", "to-seal-large", ""}} {
		plain, err := b.synced(x.bucket+"-plain", x.bucket, "@right/"+x.bucket+"/plain/", "--parallel", fmt.Sprint(clients))
		if err != nil {
			return err
		}
		sealed, err := b.synced(x.bucket+"-sealed", x.bucket, "@right/"+x.bucket+"/sealed/", "--parallel",
			fmt.Sprint(clients),
			"--sealing", "names", "--passphrase-from", words, "--yes")
		if err != nil {
			return err
		}
		got, was := rate(gib, sealed), rate(gib, plain)
		if x.per != "" {
			got, was = fmt.Sprintf("%.0f/s", n/sealed.Seconds()), fmt.Sprintf("%.0f/s", n/plain.Seconds())
		}
		b.row("sealed sync "+x.what, got, fmt.Sprintf("%.2f of a plain one (%s)", plain.Seconds()/sealed.Seconds(), was),
			"0.6")
	}
	return nil
}
