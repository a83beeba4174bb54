package side

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// Folder is a directory: keys are the paths of files beneath it, with slashes. It keeps
// bytes and the time they were changed; headers, metadata and tags it cannot keep.
type Folder struct {
	Dir string
}

const partial = ".spindle-part-" // files that are being written

// path gives where a key's file is. The error for a key that no file may have has the
// code key-unsafe.
func (f *Folder) path(key string) (string, error) {
	rel, err := object.SafePath(key)
	if err != nil {
		return "", err
	}
	return filepath.Join(f.Dir, filepath.FromSlash(rel)), nil
}

func folderError(err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, fs.ErrNotExist):
		return fault.New(fault.NotFound, "key-missing", "there is no such file").In("key").Because(err)
	case errors.Is(err, fs.ErrPermission):
		return fault.New(fault.Refused, "file-refused", "the file may not be used").In("key").Because(err)
	}
	return fault.New(fault.Unavailable, "folder", "the folder cannot be used").In("folder").Because(err)
}

func (f *Folder) facts(key string, st fs.FileInfo) Facts {
	return Facts{Key: key, Size: st.Size(), ETag: fmt.Sprintf("%x-%x", st.ModTime().UnixNano(), st.Size()),
		Modified: st.ModTime().UTC()}
}

// List gives a page. Folders are gone through in the order of keys, those before the
// page left out.
func (f *Folder) List(ctx context.Context, prefix, after string, limit int) (out []Facts, err error) {
	err = f.walk(ctx, "", prefix, after, func(x Facts) bool {
		out = append(out, x)
		return len(out) < limit
	})
	if errors.Is(err, errEnough) {
		err = nil
	}
	return out, folderError(err)
}

var errEnough = errors.New("enough")

// walk visits the files beneath a folder whose keys begin with prefix and are after one.
func (f *Folder) walk(ctx context.Context, at, prefix, after string, visit func(Facts) bool) error {
	entries, err := os.ReadDir(filepath.Join(f.Dir, filepath.FromSlash(at)))
	if err != nil {
		return err
	}
	// A folder's keys all begin with its name and a slash: that is where it stands.
	name := func(e fs.DirEntry) string {
		if e.IsDir() {
			return e.Name() + "/"
		}
		return e.Name()
	}
	slices.SortFunc(entries, func(a, b fs.DirEntry) int { return strings.Compare(name(a), name(b)) })
	for _, e := range entries {
		if err := ctx.Err(); err != nil {
			return err
		}
		key := at + name(e)
		if e.IsDir() {
			if mayHold(key, prefix, after) {
				if err := f.walk(ctx, key, prefix, after, visit); err != nil && !errors.Is(err, fs.ErrNotExist) {
					return err
				}
			}
			continue
		}
		if key <= after || !strings.HasPrefix(key, prefix) || strings.HasPrefix(e.Name(), partial) || !e.Type().IsRegular() {
			continue
		}
		st, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) {
			continue // it went meanwhile
		}
		if err != nil {
			return err
		}
		if !visit(f.facts(key, st)) {
			return errEnough
		}
	}
	return nil
}

// mayHold reports whether a folder may have keys with the prefix after a key.
func mayHold(folder, prefix, after string) bool {
	if !strings.HasPrefix(prefix, folder) && !strings.HasPrefix(folder, prefix) {
		return false
	}
	return after < folder || strings.HasPrefix(after, folder)
}

// Stat gives a file's facts.
func (f *Folder) Stat(_ context.Context, key string) (Facts, error) {
	path, err := f.path(key)
	if err != nil {
		return Facts{}, err
	}
	st, err := os.Lstat(path)
	if err == nil && !st.Mode().IsRegular() {
		err = fs.ErrNotExist
	}
	if err != nil {
		return Facts{}, folderError(err)
	}
	return f.facts(key, st), nil
}

// Read reads a range of a file.
func (f *Folder) Read(ctx context.Context, key, ifETag string, from, length int64) (io.ReadCloser, error) {
	path, err := f.path(key)
	if err != nil {
		return nil, err
	}
	file, err := os.Open(path)
	if err != nil {
		return nil, folderError(err)
	}
	st, err := file.Stat()
	if err == nil && ifETag != "" && f.facts(key, st).ETag != ifETag {
		err = fault.New(fault.Precondition, "mismatch", "the file is another by now").In("key").Do("begin again")
	}
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return &whole{ReadCloser: struct {
		io.Reader
		io.Closer
	}{io.NewSectionReader(file, from, length), file}, left: length}, nil
}

// Write writes a file beside its place, compares it, and puts it there.
func (f *Folder) Write(ctx context.Context, key string, body Body, w Write) (Facts, error) {
	path, err := f.path(key)
	if err != nil {
		return Facts{}, err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o777); err != nil {
		return Facts{}, folderError(err)
	}
	r, err := body.Range(ctx, 0, w.Size)
	if err != nil {
		return Facts{}, err
	}
	defer r.Close()
	tmp, err := os.CreateTemp(filepath.Dir(path), partial+"*")
	if err != nil {
		return Facts{}, folderError(err)
	}
	defer os.Remove(tmp.Name())
	sum := digest.NewCRC64()
	n, err := io.Copy(io.MultiWriter(tmp, sum), tee(r, noHash{}, w.Moved))
	if err = errors.Join(err, tmp.Sync(), tmp.Close()); err != nil {
		return Facts{}, err
	}
	if n != w.Size || w.CRC64 != nil && sum.Sum64() != *w.CRC64 {
		return Facts{}, mismatch()
	}
	if !w.Modified.IsZero() {
		if err := os.Chtimes(tmp.Name(), time.Time{}, w.Modified); err != nil {
			return Facts{}, folderError(err)
		}
	}
	if err := errors.Join(os.Chmod(tmp.Name(), 0o644), os.Rename(tmp.Name(), path)); err != nil {
		return Facts{}, folderError(err)
	}
	return f.Stat(ctx, key)
}

// Annotate cannot be done.
func (f *Folder) Annotate(context.Context, string, Facts) (Facts, error) {
	return Facts{}, fault.New(fault.Unfinished, "not-implemented", "a folder keeps no metadata")
}

// Remove removes a file, and folders that nothing is in any more.
func (f *Folder) Remove(_ context.Context, key string) error {
	path, err := f.path(key)
	if err != nil {
		return err
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return folderError(err)
	}
	for dir := filepath.Dir(path); dir != f.Dir && len(dir) > len(f.Dir); dir = filepath.Dir(dir) {
		if os.Remove(dir) != nil { // something is in it
			return nil
		}
	}
	return nil
}
