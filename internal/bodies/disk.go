package bodies

import (
	"os"

	"golang.org/x/sys/unix"
)

// Disk is what volumes ask of a disk for bodies. The operating system's is used unless another
// is set by On: tests put faults behind it. Locks, and what a body's file is sent to a socket
// with, are of the files that it gives.
type Disk interface {
	// Open opens a file for reading.
	Open(path string) (*os.File, error)
	// Create makes a file that is not there, for writing.
	Create(path string) (*os.File, error)
	ReadAt(f *os.File, b []byte, at int64) (int, error)
	WriteAt(f *os.File, b []byte, at int64) (int, error)
	Write(f *os.File, b []byte) (int, error)
	// Sync returns once what was written to a file is on the disk.
	Sync(f *os.File) error
	// SyncDir returns once the names of files in a directory are.
	SyncDir(dir string) error
	Remove(path string) error
}

// SystemDisk is the operating system's.
type SystemDisk struct{}

var _ Disk = SystemDisk{}

// Open opens a file for reading.
func (SystemDisk) Open(path string) (*os.File, error) { return os.Open(path) }

// Create makes a file that is not there, for writing.
func (SystemDisk) Create(path string) (*os.File, error) {
	return os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
}

// ReadAt reads at an offset.
func (SystemDisk) ReadAt(f *os.File, b []byte, at int64) (int, error) { return f.ReadAt(b, at) }

// WriteAt writes at an offset.
func (SystemDisk) WriteAt(f *os.File, b []byte, at int64) (int, error) { return f.WriteAt(b, at) }

// Write writes at the end.
func (SystemDisk) Write(f *os.File, b []byte) (int, error) { return f.Write(b) }

// Sync returns once what was written to a file is on the disk.
func (SystemDisk) Sync(f *os.File) error { return unix.Fdatasync(int(f.Fd())) }

// SyncDir returns once the names of files in a directory are.
func (SystemDisk) SyncDir(dir string) error { return syncDir(dir) }

// Remove removes a file.
func (SystemDisk) Remove(path string) error { return os.Remove(path) }

// On has the volume use a disk. It comes before the volume is used.
func (v *Volume) On(d Disk) { v.disk = d }

// diskFile is a file that is read by way of a disk.
type diskFile struct {
	*os.File
	disk Disk
}

// ReadAt reads at an offset.
func (f diskFile) ReadAt(b []byte, at int64) (int, error) { return f.disk.ReadAt(f.File, b, at) }
