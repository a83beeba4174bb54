package transfer

import (
	"context"
	"crypto/md5"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"os"
	"path"
	"path/filepath"
	"time"

	"golang.org/x/sync/errgroup"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/wire/client"
)

// File is a file to put, and where.
type File struct {
	Path   string
	Size   int64 // bytes
	Bucket string
	Key    string
}

// PutFile puts a file, in parts when it is larger than the cutting says. Without a type
// it has that of the key's ending. The errors are those of the client, local-file,
// source-changed, and exists when opt asks that nothing is there.
func (e *Engine) PutFile(ctx context.Context, f File, opt client.Put) (client.Info, error) {
	if opt.ContentType == "" {
		opt.ContentType = mime.TypeByExtension(path.Ext(f.Key))
	}
	if f.Size > e.Cut.Above {
		return e.PutParts(ctx, f, opt)
	}
	file, err := os.Open(f.Path)
	if err != nil {
		return client.Info{}, LocalError(f.Path, err)
	}
	defer file.Close()
	r, done := e.begin(f.Path, f.Size, file)
	defer done()
	return e.Client.Put(ctx, f.Bucket, f.Key, r, f.Size, opt)
}

// Upload is how far the upload of a file is, as kept on disk.
type Upload struct {
	ID       string    `json:"upload"`
	Service  string    `json:"service"`
	Bucket   string    `json:"bucket"`
	Key      string    `json:"key"`
	File     string    `json:"file"`
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
	PartSize int64     `json:"partSize"`
}

// statePath gives where the state of a file's upload is kept.
func (e *Engine) statePath(f File) (string, error) {
	dir, err := e.States()
	if err != nil {
		return "", err
	}
	full, err := filepath.Abs(f.Path)
	if err != nil {
		return "", err
	}
	name := sha256.Sum256([]byte(e.Client.Base.String() + "\x00" + f.Bucket + "\x00" + f.Key + "\x00" + full))
	return filepath.Join(dir, hex.EncodeToString(name[:12])+".json"), nil
}

// Known reports whether an upload of the file was begun here and has not ended.
func (e *Engine) Known(f File) (bool, error) {
	path, err := e.statePath(f)
	if err != nil {
		return false, err
	}
	_, err = os.Stat(path)
	return err == nil, nil
}

// Adopt has the next PutParts of the file go on with an upload that was begun
// elsewhere, with parts of a size.
func (e *Engine) Adopt(f File, id string, modified time.Time, partSize int64) error {
	path, err := e.statePath(f)
	if err != nil {
		return err
	}
	u := Upload{ID: id, Service: e.Client.Base.String(), Bucket: f.Bucket, Key: f.Key, File: f.Path, Size: f.Size,
		Modified: modified, PartSize: partSize}
	if err := writeAside(path, u); err != nil {
		return LocalError(path, err)
	}
	return nil
}

// PutParts puts a file in parts. What is there already, by an earlier try of the same
// file, is compared and not sent again.
func (e *Engine) PutParts(ctx context.Context, f File, opt client.Put) (client.Info, error) {
	path, err := e.statePath(f)
	if err != nil {
		return client.Info{}, err
	}
	file, err := os.Open(f.Path)
	if err != nil {
		return client.Info{}, LocalError(f.Path, err)
	}
	defer file.Close()
	st, err := file.Stat()
	if err != nil {
		return client.Info{}, LocalError(f.Path, err)
	}
	u := Upload{Service: e.Client.Base.String(), Bucket: f.Bucket, Key: f.Key, File: f.Path, Size: st.Size(),
		Modified: st.ModTime(), PartSize: e.Cut.partSize(st.Size())}
	there, err := e.resume(ctx, path, &u)
	if err != nil {
		return client.Info{}, err
	}
	if u.ID == "" {
		if err := e.start(ctx, path, &u, opt); err != nil {
			return client.Info{}, err
		}
	}
	i, err := e.sendParts(ctx, u, file, there, opt)
	if err != nil {
		return i, err
	}
	if now, err := os.Stat(f.Path); err != nil || now.Size() != u.Size || !now.ModTime().Equal(u.Modified) {
		return i, fault.New(fault.Conflict, "source-changed", "%s changed while it was sent", f.Path).In("source").
			Do("put it again when nothing writes to it")
	}
	return i, removeAside(path)
}

