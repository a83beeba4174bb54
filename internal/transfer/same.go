package transfer

import (
	"encoding/hex"
	"io"
	"io/fs"
	"os"

	"spindle/internal/core/digest"
)

// SameFile reports whether a file has a size and a CRC-64/NVME, in hex. It reads the
// file only when the size is right.
func SameFile(name string, st fs.FileInfo, size int64, crc string) (bool, error) {
	if !st.Mode().IsRegular() || st.Size() != size {
		return false, nil
	}
	f, err := os.Open(name)
	if err != nil {
		return false, err
	}
	defer f.Close()
	got, err := CRC64(f)
	return got == crc, err
}

// CRC64 gives the CRC-64/NVME of what is left of a reader, in hex.
func CRC64(r io.Reader) (string, error) {
	h := digest.NewCRC64()
	_, err := copyTo(h, r)
	return hex.EncodeToString(h.Sum(nil)), err
}

// copyTo copies with one buffer, whatever shortcuts both ends know.
func copyTo(w io.Writer, r io.Reader) (int64, error) {
	return io.CopyBuffer(struct{ io.Writer }{w}, struct{ io.Reader }{r}, make([]byte, 256<<10))
}
