package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/lifecycle"
)

// cli runs the command line against the service and gives what it prints.
func (b *bench) cli(args ...string) ([]byte, error) {
	cmd := exec.Command("bin/spindle", append([]string{"--json"}, args...)...)
	cmd.Env = append(os.Environ(), "SPINDLE_URL=http://"+b.desk, "SPINDLE_KEY="+cred.ID, "SPINDLE_SECRET="+cred.Secret)
	var errs bytes.Buffer
	cmd.Stderr = &errs
	out, err := cmd.Output()
	if err != nil {
		return nil, fmt.Errorf("%v: %w: %s", args, err, errs.String())
	}
	return out, nil
}

// aged makes a bucket of n keys, written evenly over a thousand days, with their
// entries of the journal when they are wanted.
func (b *bench) aged(bucket string, n int, journal bool) (id int64, err error) {
	if st, err := b.request(http.MethodPut, "/"+bucket, nil, 0); err != nil || st != 200 {
		return 0, fmt.Errorf("creating a bucket: %d, %v", st, err)
	}
	if _, err := b.db.Exec(`insert into heads (bucket, key, created, size, md5, crc64, body_file, body_offset, content_type,
			written_by, plain, tags)
		select b.id, convert_to('plates/' || lpad((i % 1000)::text, 4, '0') || '/' || lpad(i::text, 9, '0') || case when i % 5 = 0
			then '.txt' else '.tif' end, 'UTF8'), now() - i * (interval '1000 days' / $2::int), 4096, decode(md5(i::text), 'hex'), i,
			0, -1, 'image/tiff', 'bench', true, case when i % 4 = 0 then '{"checked": "yes"}'::jsonb end
		from buckets b, generate_series(1, $2::int) i where b.name = $1 and b.removed is null`, bucket, n); err != nil {
		return 0, err
	}
	if err := b.db.QueryRow(`select id from buckets where name = $1 and removed is null`, bucket).Scan(&id); err != nil {
		return 0, err
	}
	if _, err := b.db.Exec(`insert into usage_now (bucket, objects, bytes) select bucket, count(*), sum(size) from heads
		where bucket = $1 group by 1 on conflict (bucket) do update set objects = excluded.objects, bytes = excluded.bytes`,
		id); err != nil || !journal {
		return id, err
	}
	if _, err := b.db.Exec(`select journal_partition(now() - m * interval '1 month') from generate_series(0, 34) m`); err != nil {
		return 0, err
	}
	if _, err = b.db.Exec(`insert into journal (at, kind, bucket, key, number, size, d_objects, d_bytes, who)
		select created, 1, bucket, key, number, size, 1, size, 'bench' from heads where bucket = $1 order by created`, id); err != nil {
		return 0, err
	}
	// What usage would have read long ago.
	_, err = b.db.Exec(`update followers set xid = j.xid, seq = j.seq from (select xid, seq from journal order by xid desc, seq desc
		limit 1) j where name = 'usage'`)
	return id, err
}

var benchRules = `rules:
- {name: a, scope: {like: ['*.tif']}, actions: [{of: current, do: move, to: cold, days: 180}]}
- {name: b, scope: {prefix: plates/00}, actions: [{of: current, do: remove, days: 700}]}
- {name: c, scope: {tags: {checked: 'yes'}}, actions: [{of: current, do: move, to: cold, days: 90}]}
- {name: d, scope: {leaveOut: ['*/0001/*'], sizeFrom: 1024}, actions: [{of: previous, do: remove, days: 30, keep: 2}]}
- {name: e, scope: {sizeTo: 10000}, actions: [{of: current, do: remove, days: 900}]}
`

