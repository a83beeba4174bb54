package transfer_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"io"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"spindle/internal/core/fault"
	"spindle/internal/harness"
	"spindle/internal/transfer"
	"spindle/internal/wire/client"
)

func TestMain(m *testing.M) { os.Exit(harness.Main(m)) }

// counting is a Progress that counts what moved and what did not have to, and can cut
// a transfer off.
type counting struct {
	mu             sync.Mutex
	moved, skipped int64
	pieces         int
	cut            func(piece int)
}

func (p *counting) Begin(_ string, _ int64, r io.Reader) (io.Reader, func()) {
	p.mu.Lock()
	p.pieces++
	n := p.pieces
	p.mu.Unlock()
	if p.cut != nil {
		p.cut(n)
	}
	return io.TeeReader(r, p), func() {}
}

func (p *counting) Write(b []byte) (int, error) {
	p.mu.Lock()
	p.moved += int64(len(b))
	p.mu.Unlock()
	return len(b), nil
}

func (p *counting) Skip(n int64) {
	p.mu.Lock()
	p.skipped += n
	p.mu.Unlock()
}

func engine(t *testing.T) (*transfer.Engine, *counting) {
	t.Helper()
	s := harness.Service(t, nil)
	p := &counting{}
	states := t.TempDir()
	w := s.Client()
	if err := w.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	return &transfer.Engine{Client: w, Cut: transfer.NewCutting(8<<20, 5<<20, 2), Progress: p,
		States: func() (string, error) { return states, nil }}, p
}

func file(t *testing.T, size int) (path string, content []byte) {
	t.Helper()
	content = make([]byte, size)
	_, _ = rand.Read(content)
	path = filepath.Join(t.TempDir(), "mosaic.tif")
	if err := os.WriteFile(path, content, 0o600); err != nil {
		t.Fatal(err)
	}
	return path, content
}

// TestAPutGoesOnWhereItWasCut cuts the upload of a file off after two parts: the next
// call sends what is missing, and what arrives is the file.
func TestAPutGoesOnWhereItWasCut(t *testing.T) {
	e, p := engine(t)
	path, content := file(t, 23<<20)
	f := transfer.File{Path: path, Size: int64(len(content)), Bucket: "plates", Key: "mosaic.tif"}
	ctx, cancel := context.WithCancel(t.Context())
	p.cut = func(piece int) {
		if piece == 4 { // two are on the way at a time: two are there
			cancel()
		}
	}
	if _, err := e.PutFile(ctx, f, client.Put{}); !errors.Is(err, context.Canceled) &&
		fault.KindOf(err) != fault.Unavailable {
		t.Fatalf("cut off: %v", err)
	}
	if known, err := e.Known(f); !known || err != nil {
		t.Fatalf("the upload is not known: %v", err)
	}
	p.cut, p.moved, p.skipped = nil, 0, 0
	info, err := e.PutFile(t.Context(), f, client.Put{})
	if err != nil || info.Size != f.Size {
		t.Fatalf("%+v, %v", info, err)
	}
	if p.skipped < 5<<20 || p.moved+p.skipped != f.Size {
		t.Errorf("%d bytes sent, %d were there, of %d", p.moved, p.skipped, f.Size)
	}
	if known, _ := e.Known(f); known {
		t.Error("the upload that ended is still known")
	}
	get(t, e, p, f, info, content)
}

// get fetches the object, once in pieces that are cut off, and once when it is there.
func get(t *testing.T, e *transfer.Engine, p *counting, f transfer.File, info client.Info, content []byte) {
	t.Helper()
	crc, err := transfer.CRC64(bytes.NewReader(content))
	if err != nil {
		t.Fatal(err)
	}
	o := transfer.Object{Bucket: f.Bucket, Key: f.Key, ETag: info.ETag, Size: f.Size, CRC64: crc}
	dest := filepath.Join(t.TempDir(), "inner", "mosaic.tif")
	for i, want := range []bool{true, false} {
		p.skipped = 0
		got, err := e.GetFile(t.Context(), o, dest, false)
		there, rerr := os.ReadFile(dest)
		if err != nil || rerr != nil || got != want || !bytes.Equal(there, content) || p.skipped != int64(i)*f.Size {
			t.Errorf("got %v, %v, %v; %d bytes skipped", got, err, rerr, p.skipped)
		}
	}
	if err := os.WriteFile(dest, []byte("another"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := e.GetFile(t.Context(), o, dest, false); !fault.HasCode(err, "file-exists") {
		t.Errorf("a file that differs: %v", err)
	}
	o.CRC64 = "0000000000000000"
	if _, err := e.GetFile(t.Context(), o, dest, true); err != nil {
		t.Errorf("replaced, the client compares what arrives: %v", err)
	}
}

// TestAStreamIsPutInBoundedMemory puts what has no length: short, of whole parts, and
// one that breaks, which leaves nothing.
func TestAStreamIsPutInBoundedMemory(t *testing.T) {
	e, _ := engine(t)
	for _, n := range []int{0, 1, 5 << 20, 5<<20 + 1, 17 << 20} {
		_, content := file(t, n)
		info, err := e.PutStream(t.Context(), bytes.NewReader(content), "plates", "stream", client.Put{})
		if err != nil || info.Size != int64(n) {
			t.Fatalf("%d bytes: %+v, %v", n, info, err)
		}
		o, err := e.Client.Get(t.Context(), "plates", "stream", "", 0, "")
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(o.Body)
		o.Body.Close()
		if err != nil || !bytes.Equal(got, content) {
			t.Errorf("%d bytes came back as %d, %v", n, len(got), err)
		}
	}
	broken := io.MultiReader(bytes.NewReader(make([]byte, 12<<20)), errReader{})
	if _, err := e.PutStream(t.Context(), broken, "plates", "broken", client.Put{}); err == nil {
		t.Error("a stream that broke was put")
	}
	if _, err := e.Client.Head(t.Context(), "plates", "broken"); fault.KindOf(err) != fault.NotFound {
		t.Errorf("what is left of it: %v", err)
	}
}

type errReader struct{}

func (errReader) Read([]byte) (int, error) { return 0, errors.New("the pipe broke") }
