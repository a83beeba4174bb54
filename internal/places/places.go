package places

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"spindle/internal/carry"
	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/sealing"
	"spindle/internal/core/syncing"
	"spindle/internal/remote"
	"spindle/internal/side"
	"spindle/internal/store"
)

// SavedBy is who saved a job, with whose rights it is done.
type SavedBy struct {
	Account, Who string
	Source       string // the address that Who came from
	Changed      time.Time
}

// SavedSync gives who saved a sync job.
func SavedSync(j *syncing.Job) SavedBy { return SavedBy{j.Account, j.Who, j.Source, j.Changed} }

// Sides opens the sides of sync jobs, and those of censuses.
type Sides struct {
	Store   *store.Store
	Remote  *remote.Pool
	Folders []string // roots beneath which folders may be
}

// Open gives a side of a job and what it is, by which another one in its place is known; at
// a moment, the side as it was then. The errors have the codes folder-refused,
// folder-missing, as-of-versions and those of buckets and endpoints.
func (s *Sides) Open(ctx context.Context, j *syncing.Job, p syncing.Place, at *time.Time,
	odd func(key, what string)) (of side.Side, mark string, err error) {
	if p.Folder != "" {
		return s.folder(p.Folder, side.Links(j.Links), odd)
	}
	return s.Bucket(ctx, SavedSync(j), p, at)
}

// Bucket gives a side that is a bucket, as Open does.
func (s *Sides) Bucket(ctx context.Context, by SavedBy, p syncing.Place, at *time.Time) (of side.Side, mark string,
	err error) {
	if p.Endpoint != "" {
		return s.there(ctx, by.Account, p, at)
	}
	name, err := object.ParseBucketName(p.Bucket)
	if err != nil {
		return nil, "", err
	}
	f, err := s.Store.Facts(ctx, name)
	if err != nil {
		return nil, "", err
	}
	here := &side.Here{Store: s.Store, Bucket: name, By: catalog.Author{Who: by.Who, Source: by.Source}}
	if of = here; at != nil {
		if err := catalog.BucketBefore(f, *at); err != nil {
			return nil, "", err
		}
		of = &side.HereAsOf{Here: here, At: *at}
	}
	return side.Beneath(of, p.Prefix), fmt.Sprintf("bucket %d", f.ID), nil
}

func (s *Sides) there(ctx context.Context, account string, p syncing.Place, at *time.Time) (side.Side, string,
	error) {
	conn, err := s.Remote.OfAccount(ctx, account, p.Endpoint)
	if err != nil {
		return nil, "", err
	}
	var l side.Look
	if err := side.Patiently(ctx, func() (err error) {
		l, err = side.LookAt(ctx, conn, p.Bucket)
		return err
	}); err != nil {
		return nil, "", err
	}
	there := &side.There{Conn: conn, Bucket: p.Bucket}
	mark := fmt.Sprintf("bucket made %s at endpoint %d", l.Made, conn.ID)
	if at == nil {
		return side.Beneath(there, p.Prefix), mark, nil
	}
	if l.Versioning == object.Off {
		return nil, "", fault.New(fault.Invalid, "as-of-versions", "%s keeps no versions, so no earlier state can be read",
			p).
			In("asOf").Do("leave the moment out, to have what is there now")
	}
	return side.Beneath(&side.ThereAsOf{There: there, At: *at}, p.Prefix), mark, nil
}

func (s *Sides) folder(dir string, links side.Links, odd func(key, what string)) (side.Side, string, error) {
	root, err := s.openFolder(dir)
	if err != nil {
		return nil, "", err
	}
	mark, err := folderMark(root)
	if err != nil {
		root.Close()
		return nil, "", fault.New(fault.Unavailable, "folder", "the folder %s cannot be used", dir).In("folder").Because(err)
	}
	return side.FolderIn(root, dir, links, odd), mark, nil
}

// folderMark tells an open folder from another one that takes its place later.
func folderMark(root *os.Root) (string, error) {
	d, err := root.Open(".")
	if err != nil {
		return "", err
	}
	defer d.Close()
	var st unix.Stat_t
	var fs unix.Statfs_t
	if err := errors.Join(unix.Fstat(int(d.Fd()), &st), unix.Fstatfs(int(d.Fd()), &fs)); err != nil {
		return "", err
	}
	return fmt.Sprintf("folder %x on %x", st.Ino, fs.Fsid.Val), nil
}

// openFolder opens a folder beneath a root, step by step from the root's descriptor: whatever
// is exchanged on the way meanwhile, nothing outside of the root is reached. The errors have the
// codes folder-refused and folder-missing.
func (s *Sides) openFolder(dir string) (*os.Root, error) {
	for _, at := range s.Folders {
		named := []string{at}
		if real, err := filepath.EvalSymlinks(at); err == nil && real != at {
			named = append(named, real)
		}
		for _, name := range named {
			rel, err := filepath.Rel(name, filepath.Clean(dir))
			if err != nil || !filepath.IsLocal(rel) {
				continue
			}
			return openBeneath(at, rel, dir)
		}
	}
	return nil, folderRefused(dir, nil)
}

