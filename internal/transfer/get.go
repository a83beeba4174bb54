package transfer

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"

	"golang.org/x/sync/errgroup"

	"spindle/internal/core/fault"
	"spindle/internal/partfile"
	"spindle/internal/wire/client"
)

// Object is an object to get.
type Object struct {
	Bucket  string
	Key     string
	Version string // "" for the current one
	ETag    string
	Size    int64  // bytes
	CRC64   string // in hex
}

// rangeSize is the size of the pieces in which large objects are got.
const rangeSize = 32 << 20

// GetFile gets an object into a file, unless a file with its size and digest is there:
// then got is false. The bytes come beside it first, so that the file is never half. A
// file that differs is replaced only when replace says so; the error otherwise has the
// code file-exists.
func (e *Engine) GetFile(ctx context.Context, o Object, dest string, replace bool) (got bool, err error) {
	if st, err := os.Stat(dest); err == nil {
		same, err := SameFile(dest, st, o.Size, o.CRC64)
		if err != nil {
			return false, LocalError(dest, err)
		}
		if same {
			e.skip(o.Size)
			return false, nil
		}
		if !replace {
			return false, fault.New(fault.Conflict, "file-exists", "%s is there and differs", dest).In("file").
				Do("move it away, or say --replace")
		}
	}
	if err := os.MkdirAll(filepath.Dir(dest), 0o777); err != nil {
		return false, LocalError(filepath.Dir(dest), err)
	}
	if o.Size > 2*rangeSize && o.ETag != "" {
		err = e.getLarge(ctx, o, dest)
	} else {
		err = e.getWhole(ctx, o, dest)
	}
	return err == nil, err
}

// getWhole gets an object in one request, whose body the client compares.
func (e *Engine) getWhole(ctx context.Context, o Object, dest string) error {
	tmp, err := beside(dest)
	if err != nil {
		return LocalError(dest, err)
	}
	defer os.Remove(tmp.Name())
	defer tmp.Close()
	from, err := e.Client.Get(ctx, o.Bucket, o.Key, o.Version, 0, "")
	if err != nil {
		return err
	}
	defer from.Body.Close()
	r, done := e.begin(dest, o.Size, from.Body)
	_, err = io.Copy(tmp, r)
	done()
	if err != nil {
		return err
	}
	if err := errors.Join(tmp.Sync(), tmp.Close()); err != nil {
		return LocalError(dest, err)
	}
	if err := settle(tmp.Name(), dest); err != nil {
		return err
	}
	if !from.Modified.IsZero() {
		_ = os.Chtimes(dest, from.Modified, from.Modified) // a convenience: not every filesystem keeps times
	}
	return nil
}

// Fill writes a file from a reader, beside its place first, so that it is never half
// there. The error when a file is there, and it is not to be replaced, has the code
// file-exists.
func Fill(dest string, r io.Reader, replace bool) error {
	if _, err := os.Stat(dest); err == nil && !replace {
		return fault.New(fault.Conflict, "file-exists", "%s is there already", dest).In("file").
			Do("move it away, or say --replace")
	}
	tmp, err := beside(dest)
	if err != nil {
		return LocalError(dest, err)
	}
	defer os.Remove(tmp.Name())
	defer tmp.Close()
	if _, err := io.Copy(tmp, r); err != nil {
		return client.Unreachable(err)
	}
	if err := errors.Join(tmp.Sync(), tmp.Close()); err != nil {
		return LocalError(dest, err)
	}
	return settle(tmp.Name(), dest)
}

// swept are the folders whose files of killed programs were removed.
var swept partfile.Sweeper

