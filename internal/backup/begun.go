package backup

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"spindle/internal/core/fault"
)

// begunFile stands in a data directory for as long as a restore into it is not finished.
const begunFile = "restoring.json"

// restoreLock is held by the process that restores.
const restoreLock = ".restoring"

// begun is a restore that is not finished.
type begun struct {
	Backup  string            `json:"backup"`
	Folder  string            `json:"folder"`
	AsOf    *time.Time        `json:"asOf,omitempty"`
	Volumes map[string]string `json:"volumes"` // where volumes come to lie, by their markers
}

// Begun refuses a data directory into which a restore was begun and not finished. The error has the code
// restore-unfinished.
func Begun(data string) error {
	b, err := readBegun(data)
	if err != nil || b == nil {
		return err
	}
	return fault.New(fault.Conflict, "restore-unfinished", "the restore of the backup %s into %s is not finished",
		b.Backup,
		data).In("data").Do("repeat the command to resume: %s", b.command(data))
}

// command is what goes on with the restore.
func (b *begun) command(data string) string {
	which := "--backup " + b.Backup
	if b.AsOf != nil {
		which = "--as-of " + b.AsOf.UTC().Format(time.RFC3339Nano)
	}
	return fmt.Sprintf("spindle restore %s --data %s %s", b.Folder, data, which)
}

func readBegun(data string) (*begun, error) {
	text, err := readAtMost(filepath.Join(data, begunFile), 1<<20)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	b := &begun{}
	return b, json.Unmarshal(text, b)
}

// begin notes that a restore is begun, in an empty directory; or goes on with one that was begun: what is there of
// its database is taken away, and bodies that were copied whole stay.
func (in *Restoring) begin(m *Manifest) error {
	if err := os.MkdirAll(in.Data, 0o711); err != nil {
		return fault.New(fault.Invalid, "data-directory", "the data directory cannot be made").In("data").
			Do("give a directory that this process may write to").Because(err)
	}
	was, err := readBegun(in.Data)
	if err == nil && was == nil {
		err = in.empty() // before anything is put into a directory that is somebody else's
	}
	if err != nil {
		return err
	}
	if in.held, err = lock(in.Data, restoreLock, unix.LOCK_EX, "a restore into %s is under way"); err != nil {
		return err
	}
	folder, err := filepath.Abs(in.Folder)
	if err != nil {
		return err
	}
	in.begun = &begun{Backup: m.Name, Folder: folder, Volumes: map[string]string{}}
	if !in.AsOf.IsZero() {
		in.begun.AsOf = &in.AsOf
	}
	if was == nil {
		return in.note()
	}
	if was.Backup != m.Name || (was.AsOf == nil) != in.AsOf.IsZero() || was.AsOf != nil && !was.AsOf.Equal(in.AsOf) {
		return fault.New(fault.Conflict, "restore-unfinished", "the restore of another backup into %s, %s, is not finished",
			in.Data, was.Backup).In("data").Do("go on with that one: %s; or empty the directory", was.command(in.Data))
	}
	in.begun.Volumes = was.Volumes
	return errors.Join(os.RemoveAll(filepath.Join(in.Data, "postgres")), in.note())
}

// note writes down how far it was begun.
func (in *Restoring) note() error {
	text, err := json.MarshalIndent(in.begun, "", "  ")
	if err != nil {
		return err
	}
	return writeLast(filepath.Join(in.Data, begunFile), text)
}

// ended takes the note away, once all is there.
func (in *Restoring) ended() error {
	return errors.Join(os.Remove(filepath.Join(in.Data, begunFile)), os.Remove(filepath.Join(in.Data, restoreLock)))
}

// letGo lets others restore into the directory.
func (in *Restoring) letGo() {
	if in.held != nil {
		in.held.Close()
	}
}
