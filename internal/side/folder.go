package side

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/partfile"
)

// What a file has beside its bytes, as metadata of the object that it becomes, so that it
// is put back when the object becomes a file again.
const (
	FileTime = "file-time" // when it was changed, RFC 3339 with fractions
	FileMode = "file-mode" // permissions, in octal
	FileLink = "file-link" // what a link leads to; the object has no bytes
)

// Links says what is done with links in a folder.
type Links string

// What may be done with them. Links to folders are never followed.
const (
	SkipLinks   Links = "skip"
	FollowLinks Links = "follow" // the file that a link leads to counts as one
	KeepLinks   Links = "keep"   // a link is an object of no bytes, and comes back as a link
)

// ParseLinks reads what is done with links; "" is to skip them. The error has the code
// links.
func ParseLinks(s string) (Links, error) {
	switch l := Links(s); l {
	case "":
		return SkipLinks, nil
	case SkipLinks, FollowLinks, KeepLinks:
		return l, nil
	}
	return "", fault.New(fault.Invalid, "links", "%q is nothing to do with links", s).In("links").
		Do("say skip, follow or keep")
}

// Folder is a directory: keys are the paths of files beneath it, with slashes. It keeps
// bytes, the time they were changed, and permissions; headers, other metadata and tags it
// cannot keep. Nothing outside of it is touched, whatever links lead there.
type Folder struct {
	Dir   string
	Links Links
	Odd   func(key, what string) // hears of what is left out; nil: nobody

	once  sync.Once
	root  *os.Root
	err   error
	sweep partfile.Sweeper
}

// FolderIn is a folder that is open already; dir is what it is called.
func FolderIn(root *os.Root, dir string, links Links, odd func(key, what string)) *Folder {
	f := &Folder{Dir: dir, Links: links, Odd: odd, root: root}
	f.once.Do(func() {})
	return f
}

// open opens the folder, once.
func (f *Folder) open() (*os.Root, error) {
	f.once.Do(func() { f.root, f.err = os.OpenRoot(f.Dir) })
	if f.err != nil {
		return nil, fault.New(fault.NotFound, "folder-missing", "the folder %s cannot be used", f.Dir).In("folder").
			Do("look whether it is there, and its disk is mounted").Because(f.err)
	}
	return f.root, nil
}

// Close lets go of the folder.
func (f *Folder) Close() error {
	if f.root == nil {
		return nil
	}
	return f.root.Close()
}

// path gives where a key's file is. The error for a key that no file may have has the
// code key-not-a-path.
func (f *Folder) path(key string) (*os.Root, string, error) {
	rel, err := object.SafePath(key)
	if err != nil {
		return nil, "", err
	}
	root, err := f.open()
	return root, rel, err
}

// CanHold refuses keys that no file may have.
func (f *Folder) CanHold(key string) error {
	_, err := object.SafePath(key)
	return err
}

func folderError(err error) error {
	var known *fault.Error
	switch {
	case err == nil:
		return nil
	case errors.As(err, &known):
		return err
	case errors.Is(err, fs.ErrNotExist):
		return fault.New(fault.NotFound, "key-missing", "there is no such file").In("key").Because(err)
	case errors.Is(err, fs.ErrPermission):
		return fault.New(fault.Refused, "file-refused", "the file may not be used").In("key").Because(err)
	case strings.Contains(err.Error(), "not a directory"), strings.Contains(err.Error(), "is a directory"),
		strings.Contains(err.Error(), "file exists"):
		return fault.New(fault.Conflict, "file-in-the-way", "a file and a folder of one name cannot be side by side").
			In("key").Do("rename one of them").Because(err)
	case strings.Contains(err.Error(), "no space left"):
		return fault.New(fault.Full, "disk-full", "the folder's disk has no room left").In("folder").
			Do("make room there").Because(err)
	}
	return fault.New(fault.Unavailable, "folder", "the folder cannot be used").In("folder").Because(err)
}

