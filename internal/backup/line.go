package backup

import (
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"spindle/internal/core/fault"
)

// A restore to a moment begins another line of time of the same cluster: what came after the moment
// on the line before is not of it. line is what leads to a backup's database: its own line, and of
// each that it branched off from the place in the log where that was.
type line struct {
	cluster string
	number  int64            // its own
	until   map[int64]string // by line; places as placeInLog gives them
}

// lineBits is how many bits of a place in the log are within one of its files, of 16 MiB.
const lineBits = 24

// lineOf finds what leads to a base, by what the cluster wrote of it beside its log. The error has
// the code backup-log.
func lineOf(folder string, b *Base) (*line, error) {
	number, err := lineNumber(b.From)
	if err != nil {
		return nil, err
	}
	l := &line{b.Cluster, number, map[int64]string{}}
	name := fmt.Sprintf("%08X.history.gz", number)
	doc, err := unzipped(filepath.Join(LogFolder(folder), b.Cluster, name))
	if errors.Is(err, fs.ErrNotExist) && number == 1 {
		return l, nil // the first branched off from none
	}
	if err == nil {
		err = l.read(doc)
	}
	if err != nil {
		return nil, fault.New(fault.Damaged, "backup-log", "%s in the folder's log cannot be read", name).In("folder").
			Do("bring it back from where the folder was copied to").Because(err)
	}
	return l, nil
}

// read reads what PostgreSQL writes of a line: in each row the number of one before it, the place
// in the log up to which that goes, and why.
func (l *line) read(doc string) error {
	for row := range strings.Lines(doc) {
		cells := strings.Fields(row)
		if len(cells) < 2 || strings.HasPrefix(row, "#") {
			continue
		}
		of, err := strconv.ParseInt(cells[0], 10, 64)
		if err != nil {
			return err
		}
		var high, low int64
		if _, err := fmt.Sscanf(cells[1], "%X/%X", &high, &low); err != nil {
			return err
		}
		l.until[of] = fmt.Sprintf("%08X%08X", high, low>>lineBits)
	}
	return nil
}

// has reports whether the line leads on from a base.
func (l *line) has(b *Base) bool {
	number, err := lineNumber(b.From)
	if err != nil || b.Cluster != l.cluster {
		return false
	}
	until, branched := l.until[number]
	return number == l.number || branched && placeInLog(b.To) <= until
}

func lineNumber(file string) (int64, error) {
	n, err := strconv.ParseInt(file[:min(len(file), 8)], 16, 64)
	if err != nil {
		err = fault.New(fault.Damaged, "backup-log", "%q is no file of a log", file).In("backup").Because(err)
	}
	return n, err
}

func unzipped(file string) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	plain, err := gzip.NewReader(f)
	if err != nil {
		return "", err
	}
	b, err := io.ReadAll(io.LimitReader(plain, 1<<20))
	return string(b), err
}
