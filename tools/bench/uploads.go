package main

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// uploads measures large files in parts, sent by the command line as people use
// it, against a plain put and a synced copy of the same file.
func (b *bench) uploads() error {
	const size = 4 * gib
	src, err := b.source("four", size)
	if err != nil {
		return err
	}
	var peak int64
	parts := func() error {
		cmd := exec.Command("bin/spindle", "object", "put", src, "bench/parts", "--parallel", "4")
		cmd.Env = append(os.Environ(), "SPINDLE_URL=http://"+b.desk, "SPINDLE_KEY="+cred.ID, "SPINDLE_SECRET="+cred.Secret,
			"HOME="+b.dir)
		var out bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &out
		if err := cmd.Start(); err != nil {
			return err
		}
		peak = max(peak, watched(cmd))
		if err := cmd.Wait(); err != nil {
			return fmt.Errorf("%w: %s", err, out.String())
		}
		return nil
	}
	plain := func() error { return b.putFile(src, "/bench/plain", size) }
	copied := filepath.Join(b.dir, "copy")
	var t [3]time.Duration
	for range 3 { // the best of three, in turns
		for k, f := range []func() error{parts, plain, func() error { return copyFile(src, copied) }} {
			start := time.Now()
			if err := f(); err != nil {
				return err
			}
			if d := time.Since(start); t[k] == 0 || d < t[k] {
				t[k] = d
			}
		}
	}
	b.row("put 4 GiB in parts, 4 side by side", rate(size, t[0]),
		fmt.Sprintf("%.2f of a plain put (%s)", t[1].Seconds()/t[0].Seconds(), rate(size, t[1])), "1")
	b.row("", "", fmt.Sprintf("%.2f of a synced copy (%s)", t[2].Seconds()/t[0].Seconds(), rate(size, t[2])), "0.6")
	b.row("memory of the command line doing it", fmt.Sprintf("%d MiB", peak>>20), "", "at most 150 MiB")
	if err := errors.Join(os.Remove(copied), os.Remove(src)); err != nil {
		return err
	}
	return b.complete()
}

// watched gives the most memory that a process was seen with until it ended. What the system tells
// of a process that ended has that of the one that started it in it.
func watched(cmd *exec.Cmd) (peak int64) {
	for {
		var info unix.Siginfo
		if err := unix.Waitid(unix.P_PID, cmd.Process.Pid, &info, unix.WEXITED|unix.WNOHANG|unix.WNOWAIT, nil); err != nil ||
			info.Signo != 0 {
			return peak
		}
		if now, err := peakMemory(cmd.Process.Pid); err == nil {
			peak = max(peak, now)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// complete measures completing an upload of 10,000 parts, whose records are made
// by the database alone.
func (b *bench) complete() error {
	c, err := dial(b.wire, true)
	if err != nil {
		return err
	}
	defer c.c.Close()
	if st, _, err := c.do(http.MethodPost, "/bench/many?uploads=", nil, 0); err != nil || st != 200 {
		return fmt.Errorf("starting an upload: %d, %v", st, err)
	}
	var id string
	if err := b.db.QueryRow(`insert into parts (upload, number, size, md5, crc64, tier, body_file, body_offset, at, who)
		select u.seq, n, 5242880, decode(md5(n::text), 'hex'), n, 0, 0, 0, now(), 'bench' from uploads u, generate_series(1, 10000) n where u.state = 0 returning (select id from uploads where state = 0)`).Scan(&id); err != nil {
		return err
	}
	rows, err := b.db.Query(
		`select p.number, encode(p.md5, 'hex') from parts p join uploads u on u.seq = p.upload where u.id = $1 order by p.number`, id)
	if err != nil {
		return err
	}
	var doc strings.Builder
	doc.WriteString("<CompleteMultipartUpload>")
	for rows.Next() {
		var n int
		var etag string
		if err := rows.Scan(&n, &etag); err != nil {
			return err
		}
		fmt.Fprintf(&doc, "<Part><PartNumber>%d</PartNumber><ETag>%s</ETag></Part>", n, etag)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	doc.WriteString("</CompleteMultipartUpload>")
	start := time.Now()
	st, _, err := c.do(http.MethodPost, "/bench/many?uploadId="+id, strings.NewReader(doc.String()), int64(doc.Len()))
	took := time.Since(start)
	if err != nil || st != 200 {
		return fmt.Errorf("completing: %d, %v", st, err)
	}
	start = time.Now()
	if st, _, err := c.do(http.MethodPut, "/bench/one",
		io.LimitReader(strings.NewReader(strings.Repeat("x", small)), small), small); err != nil || st != 200 {
		return fmt.Errorf("a plain put: %d, %v", st, err)
	}
	b.row("complete an upload of 10,000 parts", ms(took),
		fmt.Sprintf("a plain put of 4 KiB takes %s", ms(time.Since(start))), "at most 1 s")
	return nil
}
