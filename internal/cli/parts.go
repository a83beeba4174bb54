package cli

import (
	"bytes"
	"context"
	"crypto/md5"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/wire/client"
)

// cutting says how large files are sent in parts.
type cutting struct {
	above int64         // files larger than this are cut
	size  int64         // of a part, more when there would be too many
	slots chan struct{} // parts on the way, over all files
}

// partSize gives the size of a file's parts: the wished one, or what 10,000
// parts need, in whole MiB.
func (c *cutting) partSize(n int64) int64 {
	least := (n + object.MaxParts - 1) / object.MaxParts
	if least <= c.size {
		return c.size
	}
	return (least + 1<<20 - 1) >> 20 << 20
}

// progress of a file's upload, kept on disk so that the same command goes on.
type uploadState struct {
	Upload   string    `json:"upload"`
	Service  string    `json:"service"`
	Bucket   string    `json:"bucket"`
	Key      string    `json:"key"`
	File     string    `json:"file"`
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
	PartSize int64     `json:"partSize"`
}

func (a *app) statePath(service, bucket, key, file string) (string, error) {
	dir := a.Getenv("XDG_STATE_HOME")
	if dir == "" {
		home := a.Getenv("HOME")
		if home == "" {
			return "", fault.New(fault.Invalid, "no-home", "there is no home directory to keep the state of uploads in").In("HOME").Do("set HOME or XDG_STATE_HOME")
		}
		dir = filepath.Join(home, ".local", "state")
	}
	full, err := filepath.Abs(file)
	if err != nil {
		return "", err
	}
	name := sha256.Sum256([]byte(service + "\x00" + bucket + "\x00" + key + "\x00" + full))
	return filepath.Join(dir, "spindle", "uploads", hex.EncodeToString(name[:12])+".json"), nil
}

// writeAside writes a file so that it is there whole or not at all.
func writeAside(path string, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	tmp, err := os.CreateTemp(filepath.Dir(path), ".state-*")
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	_, err = tmp.Write(b)
	if err := errors.Join(err, tmp.Sync(), tmp.Close()); err != nil {
		return err
	}
	return os.Rename(tmp.Name(), path)
}

