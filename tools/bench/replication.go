package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/replication"
	"spindle/internal/standin"
	"spindle/internal/standin/hold"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

const standinSecret = "measured-at-a-stand-in"

// elsewhere is a stand-in in this process, with when each object came there.
type elsewhere struct {
	*standin.Standin
	client *client.Client
	came   sync.Map // key -> time.Time
	count  atomic.Int64
}

func (b *bench) standin(name string, f standin.Faults) (*elsewhere, error) {
	e := &elsewhere{}
	var err error
	e.Standin, err = standin.Start(standin.Settings{Dir: filepath.Join(b.dir, name),
		Keys: map[string]string{"BENCH": standinSecret},
		Heard: func(_, key string) {
			e.came.LoadOrStore(key, time.Now())
			e.count.Add(1)
		}})
	if err != nil {
		return nil, err
	}
	secret := filepath.Join(b.dir, "standin.secret")
	if err := os.WriteFile(secret, []byte(standinSecret), 0o600); err != nil {
		return nil, err
	}
	if _, err := b.cli("endpoint", "add", name, "--url", e.URL, "--key", "BENCH", "--secret-from", secret); err != nil {
		return nil, err
	}
	if e.client, err = client.New(e.URL, "fenn", sign.Credential{ID: "BENCH", Secret: standinSecret}); err != nil {
		return nil, err
	}
	return e, e.Set(f)
}

func (b *bench) replication() error {
	near, err := b.standin("near", standin.Faults{})
	if err != nil {
		return err
	}
	defer near.Stop()
	dead, err := b.standin("dead", standin.Faults{})
	if err != nil {
		return err
	}
	defer dead.Stop()
	parts := []func(near, dead *elsewhere) error{b.lag, b.putsBesideRules, b.backfills, b.deadBeside, b.claims, b.verified,
		b.backfillLarge}
	for _, part := range parts {
		if err := part(near, dead); err != nil {
			return err
		}
	}
	return nil
}

// watched makes a bucket that keeps versions, with a rule when there are targets.
func (b *bench) watched(bucket string, existing string, targets ...string) error {
	if _, err := b.cli("bucket", "create", bucket, "--versioning", "on"); err != nil || len(targets) == 0 {
		return err
	}
	return b.rule(bucket, existing, targets...)
}

func (b *bench) rule(bucket, existing string, targets ...string) error {
	args := []string{"replication", "add", bucket, "--from", bucket, "--existing", existing, "--mend"}
	for _, t := range targets {
		args = append(args, "--to", t)
	}
	_, err := b.cli(args...)
	return err
}

// lag puts 200 objects a second for a while and says when each is at the stand-in.
func (b *bench) lag(near, _ *elsewhere) error {
	if err := b.watched("lagging", "leave", "@near/lagging"); err != nil {
		return err
	}
	time.Sleep(2 * time.Second) // the rule is known everywhere
	const perSecond, workers = 200, 8
	span := 20 * b.span
	n := int(span.Seconds()) * perSecond
	put := make([]time.Time, n)
	body := bytes.Repeat([]byte("x"), small)
	begun := time.Now()
	var next atomic.Int64
	errs := make(chan error, workers)
	for range workers {
		go func() {
			c, err := dial(b.wire, true)
			if err != nil {
				errs <- err
				return
			}
			defer c.c.Close()
			for i := next.Add(1) - 1; int(i) < n; i = next.Add(1) - 1 {
				time.Sleep(time.Until(begun.Add(time.Duration(i) * time.Second / perSecond)))
				st, _, err := c.do(http.MethodPut, fmt.Sprintf("/lagging/%06d", i), bytes.NewReader(body), small)
				if err != nil || st != 200 {
					errs <- fmt.Errorf("put: %d, %w", st, err)
					return
				}
				put[i] = time.Now()
			}
			errs <- nil
		}()
	}
	for range workers {
		if err := <-errs; err != nil {
			return err
		}
	}
	var lags []time.Duration
	for i := range n {
		key := fmt.Sprintf("%06d", i)
		for end := time.Now().Add(30 * time.Second); ; time.Sleep(5 * time.Millisecond) {
			if at, ok := near.came.Load(key); ok {
				lags = append(lags, max(0, at.(time.Time).Sub(put[i])))
				break
			}
			if time.Now().After(end) {
				return fmt.Errorf("%s never came", key)
			}
		}
	}
	slices.Sort(lags)
	at := func(share float64) time.Duration { return lags[min(len(lags)-1, int(share*float64(len(lags))))] }
	b.row(fmt.Sprintf("200 puts/s of 4 KiB for %s, replica there", span), fmt.Sprintf("p50 %d ms", at(.5).Milliseconds()),
		fmt.Sprintf("p99 %d ms, p99.99 %d ms", at(.99).Milliseconds(), at(.9999).Milliseconds()), "0.3 s, 5 s")
	return nil
}

