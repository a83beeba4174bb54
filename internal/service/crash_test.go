package service_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

// entry is what a worker knows of a key of its own: the write that was
// acknowledged last (0: not there) and those that may or may not have happened.
type entry struct {
	acked int
	maybe []int
	kept  []keptVersion // acknowledged, where versions are kept
}

type keptVersion struct {
	version string
	n       int
}

func content(key string, n int) []byte {
	r := rand.New(rand.NewPCG(uint64(n), uint64(len(key))))
	size := []int{0, 40, 4096, 60_000, 200_000, 700_000}[n%6]
	b := make([]byte, size)
	for i := 0; i < len(b); i += 8 {
		v := r.Uint64()
		for j := i; j < min(i+8, len(b)); j++ {
			b[j] = byte(v)
			v >>= 8
		}
	}
	return append(b, fmt.Sprintf("%s %d", key, n)...)
}

func size(key string, n int) int64 { return int64(len(content(key, n))) }

// worker writes, replaces and removes its own keys until ctx ends.
func worker(ctx context.Context, c *client.Client, id int, seq *atomic.Int64, ledger map[string]*entry, r *rand.Rand,
	acks *atomic.Int64) {
	for ctx.Err() == nil {
		key := fmt.Sprintf("w%d/%02d", id, r.IntN(25))
		e := ledger[key]
		if e == nil {
			e = &entry{}
			ledger[key] = e
		}
		n := 0
		var err error
		var info client.Info
		if r.IntN(4) == 0 {
			err = c.Remove(ctx, bucketOf(key), key)
		} else {
			n = int(seq.Add(1))
			body := content(key, n)
			info, err = c.Put(ctx, bucketOf(key), key, bytes.NewReader(body), int64(len(body)), client.Put{})
		}
		if err != nil {
			e.maybe = append(e.maybe, n)
			time.Sleep(5 * time.Millisecond)
			continue
		}
		acks.Add(1)
		e.acked, e.maybe = n, nil
		if info.Version != "" {
			e.kept = append(e.kept, keptVersion{info.Version, n})
		}
	}
}

// bucketOf gives the bucket of a key: every other worker writes where versions
// are kept.
func bucketOf(key string) string {
	if key[1]%2 == 1 {
		return "kept"
	}
	return "ledger"
}

// check reads a key back: it must hold the write that was acknowledged last or
// one whose answer never came, whole.
func check(c *client.Client, key string, e *entry) error {
	o, err := c.Get(context.Background(), bucketOf(key), key, "", 0, "")
	for end := time.Now().Add(time.Minute); fault.KindOf(err) == fault.Unavailable && time.Now().Before(end); {
		time.Sleep(time.Second) // as whoever is told to come again does
		o, err = c.Get(context.Background(), bucketOf(key), key, "", 0, "")
	}
	found := -1
	switch {
	case fault.HasCode(err, "key-missing"):
		found = 0
	case err != nil:
		return fmt.Errorf("%s cannot be read: %w", key, err)
	default:
		b, err := io.ReadAll(o.Body)
		o.Body.Close()
		if err != nil {
			return fmt.Errorf("%s breaks off: %w", key, err)
		}
		text := string(b[max(0, len(b)-30):])
		if i := strings.LastIndex(text, key+" "); i >= 0 {
			if found, err = strconv.Atoi(text[i+len(key)+1:]); err != nil {
				return fmt.Errorf("%s holds something else: %q", key, text)
			}
		}
		if found <= 0 || !bytes.Equal(b, content(key, found)) {
			return fmt.Errorf("%s holds neither of its writes whole: %d bytes, %q", key, len(b), text)
		}
	}
	for _, n := range append(e.maybe, e.acked) {
		if n == found {
			e.acked, e.maybe = found, nil
			return nil
		}
	}
	return fmt.Errorf("%s holds write %d; acknowledged was %d, open were %v", key, found, e.acked, e.maybe)
}

// agree compares catalog, usage and bodies with the ledgers.
func (p *process) agree(ledgers []map[string]*entry) {
	p.t.Helper()
	for _, bucket := range []string{"ledger", "kept"} {
		p.agreeOn(bucket, ledgers)
	}
	// Every version that was acknowledged is there, whole.
	c := p.client()
	n := 0
	for _, l := range ledgers {
		for key, e := range l {
			for _, k := range e.kept {
				o, err := c.Get(p.t.Context(), bucketOf(key), key, k.version, 0, "")
				if err != nil {
					p.t.Fatalf("version %s of %s: %v", k.version, key, err)
				}
				b, err := io.ReadAll(o.Body)
				o.Body.Close()
				if err != nil || !bytes.Equal(b, content(key, k.n)) {
					p.t.Fatalf("version %s of %s holds %d other bytes, %v", k.version, key, len(b), err)
				}
				n++
			}
		}
	}
	p.t.Logf("%d acknowledged versions, all there", n)
}

func (p *process) agreeOn(bucket string, ledgers []map[string]*entry) {
	p.t.Helper()
	c := p.client()
	want, bytes := 0, int64(0)
	for _, l := range ledgers {
		for key, e := range l {
			if e.acked > 0 && bucketOf(key) == bucket {
				want++
				bytes += size(key, e.acked)
			}
		}
	}
	listed := 0
	for next := ""; ; {
		page, err := c.List(p.t.Context(), bucket, "", "", next, 1000)
		if err != nil {
			p.t.Fatal(err)
		}
		listed += len(page.Objects)
		if next = page.Next; next == "" {
			break
		}
	}
	if listed != want {
		p.t.Errorf("%s: %d objects are listed, %d were acknowledged", bucket, listed, want)
	}
	r, err := http.NewRequest("GET", p.desk+"/api/v1/buckets/"+bucket, nil)
	if err != nil {
		p.t.Fatal(err)
	}
	sign.SignDesk(r, sign.Credential{ID: ownerKey, Secret: ownerSecret}, "fenn", sign.EmptyHash, time.Now())
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		p.t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if usage := fmt.Sprintf(`"objects":%d,"bytes":%d`, want, bytes); err != nil || !strings.Contains(string(b), usage) {
		p.t.Errorf("usage is not %s: %s, %v", usage, b, err)
	}
}
