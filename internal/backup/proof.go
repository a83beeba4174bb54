package backup

import (
	"crypto/hkdf"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"spindle/internal/core/fault"
)

// proofFile has a line for each master key: what proves with it that whoever had the key wrote
// the manifest.
const proofFile = "manifest.proof"

const proofMost = 64 << 10 // bytes of it

// masterKeys gives the keys of a text, as the file and the environment have them.
func masterKeys(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(", \n\r\t", r) })
}

func proofOf(key string, manifest []byte) (string, error) {
	k, err := hkdf.Key(sha256.New, []byte(key), nil, "manifest of a backup", sha256.Size)
	if err != nil {
		return "", err
	}
	mac := hmac.New(sha256.New, k)
	mac.Write(manifest)
	return hex.EncodeToString(mac.Sum(nil)), nil
}

// prove writes down beside a manifest what proves it under each master key.
func prove(dir, key string, manifest []byte) error {
	var text strings.Builder
	for _, k := range masterKeys(key) {
		p, err := proofOf(k, manifest)
		if err != nil {
			return err
		}
		text.WriteString(p + "\n")
	}
	return writeLast(filepath.Join(dir, proofFile), []byte(text.String()))
}

// proved refuses a manifest that nobody with the master key wrote, or that is of another backup.
// The error has the code backup-unproved.
func proved(folder string, m *Manifest, key string) error {
	dir := filepath.Join(folder, m.Name)
	proofs, err := readAtMost(filepath.Join(dir, proofFile), proofMost)
	if errors.Is(err, fs.ErrNotExist) {
		return fault.New(fault.Damaged, "backup-unproved", "nothing proves that the backup %s is what was made", m.Name).
			In("backup").Do("take a backup of this version of spindle; an older one is taken with --unproved, if nobody else could write to the folder")
	}
	if err != nil {
		return err
	}
	if m.Is == m.Name {
		for _, k := range masterKeys(key) {
			want, err := proofOf(k, m.text)
			if err != nil {
				return err
			}
			for is := range strings.Lines(string(proofs)) {
				if hmac.Equal([]byte(strings.TrimSpace(is)), []byte(want)) {
					return nil
				}
			}
		}
	}
	return fault.New(fault.Damaged, "backup-unproved",
		"the manifest of the backup %s was not written with its master key, "+
			"or is another backup's", m.Name).In("backup").Do("take another backup, or bring the folder back from where it was copied to")
}

// readAtMost reads a file that has no more bytes than that.
func readAtMost(path string, most int64) ([]byte, error) {
	st, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if st.Size() > most {
		return nil, fault.New(fault.TooLarge, "backup-file", "%s has more than %d bytes", filepath.Base(path),
			most).In("backup").
			Do("take another backup: that file is none that spindle wrote")
	}
	return os.ReadFile(path)
}

// What stands in a manifest becomes parts of paths.
var (
	markerForm  = regexp.MustCompile(`^[0-9A-Za-z-]{1,64}$`)
	clusterForm = regexp.MustCompile(`^[0-9]{1,20}$`)
	logForm     = regexp.MustCompile(`^[0-9A-F]{24}$`)
	tierForm    = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,63}$`)
)

// plain refuses a manifest that names what no manifest names.
func (m *Manifest) plain() error {
	ok := true
	for _, v := range m.Volumes {
		ok = ok && markerForm.MatchString(v.Marker) && tierForm.MatchString(v.Tier) && filepath.IsAbs(v.Dir) &&
			filepath.Clean(v.Dir) == v.Dir
	}
	if b := m.Base; b != nil {
		ok = ok && clusterForm.MatchString(b.Cluster) && logForm.MatchString(b.From) && logForm.MatchString(b.To)
	}
	if ok {
		return nil
	}
	return fault.New(fault.Damaged, "backup-manifest",
		"the manifest of the backup %s names volumes or files that cannot be",
		m.Name).In("backup").Do("take another backup: this one was not made by this program")
}