// putsBesideRules compares puts into a bucket with a rule with those into one without.
func (b *bench) putsBesideRules(near, _ *elsewhere) error {
	if err := b.watched("ruled", "leave", "@near/ruled"); err != nil {
		return err
	}
	if err := b.watched("plain", ""); err != nil {
		return err
	}
	plain, ruled, err := b.putsInTurns("plain", "ruled", 3,
		func() error { return b.settled("ruled") }) // what is copied costs nobody else
	if err != nil {
		return err
	}
	b.row("put 4 KiB into a bucket with a rule", fmt.Sprintf("%.0f/s", ruled),
		fmt.Sprintf("%.2f of one without (%.0f/s), the copying beside it", ruled/plain, plain), "0.9")
	return nil
}

// putsInTurns gives the medians of puts into two buckets, in turns; after is done after each
// of the other's.
func (b *bench) putsInTurns(plain, other string, turns int, after func() error) (ofPlain, ofOther float64, err error) {
	var all [2][]float64
	for turn := range turns {
		for k, bucket := range []string{plain, other} {
			rate, err := b.putRate(fmt.Sprintf("/%s/turn-%d-", bucket, turn))
			if err == nil && bucket == other {
				err = after()
			}
			if err != nil {
				return 0, 0, err
			}
			all[k] = append(all[k], rate)
		}
	}
	slices.Sort(all[0])
	slices.Sort(all[1])
	return all[0][turns/2], all[1][turns/2], nil
}

// putRate puts small objects for a while from all clients.
func (b *bench) putRate(prefix string) (float64, error) {
	body := bytes.Repeat([]byte("x"), small)
	var n atomic.Int64
	errs := make(chan error, clients)
	begun := time.Now()
	for k := range clients {
		go func() {
			c, err := dial(b.wire, true)
			if err != nil {
				errs <- err
				return
			}
			defer c.c.Close()
			for i := 0; time.Since(begun) < b.span; i++ {
				st, _, err := c.do(http.MethodPut, fmt.Sprintf("%s%02d-%06d", prefix, k, i), bytes.NewReader(body), small)
				if err != nil || st != 200 {
					errs <- fmt.Errorf("put: %d, %w", st, err)
					return
				}
				n.Add(1)
			}
			errs <- nil
		}()
	}
	for range clients {
		if err := <-errs; err != nil {
			return 0, err
		}
	}
	return float64(n.Load()) / time.Since(begun).Seconds(), nil
}

// settled waits until nothing waits at the targets of a rule.
func (b *bench) settled(rule string) error {
	for end := time.Now().Add(5 * time.Minute); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		waiting, err := b.waiting(rule)
		if err != nil {
			return err
		}
		if waiting == 0 {
			return nil
		}
	}
	return fmt.Errorf("the rule %s never has all copied", rule)
}

func (b *bench) waiting(rule string) (n int64, err error) {
	err = b.db.QueryRow(`select count(*) from replication_targets t join replications r on r.id = t.rule
		left join replicas x on x.target = t.id and x.waiting where r.name = $1 and (x.key is not null or t.backfill = 1)`,
		rule).Scan(&n)
	return n, err
}

// backfills compares backfills with plain puts to the same stand-in, of small and of
// large objects.
func (b *bench) backfills(near, _ *elsewhere) error {
	const n = 10_000
	here, err := client.New("http://"+b.wire, "fenn", cred)
	if err != nil {
		return err
	}
	body := bytes.Repeat([]byte("x"), small)
	putSmall := func(c *client.Client, bucket string) error {
		return sideBySide(n, func(i int) error {
			_, err := c.Put(context.Background(), bucket, fmt.Sprintf("%06d", i), bytes.NewReader(body), small, client.Put{})
			return err
		})
	}
	if err := b.watched("grains", ""); err != nil {
		return err
	}
	if err := near.client.CreateBucket(context.Background(), "direct"); err != nil {
		return err
	}
	if err := putSmall(here, "grains"); err != nil {
		return err
	}
	start := time.Now()
	if err := putSmall(near.client, "direct"); err != nil {
		return err
	}
	direct := time.Since(start)
	filled, err := b.backfill("grains", "@near/grains")
	if err != nil {
		return err
	}
	b.row("backfill of 4 KiB objects", fmt.Sprintf("%.0f/s", n/filled.Seconds()),
		fmt.Sprintf("%.2f of direct puts, 32 side by side (%.0f/s)", direct.Seconds()/filled.Seconds(), n/direct.Seconds()),
		"0.5")
	return nil
}

