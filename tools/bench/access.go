package main

import (
	"bytes"
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"runtime"
	"strings"
	"sync"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/object"
	"spindle/internal/gate"
	"spindle/internal/wire/sign"
)

// grants is how many there are while decisions are measured.
const grants = 10_000

// access measures what deciding costs with many grants: the gate alone, as each
// request asks it, against the time of a 4 KiB get; and gets by a key that reads
// by a grant against gets by the owner's.
func (b *bench) access() error {
	ctx := context.Background()
	if _, err := b.db.ExecContext(ctx,
		`insert into accounts (name) select 'tenant-' || i from generate_series(1, 100) i`); err != nil {
		return err
	}
	for i := range 100 {
		if st, err := b.request(http.MethodPut, fmt.Sprintf("/granted-%02d", i), nil, 0); err != nil || st != 200 {
			return fmt.Errorf("creating a bucket: %d, %v", st, err)
		}
	}
	body := make([]byte, small)
	if st, err := b.request(http.MethodPut, "/granted-00/folder-07/object", bytes.NewReader(body), small); err != nil ||
		st != 200 {
		return fmt.Errorf("putting an object: %d, %v", st, err)
	}
	other, err := b.newKey(ctx, "tenant-7")
	if err != nil {
		return err
	}
	if _, err := b.db.ExecContext(ctx, `insert into grants (bucket, prefix, to_kind, to_name, rights, created_by)
		select b.id, convert_to('folder-' || lpad((i % 50)::text, 2, '0') || '/', 'UTF8'), 1, 'tenant-' || i, 3, 'bench' from buckets b, generate_series(1, $1) i where b.name like 'granted-%'`, grants/100); err != nil {
		return err
	}
	time.Sleep(1500 * time.Millisecond) // the service looks for changes each second
	ours, theirs, err := b.pairOfGets(other)
	if err != nil {
		return err
	}
	r, err := b.turns(ours, theirs)
	if err != nil {
		return err
	}
	cat, err := catalog.Open(ctx, b.database)
	if err != nil {
		return err
	}
	defer cat.Close()
	g := gate.New(cat, nil,
		func(context.Context, object.BucketName) (string, error) { return "bench", nil }, slog.New(slog.DiscardHandler))
	defer g.Stop()
	ask := gate.Ask{Subject: access.Subject{Kind: access.Key, Name: other.ID, Account: "tenant-7", Role: access.Reader},
		Do: access.Read, Bucket: object.MustBucketName("granted-00"), Key: "folder-07/object"}
	if err := g.May(ctx, ask); err != nil {
		return err
	}
	const n = 200_000
	start := time.Now()
	var wg sync.WaitGroup
	errs := make(chan error, 2)
	for range 2 {
		wg.Go(func() {
			for range n {
				if err := g.May(ctx, ask); err != nil {
					errs <- err
					return
				}
			}
		})
	}
	wg.Wait()
	select {
	case err := <-errs:
		return err
	default:
	}
	each := time.Since(start) / (2 * n)
	share := each.Seconds() * r[0] * 100
	b.row(fmt.Sprintf("decide, %d grants", grants), each.String(),
		fmt.Sprintf("%.2f %% of a 4 KiB get (%.0f/s)", share, r[0]), "2 %")
	b.row("get 4 KiB by a grant", fmt.Sprintf("%.0f/s", r[1]), fmt.Sprintf("%.2f of the owner's gets", r[1]/r[0]), "")
	return nil
}

func (b *bench) pairOfGets(other sign.Credential) (ours, theirs func(worker, i int) error, err error) {
	prepare := func(key sign.Credential) (func(worker, i int) error, error) {
		cs, err := b.conns(b.wire, true)
		if err != nil {
			return nil, err
		}
		r, err := http.NewRequest(http.MethodGet, "http://"+b.wire+"/granted-00/folder-07/object", nil)
		if err != nil {
			return nil, err
		}
		sign.Sign(r, key, "fenn", sign.Unsigned, time.Now())
		var head bytes.Buffer
		fmt.Fprintf(&head, "GET %s HTTP/1.1\r\nHost: %s\r\n", r.URL.Path, b.wire)
		for k, v := range r.Header {
			fmt.Fprintf(&head, "%s: %s\r\n", k, v[0])
		}
		head.WriteString("\r\n")
		return func(w, _ int) error {
			st, n, err := cs[w].send(head.Bytes(), nil, 0)
			if err == nil && (st != 200 || n != small) {
				err = fmt.Errorf("status %d, %d bytes", st, n)
			}
			return err
		}, nil
	}
	if ours, err = prepare(cred); err != nil {
		return nil, nil, err
	}
	theirs, err = prepare(other)
	return ours, theirs, err
}