func (f *Folder) facts(key string, st fs.FileInfo) Facts {
	size := st.Size()
	if st.Mode()&fs.ModeSymlink != 0 {
		size = 0
	}
	return Facts{Key: key, Size: size, ETag: fmt.Sprintf("%x-%x", st.ModTime().UnixNano(), st.Size()),
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

// All gives all files in one walk.
func (f *Folder) All(ctx context.Context, prefix string) iter.Seq2[Facts, error] {
	return func(yield func(Facts, error) bool) {
		err := f.walk(ctx, "", prefix, "", func(x Facts) bool { return yield(x, nil) })
		if err != nil && !errors.Is(err, errEnough) {
			yield(Facts{}, folderError(err))
		}
	}
}

var errEnough = errors.New("enough")

// entries gives what is in a folder, in the order of keys: the keys of a folder all begin
// with its name and a slash, and that is where it stands.
func (f *Folder) entries(at string) ([]fs.DirEntry, error) {
	root, err := f.open()
	if err != nil {
		return nil, err
	}
	dir, err := root.Open(path.Clean(at)) // "" becomes "."
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	list, err := dir.ReadDir(-1)
	slices.SortFunc(list, func(a, b fs.DirEntry) int { return strings.Compare(nameOf(a), nameOf(b)) })
	return list, err
}

func nameOf(e fs.DirEntry) string {
	if e.IsDir() {
		return e.Name() + "/"
	}
	return e.Name()
}

// walk visits the files beneath a folder whose keys begin with prefix and are after one.
func (f *Folder) walk(ctx context.Context, at, prefix, after string, visit func(Facts) bool) error {
	entries, err := f.entries(at)
	if err != nil {
		return err
	}
	if len(entries) == 0 && at != "" && strings.HasPrefix(at, prefix) {
		f.odd(at, "an empty folder")
	}
	for _, e := range entries {
		if err := ctx.Err(); err != nil {
			return err
		}
		key := at + nameOf(e)
		if e.IsDir() {
			if mayHold(key, prefix, after) {
				if err := f.walk(ctx, key, prefix, after, visit); err != nil && !errors.Is(err, fs.ErrNotExist) {
					return err
				}
			}
			continue
		}
		if key <= after || !strings.HasPrefix(key, prefix) || partfile.Is(e.Name()) {
			continue
		}
		st, err := f.look(key, e.Type())
		if errors.Is(err, fs.ErrNotExist) {
			continue // it went meanwhile
		}
		if err != nil {
			return err
		}
		if st != nil && !visit(f.facts(key, st)) {
			return errEnough
		}
	}
	return nil
}

// look gives a file, or a link as the policy has it; nil for what is left out.
func (f *Folder) look(key string, kind fs.FileMode) (fs.FileInfo, error) {
	root, err := f.open()
	if err != nil {
		return nil, err
	}
	switch {
	case kind.IsRegular(), kind&fs.ModeSymlink != 0 && f.Links == KeepLinks:
		return root.Lstat(key)
	case kind&fs.ModeSymlink != 0 && f.Links == FollowLinks:
		st, err := root.Stat(key)
		if err == nil && st.Mode().IsRegular() {
			return st, nil
		}
		f.odd(key, "a link that leads to no file in the folder")
	case kind&fs.ModeSymlink != 0:
		f.odd(key, "a link")
	default:
		f.odd(key, "no ordinary file")
	}
	return nil, nil
}

func rfc3339(at time.Time) string { return at.UTC().Format(time.RFC3339Nano) }

func (f *Folder) odd(key, what string) {
	if f.Odd != nil {
		f.Odd(key, what)
	}
}

// mayHold reports whether a folder may have keys with the prefix after a key.
func mayHold(folder, prefix, after string) bool {
	if !strings.HasPrefix(prefix, folder) && !strings.HasPrefix(folder, prefix) {
		return false
	}
	return after < folder || strings.HasPrefix(after, folder)
}

// Stat gives a file's facts, with what it has beside its bytes as metadata.
func (f *Folder) Stat(_ context.Context, key string) (Facts, error) {
	root, rel, err := f.path(key)
	if err != nil {
		return Facts{}, err
	}
	st, err := root.Lstat(rel)
	if err == nil {
		st, err = f.look(rel, st.Mode().Type())
	}
	if err == nil && st == nil {
		err = fs.ErrNotExist
	}
	if err != nil {
		return Facts{}, folderError(err)
	}
	x := f.facts(key, st)
	x.Metadata = object.Metadata{FileTime: rfc3339(x.Modified),
		FileMode: fmt.Sprintf("%04o", st.Mode().Perm())}
	if st.Mode()&fs.ModeSymlink != 0 {
		to, err := root.Readlink(rel)
		if err != nil {
			return Facts{}, folderError(err)
		}
		x.Metadata = object.Metadata{FileLink: to}
	}
	return x, nil
}

// Read reads a range of a file; of a link there is none.
func (f *Folder) Read(_ context.Context, key, ifETag string, from, length int64) (io.ReadCloser, error) {
	root, rel, err := f.path(key)
	if err != nil {
		return nil, err
	}
	if length == 0 {
		return io.NopCloser(strings.NewReader("")), nil
	}
	file, err := root.Open(rel)
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
	return &steady{file, io.NewSectionReader(file, from, length), length, f, key, ifETag}, nil
}

// steady reads a file as long as it stays what it is: a file may be written while it is
// read.
type steady struct {
	file *os.File
	part io.Reader
	left int64 // bytes
	of   *Folder
	key  string
	etag string // "": whatever it is
}

// Read reads on; at the end of the range the file must still be the same.
func (s *steady) Read(p []byte) (int, error) {
	n, err := s.part.Read(p)
	if s.left -= int64(n); err != nil && (err != io.EOF || s.left > 0) {
		return n, fileChanged().Because(err)
	}
	if s.left > 0 || s.etag == "" {
		return n, err
	}
	st, serr := s.file.Stat()
	if serr != nil {
		return n, folderError(serr)
	}
	if s.of.facts(s.key, st).ETag != s.etag {
		return n, fileChanged()
	}
	return n, err
}

func fileChanged() *fault.Error {
	return fault.New(fault.Precondition, "source-changed",
		"the file was changed while it was read, or cannot be read").In("key").
		Do("begin again")
}

// Close lets go of the file.
func (s *steady) Close() error { return s.file.Close() }

// Write writes a file beside its place, compares it, and puts it there.
func (f *Folder) Write(ctx context.Context, key string, body Body, w Write) (Facts, error) {
	root, rel, err := f.path(key)
	if err != nil {
		return Facts{}, err
	}
	if dir := path.Dir(rel); dir != "." {
		if err := root.MkdirAll(dir, 0o777); err != nil {
			return Facts{}, folderError(err)
		}
	}
	f.sweep.Sweep(root, path.Dir(rel))
	tmp := path.Join(path.Dir(rel), partfile.Name(path.Base(rel)))
	if to := w.Metadata[FileLink]; to != "" && f.Links == KeepLinks && w.Size == 0 {
		err = root.Symlink(to, tmp)
	} else {
		err = f.fill(ctx, root, tmp, body, w)
	}
	if err == nil {
		err = place(root, tmp, rel, w.New)
	}
	if err != nil {
		_ = root.Remove(tmp) // it may not be there
		return Facts{}, folderError(err)
	}
	if err := syncFolder(root, path.Dir(rel)); err != nil {
		return Facts{}, folderError(err)
	}
	return f.Stat(ctx, key)
}

// place puts a file in its place. What is new takes nobody's: where names count as the same
// that differ by case, say, one would vanish under the other. The error has the code
// name-taken.
func place(root *os.Root, tmp, rel string, isNew bool) error {
	if !isNew {
		return root.Rename(tmp, rel)
	}
	err := root.Link(tmp, rel)
	if err == nil {
		return root.Remove(tmp)
	}
	if _, serr := root.Lstat(rel); serr == nil || errors.Is(err, fs.ErrExist) {
		return fault.New(fault.Conflict, "name-taken", "a file is there that was not listed under this name").In("key").
			Do("it came meanwhile, or the disk takes names for the same that differ by case: rename one of them")
	}
	return root.Rename(tmp, rel) // a disk without links
}

// fill makes a file of a body, with the time and the permissions that it should have.
func (f *Folder) fill(ctx context.Context, root *os.Root, name string, body Body, w Write) error {
	r, err := body.Range(ctx, 0, w.Size)
	if err != nil {
		return err
	}
	defer r.Close()
	file, err := root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	if err := partfile.Hold(file); err != nil {
		return errors.Join(err, file.Close())
	}
	sum := digest.NewCRC64()
	n, err := io.Copy(io.MultiWriter(file, sum), tee(r, noHash{}, w.Moved))
	if err = errors.Join(err, file.Chmod(modeOf(w.Metadata)), file.Sync(), file.Close()); err != nil {
		return err
	}
	if n != w.Size || w.CRC64 != nil && sum.Sum64() != *w.CRC64 {
		return mismatch()
	}
	if at := timeOf(w.Facts); !at.IsZero() {
		return root.Chtimes(name, time.Time{}, at)
	}
	return nil
}

// modeOf gives the permissions that a file should have: never more than its owner's to
// write, and none by which it would run as another.
func modeOf(m object.Metadata) fs.FileMode {
	n, err := strconv.ParseUint(m[FileMode], 8, 32)
	if err != nil {
		return 0o644
	}
	return fs.FileMode(n)&0o755 | 0o600
}

// timeOf gives when the bytes were changed, as a file that the object once was says, or as
// its side does.
func timeOf(f Facts) time.Time {
	if at, err := time.Parse(time.RFC3339Nano, f.Metadata[FileTime]); err == nil {
		return at
	}
	return f.Modified
}

func syncFolder(root *os.Root, name string) error {
	dir, err := root.Open(name)
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

// Annotate cannot be done.
func (f *Folder) Annotate(context.Context, string, Facts) (Facts, error) {
	return Facts{}, fault.New(fault.Unfinished, "not-implemented", "a folder keeps no metadata")
}

// Remove removes a file, and folders that nothing is in any more.
func (f *Folder) Remove(_ context.Context, key string) error {
	root, rel, err := f.path(key)
	if err != nil {
		return err
	}
	if err := root.Remove(rel); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return folderError(err)
	}
	for dir := path.Dir(rel); dir != "."; dir = path.Dir(dir) {
		if root.Remove(dir) != nil { // something is in it
			return nil
		}
	}
	return nil
}
