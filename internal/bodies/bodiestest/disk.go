package bodiestest

import (
	"errors"
	"os"
	"sync"
	"time"

	"spindle/internal/bodies"
)

// Op is what a disk is asked to do.
type Op string

// What disks do.
const (
	Open    Op = "open"
	Create  Op = "create"
	Read    Op = "read"
	Write   Op = "write"
	Sync    Op = "sync"
	SyncDir Op = "sync the folder"
	Remove  Op = "remove"
)

// Fault is how an operation goes wrong; the zero value is that it does not.
type Fault struct {
	Err   error         // what it fails with
	Torn  int           // of a write or a read that fails: so many bytes get there all the same
	Slow  time.Duration // how long it takes, before anything else
	Wrong bool          // of a read: a byte is another one
}

// FaultyDisk is the system's disk with faults.
type FaultyDisk struct {
	bodies.SystemDisk
	mu   sync.Mutex
	plan func(op Op, path string) Fault
}

var _ bodies.Disk = (*FaultyDisk)(nil)

// Plan has faults decided by a function, which is called with one operation at a time; nil ends
// them.
func (d *FaultyDisk) Plan(plan func(op Op, path string) Fault) {
	d.mu.Lock()
	d.plan = plan
	d.mu.Unlock()
}

// Fails has operations fail with an error.
func (d *FaultyDisk) Fails(err error, ops ...Op) {
	d.Plan(func(op Op, _ string) Fault {
		for _, o := range ops {
			if o == op {
				return Fault{Err: err}
			}
		}
		return Fault{}
	})
}

func (d *FaultyDisk) fault(op Op, path string) Fault {
	d.mu.Lock()
	var f Fault
	if d.plan != nil {
		f = d.plan(op, path)
	}
	d.mu.Unlock()
	time.Sleep(f.Slow)
	if f.Err != nil {
		f.Err = &os.PathError{Op: string(op), Path: path, Err: f.Err}
	}
	return f
}

// Open opens a file for reading.
func (d *FaultyDisk) Open(path string) (*os.File, error) {
	if f := d.fault(Open, path); f.Err != nil {
		return nil, f.Err
	}
	return d.SystemDisk.Open(path)
}

// Create makes a file that is not there.
func (d *FaultyDisk) Create(path string) (*os.File, error) {
	if f := d.fault(Create, path); f.Err != nil {
		return nil, f.Err
	}
	return d.SystemDisk.Create(path)
}

// ReadAt reads at an offset.
func (d *FaultyDisk) ReadAt(file *os.File, b []byte, at int64) (int, error) {
	f := d.fault(Read, file.Name())
	if f.Err != nil {
		n, err := d.SystemDisk.ReadAt(file, b[:min(f.Torn, len(b))], at)
		return n, errors.Join(f.Err, err)
	}
	n, err := d.SystemDisk.ReadAt(file, b, at)
	if f.Wrong && n > 0 {
		b[n/2] ^= 0x40
	}
	return n, err
}

// WriteAt writes at an offset.
func (d *FaultyDisk) WriteAt(file *os.File, b []byte, at int64) (int, error) {
	if f := d.fault(Write, file.Name()); f.Err != nil {
		n, err := d.SystemDisk.WriteAt(file, b[:min(f.Torn, len(b))], at)
		return n, errors.Join(f.Err, err)
	}
	return d.SystemDisk.WriteAt(file, b, at)
}

// Write writes at the end.
func (d *FaultyDisk) Write(file *os.File, b []byte) (int, error) {
	if f := d.fault(Write, file.Name()); f.Err != nil {
		n, err := d.SystemDisk.Write(file, b[:min(f.Torn, len(b))])
		return n, errors.Join(f.Err, err)
	}
	return d.SystemDisk.Write(file, b)
}

// Sync brings a file to the disk.
func (d *FaultyDisk) Sync(file *os.File) error {
	if f := d.fault(Sync, file.Name()); f.Err != nil {
		return f.Err
	}
	return d.SystemDisk.Sync(file)
}

// SyncDir brings names to the disk.
func (d *FaultyDisk) SyncDir(dir string) error {
	if f := d.fault(SyncDir, dir); f.Err != nil {
		return f.Err
	}
	return d.SystemDisk.SyncDir(dir)
}

// Remove removes a file.
func (d *FaultyDisk) Remove(path string) error {
	if f := d.fault(Remove, path); f.Err != nil {
		return f.Err
	}
	return d.SystemDisk.Remove(path)
}