// resume takes up the upload that an earlier try of u's file left, when it is still
// there and of the file as it is, and gives its parts.
func (e *Engine) resume(ctx context.Context, path string, u *Upload) ([]client.Part, error) {
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, LocalError(path, err)
	}
	var old Upload
	if json.Unmarshal(b, &old) != nil || old.ID == "" {
		return nil, nil // cut off while it was written: as if it were not there
	}
	there, err := e.Client.Parts(ctx, u.Bucket, u.Key, old.ID)
	switch {
	case fault.HasCode(err, "upload-missing"): // it was abandoned, or completed
		return nil, nil
	case err != nil:
		return nil, err
	case old.Size == u.Size && old.Modified.Equal(u.Modified):
		*u = old
		return there, nil
	}
	e.tell("%s changed since its upload began: it starts anew.", u.File)
	if err := e.Client.AbandonUpload(ctx, u.Bucket, u.Key, old.ID); err != nil && !fault.HasCode(err, "upload-missing") {
		return nil, err
	}
	return nil, nil
}

// start begins an upload and keeps its state.
func (e *Engine) start(ctx context.Context, path string, u *Upload, opt client.Put) (err error) {
	if opt.IfAbsent {
		if _, err := e.Client.Head(ctx, u.Bucket, u.Key); err == nil { // said again, exactly, when it is completed
			return fault.New(fault.Precondition, "exists",
				"the key holds an object already, and the request asked that it should not").In("key")
		}
	}
	if u.ID, err = e.Client.StartUpload(ctx, u.Bucket, u.Key, opt); err != nil {
		return err
	}
	if err := writeAside(path, u); err != nil {
		return LocalError(path, err)
	}
	return nil
}

// sendParts sends what is missing of an upload and completes it.
func (e *Engine) sendParts(ctx context.Context, u Upload, file io.ReaderAt, there []client.Part,
	opt client.Put) (client.Info, error) {
	have := map[int]client.Part{}
	for _, p := range there {
		have[p.Number] = p
	}
	done := make([]client.Part, max(1, (u.Size+u.PartSize-1)/u.PartSize))
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(e.Cut.Parallel())
	for k := range done {
		g.Go(func() (err error) {
			free, err := e.Cut.take(gctx)
			if err != nil {
				return err
			}
			defer free()
			from := int64(k) * u.PartSize
			content := io.NewSectionReader(file, from, min(u.PartSize, u.Size-from))
			done[k], err = e.sendPart(gctx, u, k+1, content, have[k+1])
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return client.Info{}, err
	}
	return e.complete(ctx, u.Bucket, u.Key, u.ID, done, u.Size, opt)
}

// sendPart sends a part, unless the one that is there has its bytes.
func (e *Engine) sendPart(ctx context.Context, u Upload, number int, content *io.SectionReader,
	there client.Part) (client.Part, error) {
	if there.Number == number && there.Size == content.Size() {
		crc, sum := digest.NewCRC64(), md5.New()
		if _, err := copyTo(io.MultiWriter(crc, sum), content); err != nil {
			return there, LocalError(u.File, err)
		}
		if hex.EncodeToString(sum.Sum(nil)) == there.ETag {
			there.CRC64 = crc.Sum64()
			e.skip(there.Size)
			return there, nil
		}
	}
	return persist(ctx, func() (client.Part, error) {
		if _, err := content.Seek(0, io.SeekStart); err != nil {
			return client.Part{}, err
		}
		r, done := e.begin(fmt.Sprintf("part %d of %s", number, filepath.Base(u.File)), content.Size(), content)
		defer done()
		return e.Client.PutPart(ctx, u.Bucket, u.Key, u.ID, number, r, content.Size())
	})
}

// complete makes an object of parts in their order; the service compares its digest.
func (e *Engine) complete(ctx context.Context, bucket, key, id string, parts []client.Part, size int64,
	opt client.Put) (client.Info, error) {
	var crc uint64
	for _, p := range parts {
		crc = digest.CombineCRC64(crc, p.CRC64, p.Size)
	}
	return persist(ctx, func() (client.Info, error) {
		return e.Client.CompleteUpload(ctx, bucket, key, id, parts, size, &crc, opt)
	})
}