func (b *bench) backfillLarge(near, _ *elsewhere) error {
	src, err := b.source("large", gib)
	if err != nil {
		return err
	}
	if err := near.client.CreateBucket(context.Background(), "direct-large"); err != nil {
		return err
	}
	if err := b.watched("large", ""); err != nil {
		return err
	}
	if err := b.putFile(src, "/large/one", gib); err != nil {
		return err
	}
	if err := b.putFile(src, "/large/two", gib); err != nil {
		return err
	}
	start := time.Now()
	for _, key := range []string{"large-1", "large-2"} {
		in, err := os.Open(src)
		if err != nil {
			return err
		}
		_, err = near.client.Put(context.Background(), "direct-large", key, in, gib, client.Put{})
		in.Close()
		if err != nil {
			return err
		}
	}
	direct := time.Since(start)
	filled, err := b.backfill("large", "@near/large")
	if err != nil {
		return err
	}
	b.row("backfill of 1 GiB objects", rate(2*gib, filled), fmt.Sprintf("%.2f of plain puts there (%s)",
		direct.Seconds()/filled.Seconds(), rate(2*gib, direct)), "0.7")
	return nil
}

// backfill adds a rule that copies what is there, and gives how long that took.
func (b *bench) backfill(bucket string, targets ...string) (time.Duration, error) {
	if err := b.rule(bucket, "backfill", targets...); err != nil {
		return 0, err
	}
	start := time.Now()
	err := b.settled(bucket)
	return time.Since(start), err
}

// sideBySide does n things, 32 at a time.
func sideBySide(n int, do func(i int) error) error {
	var next atomic.Int64
	errs := make(chan error, clients)
	for range clients {
		go func() {
			for i := next.Add(1) - 1; int(i) < n; i = next.Add(1) - 1 {
				if err := do(int(i)); err != nil {
					errs <- err
					return
				}
			}
			errs <- nil
		}()
	}
	for range clients {
		if err := <-errs; err != nil {
			return err
		}
	}
	return nil
}

// deadBeside compares a backfill with one whose rule copies to a dead endpoint too.
func (b *bench) deadBeside(near, dead *elsewhere) error {
	const n = 5000
	here, err := client.New("http://"+b.wire, "fenn", cred)
	if err != nil {
		return err
	}
	body := bytes.Repeat([]byte("x"), small)
	var took [2]time.Duration
	for k, bucket := range []string{"alone", "beside"} {
		if err := b.watched(bucket, ""); err != nil {
			return err
		}
		if err := sideBySide(n, func(i int) error {
			_, err := here.Put(context.Background(), bucket, fmt.Sprintf("%06d", i), bytes.NewReader(body), small, client.Put{})
			return err
		}); err != nil {
			return err
		}
		targets := []string{"@near/" + bucket}
		if bucket == "beside" {
			targets = append(targets, "@dead/"+bucket)
		}
		if err := b.rule(bucket, "leave", targets...); err != nil {
			return err
		}
		if err := dead.Set(standin.Faults{Away: bucket == "beside"}); err != nil {
			return err
		}
		before := near.count.Load()
		if _, err := b.cli("replication", "backfill", bucket, "--yes"); err != nil {
			return err
		}
		begun := time.Now()
		start := begun // of the first copy: how soon the rule is known does not count
		for near.count.Load() < before+n {
			if near.count.Load() == before {
				start = time.Now()
			}
			if time.Since(begun) > 3*time.Minute {
				return fmt.Errorf("%d of %d came", near.count.Load()-before, n)
			}
			time.Sleep(2 * time.Millisecond)
		}
		took[k] = time.Since(start)
	}
	b.row("copies beside a dead endpoint", fmt.Sprintf("%.0f/s", n/took[1].Seconds()),
		fmt.Sprintf("%.2f of those without (%.0f/s)", took[0].Seconds()/took[1].Seconds(), n/took[0].Seconds()), "0.9")
	_, err = b.cli("replication", "remove", "beside", "--yes")
	return err
}

// claims claims and ends keys that wait, from several at once, and looks that none of a
// key is claimed twice.
func (b *bench) claims(_, _ *elsewhere) error {
	const n, target = 100_000, 1 << 40
	if _, err := b.db.Exec(`insert into replicas (target, key, waiting, seq, since, due) select $1::bigint,
		convert_to(lpad(i::text, 9, '0'), 'UTF8'), true, i, now(), now() from generate_series(1, $2::int) i`, int64(target),
		n); err != nil {
		return err
	}
	if _, err := b.db.Exec("vacuum analyze replicas"); err != nil {
		return err
	}
	c, err := catalog.Open(context.Background(), b.database)
	if err != nil {
		return err
	}
	defer c.Close()
	var done, twice atomic.Int64
	var under sync.Map
	start := time.Now()
	errs := make(chan error, 4)
	for range 4 {
		go func() {
			for {
				tasks, err := c.ClaimReplicas(context.Background(), target, 256, time.Minute)
				if err != nil || len(tasks) == 0 {
					errs <- err
					return
				}
				ended := make([]catalog.ReplicaDone, len(tasks))
				for i, t := range tasks {
					if _, there := under.LoadOrStore(t.Key, true); there {
						twice.Add(1)
					}
					ended[i] = catalog.ReplicaDone{ReplicaTask: t, Have: replication.Have{Number: 1, Revision: 1, ETag: "x"}}
				}
				if err := c.ReplicasDone(context.Background(), target, ended); err != nil {
					errs <- err
					return
				}
				done.Add(int64(len(tasks)))
			}
		}()
	}
	for range 4 {
		if err := <-errs; err != nil {
			return err
		}
	}
	took := time.Since(start)
	if done.Load() != n || twice.Load() > 0 {
		return fmt.Errorf("%d of %d keys were claimed, %d twice", done.Load(), n, twice.Load())
	}
	b.row("keys claimed and ended, 100,000", fmt.Sprintf("%.0f/s", n/took.Seconds()), "none twice", "9000/s")
	_, err = b.db.Exec(`delete from replicas where target = $1`, int64(target))
	return err
}