// putParts sends a file in parts. What is there already, by an earlier try of
// the same file, is compared and not sent again.
func (a *app) putParts(ctx context.Context, w *client.Client, m *meter, bucket string, f outgoing, opt client.Put, cut *cutting) (client.Info, error) {
	path, err := a.statePath(w.Base.String(), bucket, f.key, f.local)
	if err != nil {
		return client.Info{}, err
	}
	file, err := os.Open(f.local)
	if err != nil {
		return client.Info{}, localError(f.local, err)
	}
	defer file.Close()
	st, err := file.Stat()
	if err != nil {
		return client.Info{}, localError(f.local, err)
	}
	s := uploadState{Service: w.Base.String(), Bucket: bucket, Key: f.key, File: f.local, Size: st.Size(), Modified: st.ModTime(), PartSize: cut.partSize(st.Size())}
	var there []client.Part
	if b, err := os.ReadFile(path); err == nil {
		var old uploadState
		if json.Unmarshal(b, &old) == nil && old.Upload != "" {
			there, err = w.Parts(ctx, bucket, f.key, old.Upload)
			switch {
			case fault.HasCode(err, "upload-missing"): // it was abandoned, or completed
			case err != nil:
				return client.Info{}, err
			case old.Size != s.Size || !old.Modified.Equal(s.Modified):
				a.note("%s changed since its upload began: it starts anew.", shown(f.local))
				if err := w.AbandonUpload(ctx, bucket, f.key, old.Upload); err != nil && !fault.HasCode(err, "upload-missing") {
					return client.Info{}, err
				}
				there = nil
			default:
				s = old
			}
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return client.Info{}, localError(path, err)
	}
	if s.Upload == "" {
		if opt.IfAbsent {
			if _, err := w.Head(ctx, bucket, f.key); err == nil { // said again, exactly, when it is completed
				return client.Info{}, fault.New(fault.Precondition, "exists", "the key holds an object already, and the request asked that it should not").In("key")
			}
		}
		if s.Upload, err = w.StartUpload(ctx, bucket, f.key, opt); err != nil {
			return client.Info{}, err
		}
		if err := writeAside(path, s); err != nil {
			return client.Info{}, localError(path, err)
		}
	}
	i, err := sendParts(ctx, w, m, s, file, there, cut, opt.IfAbsent)
	if err != nil {
		return i, err
	}
	if now, err := os.Stat(f.local); err != nil || now.Size() != s.Size || !now.ModTime().Equal(s.Modified) {
		return i, fault.New(fault.Conflict, "source-changed", "%s changed while it was sent", f.local).In("source").Do("put it again when nothing writes to it")
	}
	return i, os.Remove(path)
}

// sendParts sends what is missing of an upload and completes it.
func sendParts(ctx context.Context, w *client.Client, m *meter, s uploadState, file io.ReaderAt, there []client.Part, cut *cutting, ifAbsent bool) (client.Info, error) {
	have := map[int]client.Part{}
	for _, p := range there {
		have[p.Number] = p
	}
	n := int(max(1, (s.Size+s.PartSize-1)/s.PartSize))
	done := make([]client.Part, n)
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(cap(cut.slots))
	for k := range n {
		g.Go(func() error {
			select {
			case cut.slots <- struct{}{}:
				defer func() { <-cut.slots }()
			case <-gctx.Done():
				return gctx.Err()
			}
			from := int64(k) * s.PartSize
			size := min(s.PartSize, s.Size-from)
			part := func() io.Reader { return io.NewSectionReader(file, from, size) }
			if p, ok := have[k+1]; ok && p.Size == size {
				crc, sum := digest.NewCRC64(), md5.New()
				if _, err := io.CopyBuffer(struct{ io.Writer }{io.MultiWriter(crc, sum)}, struct{ io.Reader }{part()}, make([]byte, 256<<10)); err != nil {
					return localError(s.File, err)
				}
				if hex.EncodeToString(sum.Sum(nil)) == p.ETag {
					p.CRC64 = crc.Sum64()
					done[k] = p
					m.skip(size)
					return nil
				}
			}
			var err error
			done[k], err = persist(gctx, func() (client.Part, error) {
				r, end := m.file(fmt.Sprintf("part %d of %s", k+1, filepath.Base(s.File)), size, part())
				p, err := w.PutPart(gctx, s.Bucket, s.Key, s.Upload, k+1, r, size)
				end(err == nil)
				return p, err
			})
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return client.Info{}, err
	}
	var crc uint64
	for _, p := range done {
		crc = digest.CombineCRC64(crc, p.CRC64, p.Size)
	}
	return persist(ctx, func() (client.Info, error) {
		return w.CompleteUpload(ctx, s.Bucket, s.Key, s.Upload, done, s.Size, &crc, ifAbsent)
	})
}

// persist tries again, with growing pauses, what failed because the service or
// the line was away; about two minutes in all.
func persist[T any](ctx context.Context, f func() (T, error)) (T, error) {
	for try := 0; ; try++ {
		v, err := f()
		kind := fault.KindOf(err)
		if err == nil || try == 9 || ctx.Err() != nil || kind != fault.Unavailable && kind != fault.Slow {
			return v, err
		}
		select {
		case <-ctx.Done():
		case <-time.After(min(20*time.Second, 200*time.Millisecond<<try)):
		}
	}
}

// putStdin puts standard input, of a length nobody knows: at once when it is
// short, otherwise in parts with a bounded number of them in memory.
func (a *app) putStdin(ctx context.Context, w *client.Client, bucket, key string, opt client.Put, cut *cutting) (client.Info, error) {
	first := make([]byte, max(cut.size, object.MinPart))
	n, err := io.ReadFull(a.in, first)
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		return w.Put(ctx, bucket, key, bytes.NewReader(first[:n]), int64(n), opt)
	}
	if err != nil {
		return client.Info{}, err
	}
	id, err := w.StartUpload(ctx, bucket, key, opt)
	if err != nil {
		return client.Info{}, err
	}
	info, err := a.stdinParts(ctx, w, bucket, key, id, first, cut, opt.IfAbsent)
	if err != nil {
		// What was read cannot be read again: there is nothing to resume.
		quick, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		if aerr := w.AbandonUpload(quick, bucket, key, id); aerr != nil && !fault.HasCode(aerr, "upload-missing") {
			a.note("The upload %s is left unfinished; abandon it with spindle upload abandon.", id)
		}
	}
	return info, err
}

func (a *app) stdinParts(ctx context.Context, w *client.Client, bucket, key, id string, first []byte, cut *cutting, ifAbsent bool) (client.Info, error) {
	spare := make(chan []byte, cap(cut.slots)+1)
	for range cap(cut.slots) {
		spare <- nil // made when it is needed
	}
	var mu sync.Mutex
	var done []client.Part
	var total int64
	g, gctx := errgroup.WithContext(ctx)
	buf, n := first, len(first)
	var rerr error
	for number := 1; n > 0 && gctx.Err() == nil; number++ {
		if number > object.MaxParts {
			rerr = fault.New(fault.TooLarge, "too-many-parts", "the input has more than %d parts of %s", object.MaxParts, size(cut.size)).In("part-size").Do("say a greater --part-size")
			break
		}
		whole, held := buf, buf[:n]
		total += int64(n)
		g.Go(func() error {
			p, err := persist(gctx, func() (client.Part, error) {
				return w.PutPart(gctx, bucket, key, id, number, bytes.NewReader(held), int64(len(held)))
			})
			mu.Lock()
			done = append(done, p)
			mu.Unlock()
			spare <- whole
			return err
		})
		if n < len(first) {
			break
		}
		select {
		case buf = <-spare:
		case <-gctx.Done():
		}
		if buf == nil {
			buf = make([]byte, len(first))
		}
		var err error
		if n, err = io.ReadFull(a.in, buf); err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			rerr = err
			break
		}
	}
	if err := errors.Join(g.Wait(), rerr); err != nil {
		return client.Info{}, err
	}
	slices.SortFunc(done, func(x, y client.Part) int { return x.Number - y.Number })
	var crc uint64
	for _, p := range done {
		crc = digest.CombineCRC64(crc, p.CRC64, p.Size)
	}
	return persist(ctx, func() (client.Info, error) {
		return w.CompleteUpload(ctx, bucket, key, id, done, total, &crc, ifAbsent)
	})
}

// rangeSize is the size of the pieces in which large objects are got.
const rangeSize = 32 << 20

// getRanges fetches an object in ranges side by side into a file beside dest, and
// goes on with what an earlier try left there.
func getRanges(ctx context.Context, w *client.Client, m *meter, bucket, key, version, etag, dest string, n int64, parallel int) (tmp string, err error) {
	tmp = filepath.Join(filepath.Dir(dest), ".spindle-part-"+etag+"-"+filepath.Base(dest))
	state := tmp + ".json"
	pieces := int((n + rangeSize - 1) / rangeSize)
	done := make([]bool, pieces)
	if b, err := os.ReadFile(state); err == nil {
		var old []bool
		if json.Unmarshal(b, &old) == nil && len(old) == pieces {
			if _, err := os.Stat(tmp); err == nil {
				done = old
			}
		}
	}
	f, err := os.OpenFile(tmp, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return "", localError(dest, err)
	}
	defer f.Close()
	var mu sync.Mutex
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(parallel)
	for k := range pieces {
		from := int64(k) * rangeSize
		length := min(rangeSize, n-from)
		if done[k] {
			m.skip(length)
			continue
		}
		g.Go(func() error {
			_, err := persist(gctx, func() (struct{}, error) {
				body, err := w.GetRange(gctx, bucket, key, version, from, length, etag)
				if err != nil {
					return struct{}{}, err
				}
				defer body.Close()
				r, end := m.file(fmt.Sprintf("range %d of %s", k+1, filepath.Base(dest)), length, body)
				got, err := io.Copy(io.NewOffsetWriter(f, from), io.LimitReader(r, length))
				end(err == nil)
				if err == nil && got < length {
					err = io.ErrUnexpectedEOF
				}
				if err != nil {
					return struct{}{}, client.Unreachable(err)
				}
				return struct{}{}, nil
			})
			if err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			done[k] = true
			if err := f.Sync(); err != nil {
				return localError(dest, err)
			}
			return writeAside(state, done)
		})
	}
	if err := g.Wait(); err != nil {
		return "", err
	}
	return tmp, os.Remove(state)
}
