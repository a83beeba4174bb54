package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"spindle/internal/api"
)

const mib = 1 << 20

// pieces measures bodies of 64 MiB in 4+2 pieces against plain ones, what becomes of reads and
// writes while two of six volumes are lost, and how fast a lost volume is made anew.
func (b *bench) pieces() error {
	var volumes []string
	args := []string{"tier", "add", "press", "--pieces", "4+2"}
	for i := range 6 {
		volumes = append(volumes, filepath.Join(b.dir, fmt.Sprint("press-", i)))
		args = append(args, "--volume", volumes[i])
	}
	if _, err := b.cli(args...); err != nil {
		return err
	}
	if _, err := b.cli("bucket", "create", "pieced", "--tier", "press"); err != nil {
		return err
	}
	if _, err := b.cli("bucket", "create", "plain-ones"); err != nil {
		return err
	}
	if err := b.piecesAgainstPlain(); err != nil {
		return err
	}
	if err := b.losingVolumes(volumes); err != nil {
		return err
	}
	return b.repairing(volumes)
}

func (b *bench) piecesAgainstPlain() error {
	src, err := b.source("middle", 64*mib)
	if err != nil {
		return err
	}
	put := func(bucket string) func() error {
		return func() error { return b.putFile(src, "/"+bucket+"/middle", 64*mib) }
	}
	t, err := timed(put("plain-ones"), put("pieced"))
	if err != nil {
		return err
	}
	b.row("put 64 MiB in 4+2 pieces", rate(64*mib, t[1]),
		fmt.Sprintf("%.2f of a plain body (%s)", t[0].Seconds()/t[1].Seconds(), rate(64*mib, t[0])), "0.5")
	get := func(bucket string) func() error {
		return func() error { return getFile(b.wire, "/"+bucket+"/middle", 64*mib, true) }
	}
	if t, err = timed(get("plain-ones"), get("pieced")); err != nil {
		return err
	}
	b.row("get 64 MiB from 4+2 pieces", rate(64*mib, t[1]),
		fmt.Sprintf("%.2f of a plain body (%s)", t[0].Seconds()/t[1].Seconds(), rate(64*mib, t[0])), "0.5")
	return nil
}

// losingVolumes takes two of six volumes away while eight clients write and read, and counts
// what failed and what is lost.
func (b *bench) losingVolumes(volumes []string) error {
	var done, failed, lost atomic.Int64
	var mu sync.Mutex
	var kept []string
	body := bytes.Repeat([]byte("carex limosa "), 20_000)
	read := func(key string) bool {
		c, err := dial(b.wire, true)
		if err != nil {
			return false
		}
		defer c.c.Close()
		st, n, err := c.do(http.MethodGet, key, nil, 0)
		return err == nil && st == 200 && n == int64(len(body))
	}
	stop := make(chan struct{})
	var work sync.WaitGroup
	for i := range 8 {
		work.Go(func() {
			for n := 0; ; n++ {
				select {
				case <-stop:
					return
				default:
				}
				key := fmt.Sprintf("/pieced/load/%d-%d", i, n)
				if st, err := b.request(http.MethodPut, key, bytes.NewReader(body), int64(len(body))); err != nil || st != 200 {
					failed.Add(1)
				} else {
					mu.Lock()
					kept = append(kept, key)
					mu.Unlock()
				}
				done.Add(1)
				mu.Lock()
				some := ""
				if len(kept) > 0 {
					some = kept[len(kept)/2]
				}
				mu.Unlock()
				if some == "" {
					continue
				}
				if !read(some) {
					failed.Add(1)
				}
				done.Add(1)
			}
		})
	}
	for _, v := range []string{volumes[1], volumes[4]} {
		time.Sleep(b.span / 3)
		if err := os.Rename(v, v+".away"); err != nil {
			return err
		}
	}
	time.Sleep(b.span / 3)
	close(stop)
	work.Wait()
	for _, key := range kept {
		if !read(key) {
			lost.Add(1)
		}
	}
	for _, v := range []string{volumes[1], volumes[4]} {
		if err := os.Rename(v+".away", v); err != nil {
			return err
		}
	}
	b.row("two of six volumes lost under load", fmt.Sprintf("%d failed", failed.Load()),
		fmt.Sprintf("of %d puts and gets of 254 KiB; %d of %d bodies lost", done.Load(), lost.Load(), len(kept)), "0, 0")
	return nil
}

// repairing loses a volume with a GiB of bodies for good, and has it made anew on another one.
func (b *bench) repairing(volumes []string) error {
	src, err := b.source("middle", 64*mib)
	if err != nil {
		return err
	}
	for i := range 16 {
		if err := b.putFile(src, fmt.Sprint("/pieced/large/", i), 64*mib); err != nil {
			return err
		}
	}
	if err := b.paid(); err != nil {
		return err
	}
	if err := os.RemoveAll(volumes[2]); err != nil {
		return err
	}
	began := time.Now()
	if _, err := b.cli("tier", "change", "press", "--without", volumes[2], "--volume",
		filepath.Join(b.dir, "press-new")); err != nil {
		return err
	}
	t, err := b.repaired()
	if err != nil {
		return err
	}
	took := time.Since(began)
	disk, err := timed(func() error { return copyFile(src, filepath.Join(b.dir, "copy")) })
	if err != nil {
		return err
	}
	b.row("repair of a lost volume of six", rate(t.Repair.Bytes, took),
		fmt.Sprintf("bytes of bodies; %.2f of a synced copy (%s)", float64(t.Repair.Bytes)/took.Seconds()*disk[0].Seconds()/
			(64*mib), rate(64*mib, disk[0])), "100 MiB/s or 0.5")
	return nil
}

func (b *bench) press() (t api.TierInfo, err error) {
	out, err := b.cli("tier", "show", "press")
	if err != nil {
		return t, err
	}
	return t, json.Unmarshal(out, &t)
}

// paid waits until nothing is owed.
func (b *bench) paid() error {
	for {
		t, err := b.press()
		if err != nil || t.Owed == 0 {
			return err
		}
		time.Sleep(200 * time.Millisecond)
	}
}

func (b *bench) repaired() (api.TierInfo, error) {
	for {
		t, err := b.press()
		if err != nil || t.Repair != nil && t.Repair.Finished != nil {
			return t, err
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// charters compares a charter of 1,000 buckets with ten rules each against what is there.
func (b *bench) charters() error {
	var text strings.Builder
	text.WriteString("charter: many\nbuckets:\n")
	for i := range 1000 {
		fmt.Fprintf(&text, "  drawer-%04d:\n    versioning: on\n    rules:\n", i)
		for r := range 10 {
			fmt.Fprintf(&text, "    - {name: rule-%d, scope: {like: [part-%d/*]}, actions: [{of: previous, do: remove, days: %d}]}\n",
				r, r, 30+r)
		}
	}
	file := filepath.Join(b.dir, "many.yaml")
	if err := os.WriteFile(file, []byte(text.String()), 0o600); err != nil {
		return err
	}
	if _, err := b.cli("charter", "enact", file, "--yes"); err != nil {
		return err
	}
	t, err := timed(func() error {
		_, err := b.cli("charter", "compare", file)
		return err
	})
	if err != nil {
		return err
	}
	b.row("compare a charter of 1,000 buckets, 10,000 rules", fmt.Sprintf("%.2f s", t[0].Seconds()), "by the command line",
		"2 s")
	return nil
}
