package service_test

import (
	"bytes"
	"context"
	"io"
	"math/rand/v2"
	"sync"
	"syscall"
	"testing"
	"time"

	"spindle/internal/harness"
	"spindle/internal/wire/client"
)

// TestAnUploadSurvivesKills kills the service at random moments of an upload in
// parts: what was acknowledged of it is there, the rest is sent, and the object
// has the right bytes.
func TestAnUploadSurvivesKills(t *testing.T) {
	t.Parallel()
	p := &process{t: t, bin: harness.Binary(t), data: dataDir(t)}
	if err := p.start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = p.cmd.Process.Signal(syscall.SIGTERM); _ = p.cmd.Wait() })
	if err := p.client().CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	const parts, size = 24, 5 << 20
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 3))
	whole := make([]byte, parts*size)
	for i := 0; i < len(whole); i += 1 + r.IntN(64) {
		whole[i] = byte(r.Uint32())
	}
	id, err := p.client().StartUpload(t.Context(), "plates", "mosaic", client.Put{})
	if err != nil {
		t.Fatal(err)
	}
	acked := map[int]string{} // part: ETag
	var mu sync.Mutex
	kills, sent := 0, 0
	for len(acked) < parts {
		c := p.client()
		there, err := c.Parts(t.Context(), "plates", "mosaic", id)
		if err != nil {
			t.Fatal(err)
		}
		have := map[int]string{}
		for _, x := range there {
			have[x.Number] = x.ETag
		}
		for n, etag := range acked {
			if have[n] != etag {
				t.Fatalf("after %d kills part %d is %q, and %q was acknowledged", kills, n, have[n], etag)
			}
		}
		ctx, stop := context.WithCancel(t.Context())
		var wg sync.WaitGroup
		todo := make(chan int, parts)
		for n := 1; n <= parts; n++ {
			if have[n] == "" {
				todo <- n
			} else {
				acked[n] = have[n]
			}
		}
		close(todo)
		for range 2 {
			wg.Go(func() {
				for n := range todo {
					if ctx.Err() != nil {
						return
					}
					x, err := c.PutPart(ctx, "plates", "mosaic", id, n, bytes.NewReader(whole[(n-1)*size:n*size]), size)
					if err != nil {
						return // the service is gone
					}
					mu.Lock()
					acked[n] = x.ETag
					sent++
					mu.Unlock()
				}
			})
		}
		if kills < 12 {
			time.Sleep(time.Duration(10+r.IntN(60)) * time.Millisecond)
			_ = p.cmd.Process.Kill()
			_ = p.cmd.Wait()
			kills++
			stop()
			wg.Wait()
			c.HTTP.CloseIdleConnections()
			if err := p.start(); err != nil {
				t.Fatal(err)
			}
			continue
		}
		wg.Wait()
		stop()
	}
	var list []client.Part
	for n := 1; n <= parts; n++ {
		list = append(list, client.Part{Number: n, ETag: acked[n]})
	}
	// Killed while it completes: said again, it is done.
	c := p.client()
	go func() {
		time.Sleep(time.Duration(r.IntN(15)) * time.Millisecond)
		_ = p.cmd.Process.Kill()
	}()
	_, _ = c.CompleteUpload(t.Context(), "plates", "mosaic", id, list, int64(len(whole)), nil,
		client.Put{}) // it may be answered or not
	_ = p.cmd.Wait()
	if err := p.start(); err != nil {
		t.Fatal(err)
	}
	if _, err := p.client().CompleteUpload(t.Context(), "plates", "mosaic", id, list, int64(len(whole)), nil,
		client.Put{}); err != nil {
		t.Fatalf("completing it again: %v", err)
	}
	o, err := p.client().Get(t.Context(), "plates", "mosaic", "", 0, "")
	if err != nil {
		t.Fatal(err)
	}
	defer o.Body.Close()
	if b, err := io.ReadAll(o.Body); err != nil || !bytes.Equal(b, whole) {
		t.Errorf("after %d kills %d other bytes came back, %v", kills, len(b), err)
	}
	t.Logf("%d kills; %d parts, %d acknowledged sendings", kills, parts, sent)
}