// beside makes the file that is written before a file has its name, and holds it.
func beside(dest string) (*os.File, error) {
	dir := filepath.Dir(dest)
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	if whole, err := filepath.Abs(dir); err == nil {
		swept.SweepAs(root, ".", whole)
	}
	f, err := os.OpenFile(filepath.Join(dir, partfile.Name(filepath.Base(dest))), os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	if err := partfile.Hold(f); err != nil {
		return nil, errors.Join(err, f.Close(), os.Remove(f.Name()))
	}
	return f, nil
}

// settle puts what arrived in its place.
func settle(tmp, dest string) error {
	if err := os.Chmod(tmp, 0o666&^umask()); err != nil {
		return LocalError(dest, err)
	}
	if err := os.Rename(tmp, dest); err != nil {
		return LocalError(dest, err)
	}
	return nil
}

// getLarge gets an object in ranges, compares it as a whole and puts it in its place.
// Stopped, the same call goes on.
func (e *Engine) getLarge(ctx context.Context, o Object, dest string) error {
	tmp, err := e.getRanges(ctx, o, dest)
	if err != nil {
		return err
	}
	st, err := os.Stat(tmp)
	if err != nil {
		return LocalError(dest, err)
	}
	same, err := SameFile(tmp, st, o.Size, o.CRC64)
	if err != nil {
		return LocalError(dest, err)
	}
	if !same {
		return errors.Join(fault.New(fault.Damaged, "digest-mismatch",
			"the bytes that arrived do not have the digest of the object").Do("get it again"), os.Remove(tmp))
	}
	return settle(tmp, dest)
}

// getRanges gets an object in ranges side by side into a file beside dest, and goes on
// with what an earlier try left there.
func (e *Engine) getRanges(ctx context.Context, o Object, dest string) (tmp string, err error) {
	root, err := os.OpenRoot(filepath.Dir(dest))
	if err != nil {
		return "", LocalError(dest, err)
	}
	defer root.Close()
	partfile.SweepOthers(root, ".", filepath.Base(dest), o.ETag)
	tmp = filepath.Join(filepath.Dir(dest), partfile.NameOf(filepath.Base(dest), o.ETag))
	state := tmp + partfile.StateSuffix
	done := rangesDone(tmp, state, int((o.Size+rangeSize-1)/rangeSize))
	f, err := os.OpenFile(tmp, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return "", LocalError(dest, err)
	}
	defer f.Close()
	if err := partfile.Hold(f); err != nil {
		return "", LocalError(dest, err)
	}
	var mu sync.Mutex
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(e.Cut.Parallel())
	for k := range done {
		from := int64(k) * rangeSize
		length := min(rangeSize, o.Size-from)
		if done[k] {
			e.skip(length)
			continue
		}
		g.Go(func() error {
			name := fmt.Sprintf("range %d of %s", k+1, filepath.Base(dest))
			if _, err := persist(gctx, func() (struct{}, error) {
				return struct{}{},
					e.getRange(gctx, o, name, f, from, length)
			}); err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			done[k] = true
			if err := f.Sync(); err != nil {
				return LocalError(dest, err)
			}
			return writeAside(state, done)
		})
	}
	if err := g.Wait(); err != nil {
		return "", err
	}
	return tmp, removeAside(state)
}

// rangesDone gives which of the pieces an earlier try left in tmp.
func rangesDone(tmp, state string, pieces int) []bool {
	b, err := os.ReadFile(state)
	if err != nil {
		return make([]bool, pieces)
	}
	var old []bool
	if json.Unmarshal(b, &old) != nil || len(old) != pieces {
		return make([]bool, pieces)
	}
	if _, err := os.Stat(tmp); err != nil {
		return make([]bool, pieces)
	}
	return old
}

func (e *Engine) getRange(ctx context.Context, o Object, name string, into io.WriterAt, from, length int64) error {
	body, err := e.Client.GetRange(ctx, o.Bucket, o.Key, o.Version, from, length, o.ETag)
	if err != nil {
		return err
	}
	defer body.Close()
	r, done := e.begin(name, length, body)
	got, err := io.Copy(io.NewOffsetWriter(into, from), io.LimitReader(r, length))
	done()
	if err == nil && got < length {
		err = io.ErrUnexpectedEOF
	}
	if err != nil {
		return client.Unreachable(err)
	}
	return nil
}
