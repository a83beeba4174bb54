package bodies

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"spindle/internal/core/fault"
)

// markerFile stands in every volume and says which it is: a directory without it, or
// with another's, is not the volume, whatever else is in it, as when its disk is not
// mounted.
const markerFile = "volume.json"

type markerText struct {
	Volume string `json:"volume"`
	Says   string `json:"says"`
}

// NewMarker gives what the marker of a new volume says.
func NewMarker() string { return strings.ToLower(rand.Text()) }

// ReadMarker gives what the marker file in a directory says, "" when there is none.
func ReadMarker(dir string) (string, error) {
	b, err := os.ReadFile(filepath.Join(dir, markerFile))
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrInvalid) {
		return "", nil
	}
	if err != nil {
		return "", diskError(err)
	}
	var m markerText
	if err := json.Unmarshal(b, &m); err != nil || m.Volume == "" {
		return "", nil
	}
	return m.Volume, nil
}

// writeMarker makes a directory the volume of a marker.
func writeMarker(dir, marker string) error {
	b, err := json.Marshal(markerText{marker, "This directory is a volume of Spindle. Keep this file with it."})
	if err != nil {
		return err
	}
	f, err := os.OpenFile(filepath.Join(dir, markerFile), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return fault.New(fault.Invalid, "volume", "the directory %s cannot be marked as a volume", dir).In("volumes").
			Do("give a directory that the service may write to").Because(err)
	}
	_, err = f.Write(append(b, '\n'))
	return errors.Join(err, f.Sync(), f.Close(), syncDir(dir))
}

// Prepare makes a new volume of a directory, which must be empty or missing. The errors
// have the codes volume, volume-taken and volume-not-empty.
func Prepare(dir, marker string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fault.New(fault.Invalid, "volume", "the directory %s cannot be made", dir).In("volumes").
			Do("give one that the service may make and write to").Because(err)
	}
	there, err := ReadMarker(dir)
	if err != nil {
		return err
	}
	if there != "" {
		return fault.New(fault.Conflict, "volume-taken", "the directory %s is a volume already", dir).In("volumes").
			Do("give another directory; each volume is of one tier")
	}
	list, err := os.ReadDir(dir)
	if err != nil {
		return diskError(err)
	}
	for _, e := range list {
		if e.Name() != "lost+found" {
			return fault.New(fault.Conflict, "volume-not-empty", "the directory %s is not empty: %s is in it", dir, e.Name()).
				In("volumes").Do("give an empty directory, or one that is not there yet")
		}
	}
	v, err := Open(dir, 0)
	if err != nil {
		return err
	}
	return errors.Join(v.Close(), writeMarker(dir, marker))
}

// Discard makes a directory that was prepared, and in which nothing was kept, an empty
// one again.
func Discard(dir, marker string) {
	if there, err := ReadMarker(dir); err != nil || there != marker {
		return
	}
	// What is not empty stays, and what cannot be removed does no harm.
	_ = os.Remove(filepath.Join(dir, markerFile))
	for i := range 256 {
		_ = os.Remove(filepath.Join(dir, "whole", fmt.Sprintf("%02x", i)))
	}
	for _, d := range []string{"whole", "segments"} {
		_ = os.Remove(filepath.Join(dir, d))
	}
}

// Mark has an open volume be known by a marker, which is written unless one is there. It
// gives the marker in force.
func (v *Volume) Mark(marker string) (string, error) {
	there, err := ReadMarker(v.dir)
	if err == nil && there == "" {
		there, err = marker, writeMarker(v.dir, marker)
	}
	v.marker = there
	return there, err
}

// OpenMarked opens the volume of a marker, whether it is there or away.
func OpenMarked(dir string, tier int16, marker string) *Volume {
	v := newVolume(dir, tier)
	v.marker = marker
	return v
}

// Present refuses a volume that is away: its directory has no marker, or another's.
// The error has the code volume-away.
func (v *Volume) Present() error {
	if v.marker == "" {
		return nil
	}
	there, err := ReadMarker(v.dir)
	if err == nil && there == v.marker {
		return nil
	}
	says := "its marker file is missing"
	switch {
	case errors.Is(err, syscall.EMFILE), errors.Is(err, syscall.ENFILE): // the process's trouble, not the disk's
		return diskError(err)
	case err != nil:
		says = "its disk reports an error"
	case there != "":
		says = "another volume is in its place"
	}
	return Away(v.dir, says).Because(err)
}

// Try makes a small write to the volume, syncs it and takes it away again. The error says why
// nothing can be written.
func (v *Volume) Try() error {
	if err := v.Present(); err != nil {
		return err
	}
	f, err := os.CreateTemp(v.dir, ".try-")
	if err != nil {
		return diskError(err)
	}
	_, err = f.Write([]byte("written to see whether that can be done"))
	err = errors.Join(err, f.Sync(), f.Close(), os.Remove(f.Name()))
	if err != nil {
		return diskError(err)
	}
	return nil
}

// awayFor is after what time it is of use to try again what a volume that is away refused.
const awayFor = 10 * time.Second

// Away says that the volume of a directory is away.
func Away(dir, why string) *fault.Error {
	f := fault.New(fault.Unavailable, "volume-away", "a volume is away: %s", why).In("volume").On(dir).
		Do("mount its disk where it was; nothing on it is lost by that")
	f.After = awayFor
	return f
}

// String names the volume.
func (v *Volume) String() string { return fmt.Sprintf("volume %s", v.dir) }
