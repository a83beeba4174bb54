package transfer

import (
	"io/fs"
	"sync"
	"syscall"
)

// umask gives the process's file mode mask, read once.
var umask = sync.OnceValue(func() fs.FileMode {
	m := syscall.Umask(0)
	syscall.Umask(m)
	return fs.FileMode(m)
})
