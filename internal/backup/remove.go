package backup

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"spindle/internal/core/fault"
)

// Removing says which backups are removed.
type Removing struct {
	Folder string
	Names  []string // these, finished or not
	Keep   int      // when Names are none: all but so many latest, at least one, and those that broke off
}

// Removed is what goes, or went.
type Removed struct {
	Backups []string `json:"backups"` // that go, latest first
	Kept    []string `json:"kept"`    // that stay, latest first
	Files   int64    `json:"files"`   // of bodies that none of those has that stay
	Bytes   int64    `json:"bytes"`
	// Unknown are those that stay and were made before it was written down what a backup has. No bodies go.
	Unknown []string `json:"unknown,omitempty"`
}

// Rehearse says what would go. The errors are those of Remove.
func (in *Removing) Rehearse(ctx context.Context) (*Removed, error) { return in.run(ctx, false) }

// Remove removes backups, and the bodies that only they have. One that breaks off, or is killed,
// is gone on with by removing again: a backup is none from its first step on. Errors have the codes
// backup-missing and backup-last, backup-under-way when somebody else is at work in the folder, or
// are those of List.
func (in *Removing) Remove(ctx context.Context) (*Removed, error) { return in.run(ctx, true) }

func (in *Removing) run(ctx context.Context, really bool) (*Removed, error) {
	if _, err := List(in.Folder); err != nil { // it is there, then
		return nil, err
	}
	folder, err := alone(in.Folder)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	volumes, err := unread(in.Folder)
	if err != nil {
		return nil, err
	}
	defer volumes.Close()
	out, stay, err := in.choose()
	if err != nil {
		return nil, err
	}
	need, err := in.need(stay, out) // before anything goes
	if err != nil {
		return nil, err
	}
	if !really {
		return out, in.spare(ctx, need, out, func(string) error { return nil })
	}
	for _, name := range out.Backups {
		if err := removeOne(filepath.Join(in.Folder, name)); err != nil {
			return nil, err
		}
	}
	if err := in.spare(ctx, need, out, os.Remove); err != nil {
		return nil, err
	}
	return out, in.forgetLogs(stay)
}

// removeOne removes a backup's own folder, first what makes it one.
func removeOne(dir string) error {
	if err := os.Remove(filepath.Join(dir, manifestFile)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	if err := errors.Join(d.Sync(), d.Close()); err != nil {
		return err
	}
	return os.RemoveAll(dir)
}

// choose says which go and which stay. What is not finished broke off: nobody else is at work.
func (in *Removing) choose() (out *Removed, stay []*Manifest, err error) {
	finished, unfinished, err := all(in.Folder)
	if err != nil {
		return nil, nil, err
	}
	out = &Removed{}
	going := map[string]bool{}
	for _, name := range in.Names {
		there := slices.Contains(unfinished, name) ||
			slices.ContainsFunc(finished, func(m *Manifest) bool { return m.Name == name })
		if !there {
			return nil, nil, fault.New(fault.NotFound, "backup-missing", "there is no backup %s in %s", name, in.Folder).
				In("backup").Do("see which there are: spindle backup list %s", in.Folder)
		}
		going[name] = true
	}
	for i, m := range finished {
		if going[m.Name] || len(in.Names) == 0 && i >= in.Keep {
			out.Backups = append(out.Backups, m.Name)
			continue
		}
		stay, out.Kept = append(stay, m), append(out.Kept, m.Name)
	}
	for _, name := range unfinished {
		if going[name] || len(in.Names) == 0 {
			out.Backups = append(out.Backups, name)
		}
	}
	if len(stay) == 0 {
		return nil, nil, fault.New(fault.Refused, "backup-last", "no backup would stay in %s", in.Folder).In("backup").
			Do("make another first, or remove the folder itself")
	}
	return out, stay, nil
}

// need gathers what those have that stay.
func (in *Removing) need(stay []*Manifest, out *Removed) (*needed, error) {
	need := &needed{volumes: map[string]bool{}}
	for _, m := range stay {
		switch err := need.add(in.Folder, m); {
		case errors.Is(err, fs.ErrNotExist):
			out.Unknown = append(out.Unknown, m.Name)
		case err != nil:
			return nil, err
		}
	}
	return need, nil
}

// spare looks for the bodies that are not needed, and has each dealt with; for none while it is not known which those
// are.
func (in *Removing) spare(ctx context.Context, need *needed, out *Removed, each func(path string) error) error {
	if len(out.Unknown) > 0 {
		return nil
	}
	root := filepath.Join(in.Folder, volumesDir)
	return filepath.WalkDir(root+"/", func(path string, d fs.DirEntry, err error) error { // "/": it may be a link
		if err = errors.Join(err, ctx.Err()); err != nil || d.IsDir() {
			return err
		}
		rel, err := filepath.Rel(root, path)
		if err != nil || need.has(filepath.ToSlash(rel)) {
			return err
		}
		st, err := d.Info()
		if err != nil {
			return err
		}
		out.Files, out.Bytes = out.Files+1, out.Bytes+st.Size()
		return each(path)
	})
}

// forgetLogs removes what of the logs leads to none of those that stay.
func (in *Removing) forgetLogs(stay []*Manifest) error {
	done := map[string]bool{}
	for _, m := range stay {
		if m.Base == nil || done[m.Base.Cluster] {
			continue
		}
		done[m.Base.Cluster] = true
		if err := forgetLog(in.Folder, m.Base.Cluster); err != nil {
			return err
		}
	}
	return nil
}