func (b *bench) lifecycle() error {
	rules := filepath.Join(b.dir, "rules.yaml")
	if err := os.WriteFile(rules, []byte(benchRules), 0o600); err != nil {
		return err
	}
	if _, err := b.cli("tier", "add", "cold", "--volume", filepath.Join(b.dir, "cold")); err != nil {
		return err
	}
	for _, part := range []func(string) error{b.rehearsal, b.ageing, b.logged} {
		if err := part(rules); err != nil {
			return err
		}
	}
	return nil
}

// rehearsal finds what is due among few and among a million objects, and works out what
// five rules would do to those.
func (b *bench) rehearsal(rules string) error {
	few, err := b.aged("aged-few", 10_000, true)
	if err != nil {
		return err
	}
	fewer, m, err := b.due(few, 100*lifecycle.Day)
	if err != nil {
		return err
	}
	many, err := b.aged("aged", 1_000_000, true)
	if err != nil {
		return err
	}
	more, n, err := b.due(many, lifecycle.Day)
	if err != nil {
		return err
	}
	b.row(fmt.Sprintf("find %d due among 1,000,000", n), fmt.Sprintf("%.1f ms", float64(more.Microseconds())/1000),
		fmt.Sprintf("%.2f of %d among 10,000 (%.1f ms)", more.Seconds()/fewer.Seconds(), m,
			float64(fewer.Microseconds())/1000),
		"at most 1.5")
	if _, err := b.db.Exec("vacuum analyze heads"); err != nil {
		return err
	}
	pid := b.service.Process.Pid
	if err := os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", pid), []byte("5"), 0); err != nil {
		return err
	}
	var took []time.Duration
	for range 3 {
		start := time.Now()
		if _, err := b.cli("lifecycle", "rehearse", "aged", "--rule", rules); err != nil {
			return err
		}
		took = append(took, time.Since(start))
	}
	peak, err := peakMemory(pid)
	if err != nil {
		return err
	}
	slices.Sort(took)
	b.row("rehearsal of five rules, 1,000,000 objects", fmt.Sprintf("%.1f s", took[1].Seconds()),
		fmt.Sprintf("the service's memory at most %d MiB", peak>>20), "3 s, 100 MiB")
	return nil
}

// due finds a thousand versions that have come to be due, of a bucket with so many in a
// journal that has no others, and gives how long that takes.
func (b *bench) due(bucket int64, window time.Duration) (time.Duration, int, error) {
	ctx := context.Background()
	if _, err := b.db.Exec("vacuum analyze journal"); err != nil {
		return 0, 0, err
	}
	c, err := catalog.Open(ctx, b.database)
	if err != nil {
		return 0, 0, err
	}
	defer c.Close()
	end, err := c.JournalEnd(ctx)
	if err != nil {
		return 0, 0, err
	}
	now := time.Now()
	var all []time.Duration
	n := 0
	for range 21 {
		start := time.Now()
		n = 0
		err := c.DueKeys(ctx, catalog.Due{Bucket: bucket, From: now.Add(-window), To: now, Ages: []int{180}, End: end},
			func(keys [][]byte) error { n += len(keys); return nil })
		if err != nil {
			return 0, 0, err
		}
		all = append(all, time.Since(start))
	}
	slices.Sort(all)
	return all[10], n, nil
}

// run has the rules of a bucket act, and gives how many versions a second they acted on.
func (b *bench) run(bucket string) (float64, error) {
	start := time.Now()
	out, err := b.cli("lifecycle", "run", "start", bucket)
	if err != nil {
		return 0, err
	}
	var r api.RunInfo
	if err := json.Unmarshal(out, &r); err != nil {
		return 0, err
	}
	var n int64
	for _, c := range r.Counts {
		n += c.Objects
	}
	if r.State != "done" || n == 0 {
		return 0, fmt.Errorf("the run is %s with %d objects: %s", r.State, n, r.Says)
	}
	return float64(n) / time.Since(start).Seconds(), nil
}

