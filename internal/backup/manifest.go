package backup

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"spindle/internal/core/fault"
)

// Names in a backup's folder.
const (
	manifestFile = "manifest.json"
	dumpFile     = "database.dump"
	keyFile      = "master.key.age"
	hasFile      = "bodies.gz"
	baseFile     = "base/base.tar.gz"
	lockFile     = "lock"
	readFile     = "lock-read"
	logDir       = "log"
	volumesDir   = "volumes"
	moment       = "2006-01-02T15-04-05Z"
)

// Manifest is what a backup is.
type Manifest struct {
	Format  int       `json:"format"`         // 1
	Is      string    `json:"name,omitempty"` // of its folder; "" of one that an older version made
	Made    time.Time `json:"made"`
	Service string    `json:"service"`       // as it tells itself apart
	Dump    string    `json:"dump"`          // SHA-256 of the catalog's, in hex
	Size    int64     `json:"size"`          // of it
	Has     string    `json:"has,omitempty"` // SHA-256 of the list of bodies, in hex
	Base    *Base     `json:"base,omitempty"`
	Volumes []Volume  `json:"volumes"`
	Missing []string  `json:"missing,omitempty"` // tiers at endpoints, and volumes that were away
	Copied  int64     `json:"copied"`            // bytes that were new
	Files   int64     `json:"files"`             // that were new

	Name string `json:"-"` // of its folder
	text []byte // as it stands in its file
}

// manifestMost is how many bytes a manifest has at the most.
const manifestMost = 8 << 20

// LogFolder gives the folder in a folder of backups that the database's log is kept in.
func LogFolder(folder string) string { return filepath.Join(folder, logDir) }

// Base is a copy of the database's own files, from which its log leads to any moment after it.
type Base struct {
	Digest  string    `json:"digest"` // SHA-256 of the file, in hex
	Size    int64     `json:"size"`   // of it
	Cluster string    `json:"cluster"`
	From    string    `json:"from"`  // the first file of the log that it needs
	To      string    `json:"to"`    // the file that was written to when it was complete
	Ready   time.Time `json:"ready"` // from when on moments can be come to
}

// Volume is a volume that was copied.
type Volume struct {
	Marker string `json:"marker"`
	Tier   string `json:"tier"`
	Dir    string `json:"dir"` // where it was
	Bytes  int64  `json:"bytes"`
	Files  int64  `json:"files"`
}

// List gives the backups in a folder, latest first. A folder without a manifest is one that was
// not finished, and none.
func List(folder string) ([]*Manifest, error) {
	finished, _, err := all(folder)
	return finished, err
}

// Unfinished gives the names of those that are being made, or broke off.
func Unfinished(folder string) ([]string, error) {
	_, names, err := all(folder)
	return names, err
}

func all(folder string) (finished []*Manifest, unfinished []string, err error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, nil, noFolder(folder, err)
	}
	for _, e := range entries {
		if _, err := time.Parse(moment, e.Name()); err != nil || !e.IsDir() {
			continue
		}
		m, err := read(folder, e.Name())
		if errors.Is(err, fs.ErrNotExist) {
			unfinished = append(unfinished, e.Name())
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		finished = append(finished, m)
	}
	slices.SortFunc(finished, func(a, b *Manifest) int { return b.Made.Compare(a.Made) })
	return finished, unfinished, nil
}

func noFolder(folder string, err error) error {
	return fault.New(fault.NotFound, "backup-folder", "%s is no folder with backups", folder).In("folder").
		Do("give the folder that spindle backup make was given").Because(err)
}

func read(folder, name string) (*Manifest, error) {
	b, err := readAtMost(filepath.Join(folder, name, manifestFile), manifestMost)
	if err != nil {
		return nil, err
	}
	m := &Manifest{Name: name, text: b}
	if err := json.Unmarshal(b, m); err != nil || m.Format != 1 {
		return nil, fault.New(fault.Damaged, "backup-manifest", "the manifest of the backup %s cannot be read", name).
			In("backup").Do("take an earlier one, or one that a later version of the service made with that version").
			Because(err)
	}
	return m, m.plain()
}

// Find gives a backup of a folder by its name, the latest for none. The error for none has the
// code backup-missing.
func Find(folder, name string) (*Manifest, error) {
	list, err := List(folder)
	if err != nil {
		return nil, err
	}
	for _, m := range list {
		if name == "" || m.Name == name {
			return m, nil
		}
	}
	return nil, fault.New(fault.NotFound, "backup-missing", "there is no finished backup %s in %s", name, folder).
		In("backup").Do("see which there are: spindle backup list %s", folder)
}

// writeLast writes a file that is there whole or not at all.
func writeLast(path string, text []byte) error {
	tmp := path + ".part"
	f, err := os.OpenFile(tmp, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(tmp, path)
}
