package main

import (
	"bytes"
	"context"
	"crypto/md5"
	"encoding/base64"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"
)

// smallBody is what small objects hold.
func smallBody() []byte {
	body := make([]byte, small)
	for i := range body {
		body[i] = byte(i * 7)
	}
	return body
}

// prepared is how many requests are signed beforehand for each client: its work is not what is
// measured.
const prepared = 2500

// heads signs requests for each client's objects, with a query.
func (b *bench) heads(cs []*conn, method, bucket, query string, n int, size int64) (all [clients][][]byte, err error) {
	for w := range clients {
		for i := range n {
			h, err := cs[w].head(method, fmt.Sprintf("/%s/client-%02d/object-%08d%s", bucket, w, i, query), size)
			if err != nil {
				return all, err
			}
			all[w] = append(all[w], h)
		}
	}
	return all, nil
}

// sends sends a request with a body and wants it to succeed.
func sends(c *conn, head, body []byte) error {
	st, _, err := c.send(head, bytes.NewReader(body), int64(len(body)))
	if err == nil && st != 200 {
		err = fmt.Errorf("status %d", st)
	}
	return err
}

// puts compares puts of small objects with raw inserts into the same database, replacing them
// with first puts, and removes many at once.
func (b *bench) puts() error {
	ctx := context.Background()
	if _, err := b.db.ExecContext(ctx, `create table raw (bucket bigint, key bytea, size bigint, etag bytea,
		at timestamptz, primary key (bucket, key))`); err != nil {
		return err
	}
	etag, body := make([]byte, 16), smallBody()
	cs, err := b.conns(b.wire, true)
	if err != nil {
		return err
	}
	heads, err := b.heads(cs, http.MethodPut, "bench", "", prepared, small)
	if err != nil {
		return err
	}
	var inserted, written, replaced [clients]int
	insert := func(w, _ int) error {
		inserted[w]++
		_, err := b.db.ExecContext(ctx, `insert into raw values ($1, $2, $3, $4, $5)`, 1,
			fmt.Appendf(nil, "client-%02d/object-%08d", w, inserted[w]), small, etag, time.Now())
		return err
	}
	put := func(w, _ int) error {
		n := written[w]
		written[w]++
		if n < prepared {
			return sends(cs[w], heads[w][n], body)
		}
		head, err := cs[w].head(http.MethodPut, fmt.Sprintf("/bench/client-%02d/object-%08d", w, n), small)
		if err != nil {
			return err
		}
		return sends(cs[w], head, body)
	}
	for w := range clients { // what is replaced is there
		for range 20 {
			if err := put(w, 0); err != nil {
				return err
			}
		}
	}
	replace := func(w, _ int) error {
		replaced[w]++
		return sends(cs[w], heads[w][replaced[w]%20], body)
	}
	r, cost, err := b.costs(insert, put, replace)
	if err != nil {
		return err
	}
	b.row("put 4 KiB, 32 clients", fmt.Sprintf("%.0f/s", r[1]), fmt.Sprintf("%.2f of raw inserts (%.0f/s, %s); %s",
		r[1]/r[0], r[0], cost[0], cost[1]), "0.55")
	b.row("replace 4 KiB, 32 clients", fmt.Sprintf("%.0f/s", r[2]), fmt.Sprintf("%.2f of a first put; %s", r[2]/r[1],
		cost[2]), "0.8")
	return b.removesMany(cs[0], written[0])
}

// removesMany removes 1,000 keys in one request.
func (b *bench) removesMany(c *conn, written int) error {
	var took []time.Duration
	for from := 20; from+1000 <= written && len(took) < 5; from += 1000 {
		var doc strings.Builder
		doc.WriteString("<Delete><Quiet>true</Quiet>")
		for i := range 1000 {
			fmt.Fprintf(&doc, "<Object><Key>client-00/object-%08d</Key></Object>", from+i)
		}
		doc.WriteString("</Delete>")
		sum := md5.Sum([]byte(doc.String()))
		head, err := c.head(http.MethodPost, "/bench?delete=", int64(doc.Len()))
		if err != nil {
			return err
		}
		head = bytes.TrimSuffix(head, []byte("\r\n"))
		head = fmt.Appendf(head, "Content-MD5: %s\r\n\r\n", base64.StdEncoding.EncodeToString(sum[:]))
		begun := time.Now()
		if err := sends(c, head, []byte(doc.String())); err != nil {
			return fmt.Errorf("removing many: %w", err)
		}
		took = append(took, time.Since(begun))
	}
	if len(took) == 0 {
		return nil
	}
	b.row("remove 1,000 keys in one request", fmt.Sprintf("%.0f ms", middle(took).Seconds()*1000),
		fmt.Sprintf("median of %d", len(took)), "100 ms")
	return nil
}

// putBoth puts objects by requests of each client, and writes the same as files that are served statically.
func (b *bench) putBoth(cs []*conn, puts [][][]byte, body []byte) error {
	var g errgroup.Group
	for w := range cs {
		g.Go(func() error {
			dir := filepath.Join(b.dir, "static", fmt.Sprintf("client-%02d", w))
			if err := os.MkdirAll(dir, 0o755); err != nil {
				return err
			}
			for i, head := range puts[w] {
				if err := sends(cs[w], head, body); err != nil {
					return err
				}
				if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("object-%08d", i)), body, 0o644); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return g.Wait()
}

// gets compares gets of small objects with static serving.
func (b *bench) gets() error {
	body := smallBody()
	cs, err := b.conns(b.wire, true)
	if err != nil {
		return err
	}
	const there = 200
	puts, err := b.heads(cs, http.MethodPut, "bench", "", there, small)
	if err != nil {
		return err
	}
	gets, err := b.heads(cs, http.MethodGet, "bench", "", there, 0)
	if err != nil {
		return err
	}
	if err := b.putBoth(cs, puts[:], body); err != nil {
		return err
	}
	ss, err := b.conns(b.static, false)
	if err != nil {
		return err
	}
	get := func(c *conn, head []byte) error {
		st, n, err := c.send(head, nil, 0)
		if err == nil && (st != 200 || n != small) {
			err = fmt.Errorf("status %d, %d bytes", st, n)
		}
		return err
	}
	r, cost, err := b.costs(func(w, i int) error { return get(cs[w], gets[w][i%there]) }, func(w, i int) error {
		head, err := ss[w].head(http.MethodGet, fmt.Sprintf("/client-%02d/object-%08d", w, i%there), 0)
		if err != nil {
			return err
		}
		return get(ss[w], head)
	})
	if err != nil {
		return err
	}
	b.row("get 4 KiB, 32 clients", fmt.Sprintf("%.0f/s", r[0]),
		fmt.Sprintf("%.2f of static serving (%.0f/s); %s", r[0]/r[1], r[1], cost[0]), "0.75")
	return nil
}
