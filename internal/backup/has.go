package backup

import (
	"bufio"
	"compress/gzip"
	"errors"
	"hash/fnv"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"spindle/internal/core/fault"
)

// has is the list of what a backup has in volumes/: a line for each file, MARKER/PATH, or MARKER/
// for all that is there of a volume.
type has struct {
	f   *os.File
	zip *gzip.Writer
	w   *bufio.Writer
}

func newHas(dir string) (*has, error) {
	f, err := os.OpenFile(filepath.Join(dir, hasFile), os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, err
	}
	zip := gzip.NewWriter(f)
	return &has{f: f, zip: zip, w: bufio.NewWriter(zip)}, nil
}

func (h *has) file(marker, rel string) error {
	_, err := h.w.WriteString(marker + "/" + rel + "\n")
	return err
}

func (h *has) all(marker string) error { return h.file(marker, "") }

func (h *has) close() error {
	return errors.Join(h.w.Flush(), h.zip.Close(), h.f.Sync(), h.f.Close())
}

// needed is what backups have in volumes/. Files are known by digests of 64 bits: one that shares
// its digest with one that is needed is needed, too.
type needed struct {
	files   []uint64 // sorted
	volumes map[string]bool
}

func digestOfPath(path string) uint64 {
	h := fnv.New64a()
	_, _ = io.WriteString(h, path)
	return h.Sum64()
}

// add adds what a backup has. The error for one that does not say it is os.ErrNotExist.
func (n *needed) add(folder string, m *Manifest) error {
	f, err := os.Open(filepath.Join(folder, m.Name, hasFile))
	if err != nil {
		return err
	}
	defer f.Close()
	zip, err := gzip.NewReader(f)
	if err != nil {
		return hasFault(m, err)
	}
	lines := bufio.NewScanner(zip)
	for lines.Scan() {
		marker, rel, _ := strings.Cut(lines.Text(), "/")
		if rel == "" {
			n.volumes[marker] = true
			continue
		}
		n.files = append(n.files, digestOfPath(lines.Text()))
	}
	if err := lines.Err(); err != nil {
		return hasFault(m, err)
	}
	slices.Sort(n.files)
	n.files = slices.Compact(n.files)
	return nil
}

func hasFault(m *Manifest, err error) error {
	return fault.New(fault.Damaged, "backup-bodies", "the list of bodies of the backup %s cannot be read", m.Name).
		In("backup").Do("remove that backup, or bring the file %s back from where the folder was copied to", hasFile).
		Because(err)
}

// has reports whether a file of volumes/ is needed.
func (n *needed) has(path string) bool {
	marker, _, _ := strings.Cut(path, "/")
	if n.volumes[marker] {
		return true
	}
	_, found := slices.BinarySearch(n.files, digestOfPath(path))
	return found
}
