package backup

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"spindle/internal/core/fault"
)

// alone makes a folder of backups and has it for this process alone until it is closed, or the
// process ends: two at once would write the same copies of bodies.
func alone(folder string) (*os.File, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, folderFault(folder, err)
	}
	return lock(folder, lockFile, unix.LOCK_EX, "a backup is being made into %s, or removed from it")
}

// unread has the bodies of a folder of backups for whoever removes some, until it is closed.
func unread(folder string) (*os.File, error) {
	return lock(folder, readFile, unix.LOCK_EX, "a backup in %s is being checked or restored")
}

// reading keeps the bodies of a folder of backups from being removed until it is closed. A folder
// that may not be written to, or cannot be locked, stops no restore.
func reading(folder string) (*os.File, error) {
	f, err := lock(folder, readFile, unix.LOCK_SH, "backups are being removed from %s")
	if fault.HasCode(err, "backup-folder") {
		return nil, nil // which closes well
	}
	return f, err
}

// lock locks a folder by a file in it that is open for writing: on NFS neither a directory can be
// locked nor what is open for reading.
func lock(folder, file string, how int, busy string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(folder, file), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, folderFault(folder, err)
	}
	err = unix.Flock(int(f.Fd()), how|unix.LOCK_NB)
	if err == nil {
		return f, nil
	}
	f.Close()
	if errors.Is(err, unix.EWOULDBLOCK) {
		return nil, fault.New(fault.Conflict, "backup-under-way", busy, folder).In("folder").
			Do("wait until that is done, or use another folder")
	}
	return nil, folderFault(folder, err)
}

func folderFault(dir string, err error) error {
	if errors.Is(err, fs.ErrExist) {
		return fault.New(fault.Conflict, "backup-under-way", "another backup began in this second: %s is there", dir).
			In("folder").Do("begin again")
	}
	return fault.New(fault.Invalid, "backup-folder", "the folder %s cannot be used", dir).In("folder").
		Do("give one that may be written to, on a file system that knows locks").Because(err)
}