// verified compares a million objects with a million copies, and reads pages with the
// state of each object.
func (b *bench) verified(near, _ *elsewhere) error {
	const n, bucket = 1_000_000, "compared"
	if err := b.watched(bucket, ""); err != nil {
		return err
	}
	if _, err := b.db.Exec(`insert into heads (bucket, key, created, size, md5, crc64, body_file, body_offset, content_type,
			written_by) select b.id, convert_to('plates/' || lpad((i % 1000)::text, 4, '0') || '/' || lpad(i::text, 9, '0'), 'UTF8'),
			now(), 4096, decode(md5(i::text), 'hex'), i, 0, -1, 'image/tiff', 'bench'
		from buckets b, generate_series(1, $2::int) i where b.name = $1 and b.removed is null`, bucket, n); err != nil {
		return err
	}
	if err := b.rule(bucket, "leave", "@near/"+bucket); err != nil {
		return err
	}
	rows, err := b.db.Query(`insert into replicas (target, key, number, revision, etag, confirmed, waiting)
		select t.id, h.key, h.number, 1, encode(h.md5, 'hex'), now(), false from replication_targets t
		join replications r on r.id = t.rule join heads h on h.bucket = r.bucket where r.name = $1 returning key, etag`, bucket)
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
		if _, err := near.Hold.Put(bucket, key, &hold.Body{Size: 4096, ETag: etag}, hold.Facts{}, hold.Condition{},
			now); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if _, err := b.db.Exec("vacuum analyze heads, replicas"); err != nil {
		return err
	}
	pid := b.service.Process.Pid
	if err := os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", pid), []byte("5"), 0); err != nil {
		return err
	}
	start := time.Now()
	out, err := b.cli("replication", "verify", bucket, "--check")
	if err != nil {
		return err
	}
	took := time.Since(start)
	peak, err := peakMemory(pid)
	if err != nil {
		return err
	}
	if !bytes.Contains(out, []byte(`"objects":1000000`)) {
		return fmt.Errorf("not all was compared: %s", out)
	}
	b.row("verify 1,000,000 objects against 1,000,000", fmt.Sprintf("%.1f s", took.Seconds()),
		fmt.Sprintf("the service's memory at most %d MiB", peak>>20), "60 s, 200 MiB")
	return b.statePages(bucket)
}

func (b *bench) statePages(bucket string) error {
	var all [2][]time.Duration
	for range 21 {
		for k, copies := range []string{"false", "true"} {
			took, err := b.deskPage(bucket, copies)
			if err != nil {
				return err
			}
			all[k] = append(all[k], took)
		}
	}
	slices.Sort(all[0])
	slices.Sort(all[1])
	plain, with := all[0][10], all[1][10]
	b.row("page of 1,000 keys with their states", fmt.Sprintf("%.1f ms", float64(with.Microseconds())/1000),
		fmt.Sprintf("%.1f of the plain page (%.1f ms)", with.Seconds()/plain.Seconds(), float64(plain.Microseconds())/1000),
		"at most 4")
	return nil
}

// deskPage reads a page of a bucket at the desk.
func (b *bench) deskPage(bucket, copies string) (time.Duration, error) {
	r, err := http.NewRequest(http.MethodGet, "http://"+b.desk+"/api/v1/buckets/"+bucket+
		"/objects?after=plates%2F0500&limit=1000&copies="+copies, nil)
	if err != nil {
		return 0, err
	}
	sign.SignDesk(r, cred, "desk", sign.EmptyHash, time.Now())
	start := time.Now()
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	var page struct{ Objects []json.RawMessage }
	if err := json.NewDecoder(resp.Body).Decode(&page); err != nil || len(page.Objects) != 1000 {
		return 0, fmt.Errorf("a page of %d objects, %w", len(page.Objects), err)
	}
	return time.Since(start), nil
}
