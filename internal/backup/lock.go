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
	f, err := os.Open(folder)
	if err != nil {
		return nil, folderFault(folder, err)
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		if errors.Is(err, unix.EWOULDBLOCK) {
			return nil, fault.New(fault.Conflict, "backup-under-way", "a backup is being made into %s, or removed from it",
				folder).In("folder").Do("wait until that is done, or give another folder")
		}
		return nil, folderFault(folder, err)
	}
	return f, nil
}

// reading keeps the bodies of a folder of backups from being removed until it is closed. A file
// system that knows no locks stops no restore.
func reading(folder string) (*os.File, error) {
	f, err := os.Open(filepath.Join(folder, volumesDir))
	if err != nil {
		return nil, noFolder(folder, err)
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_SH|unix.LOCK_NB); errors.Is(err, unix.EWOULDBLOCK) {
		f.Close()
		return nil, fault.New(fault.Conflict, "backup-under-way", "backups are being removed from %s", folder).In("folder").
			Do("wait until that is done")
	}
	return f, nil
}

// unread has the bodies of a folder of backups for whoever removes some, until it is closed.
func unread(folder string) (*os.File, error) {
	f, err := os.Open(filepath.Join(folder, volumesDir))
	if err != nil {
		return nil, noFolder(folder, err)
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		if errors.Is(err, unix.EWOULDBLOCK) {
			return nil, fault.New(fault.Conflict, "backup-read", "a backup in %s is being checked or restored", folder).
				In("folder").Do("wait until that is done")
		}
		return nil, folderFault(folder, err)
	}
	return f, nil
}

func folderFault(dir string, err error) error {
	if errors.Is(err, fs.ErrExist) {
		return fault.New(fault.Conflict, "backup-under-way", "another backup began in this second: %s is there", dir).
			In("folder").Do("begin again")
	}
	return fault.New(fault.Invalid, "backup-folder", "the folder %s cannot be used", dir).In("folder").
		Do("give one that may be written to, on a file system that knows locks").Because(err)
}