// newKey makes a key of an account at the desk.
func (b *bench) newKey(ctx context.Context, account string) (sign.Credential, error) {
	in, err := json.Marshal(map[string]string{"name": "bench", "account": account})
	if err != nil {
		return sign.Credential{}, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://"+b.desk+"/api/v1/keys", bytes.NewReader(in))
	if err != nil {
		return sign.Credential{}, err
	}
	r.Header.Set("Content-Type", "application/json")
	sum := sha256.Sum256(in)
	sign.SignDesk(r, cred, "desk", hex.EncodeToString(sum[:]), time.Now())
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		return sign.Credential{}, err
	}
	defer resp.Body.Close()
	var out struct {
		Key    struct{ ID string }
		Secret string
	}
	if resp.StatusCode != http.StatusCreated {
		text, _ := io.ReadAll(resp.Body)
		return sign.Credential{}, fmt.Errorf("making a key: %d %s", resp.StatusCode, text)
	}
	err = json.NewDecoder(resp.Body).Decode(&out)
	return sign.Credential{ID: out.Key.ID, Secret: out.Secret}, err
}

// opened compares the time of getting a GiB that is sealed with what the library's cipher opens
// on the cores that are free beside: those that reading, sending and the client do not take.
func (b *bench) opened(took, cost time.Duration) {
	block, err := aes.NewCipher(make([]byte, 32))
	if err != nil {
		return
	}
	aead, err := cipher.NewGCM(block)
	if err != nil {
		return
	}
	const chunk = 64 << 10
	nonce := make([]byte, aead.NonceSize())
	text, plain := aead.Seal(nil, nonce, make([]byte, chunk), nil), make([]byte, 0, chunk)
	start := time.Now()
	for range gib / chunk {
		if _, err := aead.Open(plain, nonce, text, nil); err != nil {
			return
		}
	}
	alone := time.Since(start)
	free := float64(runtime.NumCPU()) - (cost-alone).Seconds()/took.Seconds()
	limit := time.Duration(float64(alone) / free)
	b.row("the same, against the cipher alone", rate(gib, took),
		fmt.Sprintf("%.2f of AES on the %.1f cores free (%s); %.2f s of %.2f s",
			limit.Seconds()/took.Seconds(), free, rate(gib, limit), alone.Seconds(), cost.Seconds()), "0.85")
}

// sealed measures bodies that are encrypted at rest against plain ones.
func (b *bench) sealed() error {
	src, err := b.source("sealed", gib)
	if err != nil {
		return err
	}
	rule := []byte(`<ServerSideEncryptionConfiguration><Rule><ApplyServerSideEncryptionByDefault><SSEAlgorithm>AES256</SSEAlgorithm></ApplyServerSideEncryptionByDefault></Rule></ServerSideEncryptionConfiguration>`)
	for _, x := range []struct {
		path string
		body []byte
	}{{"/sealed", nil}, {"/sealed?encryption=", rule}} {
		if st, err := b.request(http.MethodPut, x.path, bytes.NewReader(x.body), int64(len(x.body))); err != nil ||
			st != 200 {
			return fmt.Errorf("%s: %d, %v", x.path, st, err)
		}
	}
	for _, x := range []struct {
		what string
		do   func(path string) error
	}{
		{"put 1 GiB, sealed", func(path string) error { return b.putFile(src, path, gib) }},
		{"get 1 GiB, sealed", func(path string) error { return getFile(b.wire, path, gib, true) }},
	} {
		var cost time.Duration // of one that is sealed, to the service and to the client
		t, err := timed(func() error { return x.do("/bench/plain") }, func() error {
			s0, _ := b.cpu()
			c0 := own()
			err := x.do("/sealed/large")
			s1, _ := b.cpu()
			cost = s1 - s0 + own() - c0
			return err
		})
		if err != nil {
			return err
		}
		if strings.HasPrefix(x.what, "get") {
			defer b.opened(t[1], cost)
		}
		b.row(x.what, rate(gib, t[1]), fmt.Sprintf("%.2f of plain (%s)", t[0].Seconds()/t[1].Seconds(), rate(gib, t[0])),
			"0.6")
	}
	return os.Remove(src)
}