func openBeneath(at, rel, dir string) (*os.Root, error) {
	top, err := os.OpenRoot(at)
	if err != nil || rel == "." {
		return top, folderMissing(dir, err)
	}
	defer top.Close()
	root, err := top.OpenRoot(rel)
	if err == nil || errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ENOTDIR) {
		return root, folderMissing(dir, err)
	}
	return nil, folderRefused(dir, err)
}

func folderMissing(dir string, err error) error {
	if err == nil {
		return nil
	}
	return fault.New(fault.NotFound, "folder-missing", "the folder %s is not there", dir).In("folder").
		Do("make it, or mount its disk").Because(err)
}

func folderRefused(dir string, err error) error {
	return fault.New(fault.Refused, "folder-refused", "the service does not sync the folder %s", dir).In("folder").
		Do("have its operator start it with --folder-root and a folder above that one, which no link leads out of").Because(err)
}

// Allowed refuses a folder that is beneath no root. The error has the code folder-refused.
func (s *Sides) Allowed(dir string) error {
	root, err := s.openFolder(dir)
	if err == nil {
		return root.Close()
	}
	if fault.HasCode(err, "folder-missing") {
		return nil // it may come; each run looks
	}
	return err
}

// Carrying is what carries a job out, with what its sides are.
type Carrying struct {
	*carry.Job
	FromMark, ToMark string
	folders          []*side.Folder
	sealed           side.Side // the place that holds what is sealed; nil: nothing is
}

// Close lets go of the sides.
func (c *Carrying) Close() {
	for _, f := range c.folders {
		_ = f.Close() // it was read from, or written and synced
	}
}

// Carry opens a job's sides, and gives what carries it out; odd hears of what is left out.
func (s *Sides) Carry(ctx context.Context, j *syncing.Job, odd func(key, what string)) (*Carrying, error) {
	o, err := j.Options()
	if err != nil {
		return nil, err
	}
	o.Now = s.Store.Catalog.Now()
	out := &Carrying{Job: &carry.Job{Options: o, Guard: j.Guard, Parallel: j.Parallel, Class: j.Class, Sealed: j.Sealed}}
	if len(j.Limits) > 0 {
		out.Rate = j.Rate
	}
	if out.From, out.FromMark, err = s.Open(ctx, j, j.From, j.AsOf, odd); err != nil {
		return nil, sideFault("from", err)
	}
	out.keep(out.From)
	if out.To, out.ToMark, err = s.Open(ctx, j, j.To, nil, nil); err != nil {
		out.Close()
		return nil, sideFault("to", err)
	}
	out.keep(out.To)
	if err := s.seal(j, out, odd); err != nil {
		out.Close()
		return nil, err
	}
	return out, nil
}

func (c *Carrying) keep(x side.Side) {
	if f, ok := x.(*side.Folder); ok {
		c.folders = append(c.folders, f)
	}
}

// seal puts what seals or opens before a side.
func (s *Sides) seal(j *syncing.Job, c *Carrying, odd func(key, what string)) error {
	if j.Seals == nil {
		return nil
	}
	master, err := s.Remote.Secrets().OpenSecret(catalog.SyncSecret(j.Seals.Recipient), j.Secret)
	if err != nil {
		return err
	}
	keys, err := sealing.FromMaster([]byte(master))
	if err != nil {
		return err
	}
	if at := (&side.Sealed{Keys: keys, Names: j.Seals.Names, Odd: odd}); j.Opens() {
		at.Of = c.From
		c.From, c.sealed = at, at.Of
	} else {
		at.Of = c.To
		c.To, c.sealed = at, at.Of
	}
	return nil
}

// Mark writes down at the place that holds what is sealed how it is, before anything is
// written there. The error has the code sealed-otherwise when it is sealed in another way.
func (c *Carrying) Mark(ctx context.Context, j *syncing.Job) error {
	if c.sealed == nil || j.Opens() {
		return nil
	}
	return side.Patiently(ctx, func() error { return side.KeepMark(ctx, c.sealed, j.Seals) })
}

func sideFault(which string, err error) error {
	f := *fault.From(err)
	f.Field = which
	return &f
}

// Roots checks the folders beneath which folders may be synced, and gives them clean.
func Roots(named []string) (out []string, err error) {
	for _, dir := range named {
		st, serr := os.Stat(dir)
		if !filepath.IsAbs(dir) || serr != nil || !st.IsDir() {
			return nil, fault.New(fault.Invalid, "folder-root", "%q is no folder", dir).In("folder-root").
				Do("give the whole path of one that is there").Because(serr)
		}
		out = append(out, filepath.Clean(dir))
	}
	return out, nil
}