// ageing has rules remove keys, and move small bodies.
func (b *bench) ageing(string) error {
	if _, err := b.aged("removed", 100_000, false); err != nil {
		return err
	}
	if _, err := b.db.Exec("vacuum analyze heads"); err != nil { // as the database does by itself, a little later
		return err
	}
	if _, err := b.cli("lifecycle", "add", "removed", "all", "--remove", "0", "--grace", "1h"); err != nil {
		return err
	}
	rate, err := b.run("removed")
	if err != nil {
		return err
	}
	b.row("rules remove keys, of 100,000 due", fmt.Sprintf("%.0f/s", rate), "", "8000/s")

	if st, err := b.request(http.MethodPut, "/moved", nil, 0); err != nil || st != 200 {
		return fmt.Errorf("creating a bucket: %d, %v", st, err)
	}
	cs, err := b.conns(b.wire, true)
	if err != nil {
		return err
	}
	body := bytes.Repeat([]byte("x"), small)
	put, err := b.perSecond(func(w, i int) error {
		st, _, err := cs[w].do(http.MethodPut, fmt.Sprintf("/moved/%02d-%06d", w, i), bytes.NewReader(body), small)
		if err == nil && st != 200 {
			err = fmt.Errorf("put: status %d", st)
		}
		return err
	})
	if err != nil {
		return err
	}
	if _, err := b.cli("lifecycle", "add", "moved", "all", "--move", "cold=0", "--grace", "1h"); err != nil {
		return err
	}
	if rate, err = b.run("moved"); err != nil {
		return err
	}
	b.row("rules move bodies of 4 KiB", fmt.Sprintf("%.0f/s", rate),
		fmt.Sprintf("%.2f of puts (%.0f/s)", rate/put, put), "0.5")
	return nil
}

// logged compares what a put writes to the database's log in a bucket with rules and in
// one without.
func (b *bench) logged(string) error {
	c, err := dial(b.wire, true)
	if err != nil {
		return err
	}
	defer c.c.Close()
	per := map[string]float64{}
	for _, bucket := range []string{"plain-log", "ruled-log"} {
		if st, err := b.request(http.MethodPut, "/"+bucket, nil, 0); err != nil || st != 200 {
			return fmt.Errorf("creating a bucket: %d, %v", st, err)
		}
	}
	if _, err := b.cli("lifecycle", "add", "ruled-log", "all", "--move", "cold=30", "--remove", "900", "--grace",
		"none"); err != nil {
		return err
	}
	// What counts is what a put writes, not when a page is first touched after a checkpoint.
	if _, err := b.db.Exec(`alter system set full_page_writes = off`); err != nil {
		return err
	}
	if _, err := b.db.Exec(`select pg_reload_conf()`); err != nil {
		return err
	}
	const n = 3000
	const rounds = 4
	for round := range rounds {
		turn := []string{"plain-log", "ruled-log"}
		if round%2 == 1 { // what comes first writes whole pages to the log
			slices.Reverse(turn)
		}
		for _, bucket := range turn {
			var wrote float64
			var before string
			if err := b.db.QueryRow(`select pg_current_wal_insert_lsn()::text`).Scan(&before); err != nil {
				return err
			}
			for i := range n {
				st, _, err := c.do(http.MethodPut, fmt.Sprintf("/%s/%d-%06d", bucket, round, i), bytes.NewReader(make([]byte,
					64)), 64)
				if err != nil || st != 200 {
					return fmt.Errorf("put: %d, %v", st, err)
				}
			}
			if err := b.db.QueryRow(`select pg_wal_lsn_diff(pg_current_wal_insert_lsn(), $1::pg_lsn)`,
				before).Scan(&wrote); err != nil {
				return err
			}
			per[bucket] += wrote / n / rounds
		}
	}
	b.row("log of a put in a bucket with rules", fmt.Sprintf("%.0f bytes", per["ruled-log"]),
		fmt.Sprintf("%.2f of one without (%.0f)", per["ruled-log"]/per["plain-log"], per["plain-log"]), "1.05")
	return nil
}
