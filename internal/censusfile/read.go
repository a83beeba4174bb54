package censusfile

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"

	"github.com/parquet-go/parquet-go"

	"spindle/internal/core/census"
	"spindle/internal/core/fault"
)

// Bounds of what is read, whatever it says of itself: a row has a key of 1 KiB, metadata of 2 KiB
// and ten tags, each of which may be escaped; a footer tells of some columns and row groups.
const (
	maxLine   = 256 << 10 // bytes of a row
	maxFooter = 16 << 20  // bytes
)

// Read gives the rows of a file, in its order, until f says that it is enough. scratch is a
// folder for what cannot be read in one go. The error for a file that is none has the code
// census-file.
func Read(format census.Format, columns []census.Column, from io.Reader, scratch string,
	f func(census.Record) (bool, error)) error {
	var err error
	switch format {
	case census.Parquet:
		err = readParquet(columns, from, scratch, f)
	case census.JSONLines:
		err = readLines(columns, from, f)
	default:
		err = readCSV(columns, from, f)
	}
	var known *fault.Error
	if err != nil && !errors.As(err, &known) {
		return fault.New(fault.Conflict, "census-file", "a file of the census cannot be read").
			Do("somebody wrote over it: run the census again").Because(err)
	}
	return err
}

func namesOf(columns []census.Column) []string {
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = c.Name
	}
	return names
}

func readCSV(columns []census.Column, from io.Reader, f func(census.Record) (bool, error)) error {
	most := &rationed{r: from, left: maxLine + bufferSize}
	r := csv.NewReader(bufio.NewReaderSize(most, bufferSize))
	head, err := r.Read()
	if err != nil {
		return err
	}
	if !slices.Equal(head, namesOf(columns)) {
		return fmt.Errorf("it has the columns %q", head)
	}
	for {
		most.left = maxLine + bufferSize
		line, err := r.Read()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if more, err := f(line); err != nil || !more {
			return err
		}
	}
}

// rationed ends with an error when more is read of it than is left, so that no row grows for ever.
type rationed struct {
	r    io.Reader
	left int
}

func (r *rationed) Read(p []byte) (int, error) {
	if r.left <= 0 {
		return 0, fmt.Errorf("a row has more than %d bytes", maxLine)
	}
	n, err := r.r.Read(p[:min(len(p), r.left)])
	r.left -= n
	return n, err
}

func readLines(columns []census.Column, from io.Reader, f func(census.Record) (bool, error)) error {
	s := bufio.NewScanner(from)
	s.Buffer(make([]byte, 0, bufferSize), maxLine)
	for s.Scan() {
		var line map[string]json.RawMessage
		if err := json.Unmarshal(s.Bytes(), &line); err != nil {
			return err
		}
		row := make(census.Record, len(columns))
		for i, c := range columns {
			raw := line[c.Name]
			if len(raw) == 0 || raw[0] != '"' {
				row[i] = string(raw)
			} else if err := json.Unmarshal(raw, &row[i]); err != nil {
				return err
			}
		}
		if more, err := f(row); err != nil || !more {
			return err
		}
	}
	return s.Err()
}

// footerFits refuses a file whose end claims more of it than there is: the library makes room for
// what is claimed.
func footerFits(file io.ReaderAt, size int64) error {
	var end [8]byte
	if size < int64(len(end)) {
		return errors.New("it is too short for a Parquet file")
	}
	if _, err := file.ReadAt(end[:], size-int64(len(end))); err != nil {
		return err
	}
	if n := int64(binary.LittleEndian.Uint32(end[:4])); string(end[4:]) != "PAR1" || n > size-int64(len(end)) ||
		n > maxFooter {
		return fmt.Errorf("its end claims a footer of %d bytes, and the file has %d", n, size)
	}
	return nil
}

// readParquet copies the file aside first: its end says where its columns are.
func readParquet(columns []census.Column, from io.Reader, scratch string, f func(census.Record) (bool,
	error)) (err error) {
	file, err := os.CreateTemp(scratch, "census-*.parquet")
	if err != nil {
		return fault.New(fault.Unavailable, "scratch", "the service's folder for work cannot be used").Because(err)
	}
	defer file.Close()
	if err := os.Remove(file.Name()); err != nil {
		return err
	}
	size, err := io.Copy(file, from)
	if err != nil {
		return err
	}
	return readParquetFile(columns, file, size, f)
}

func readParquetFile(columns []census.Column, file *os.File, size int64, f func(census.Record) (bool,
	error)) (err error) {
	defer func() {
		if p := recover(); p != nil { // a file that lies about itself
			err = fmt.Errorf("it is no Parquet file: %v", p)
		}
	}()
	if err := footerFits(file, size); err != nil {
		return err
	}
	p, err := parquet.OpenFile(file, size)
	if err != nil {
		return err
	}
	names := []string{}
	for _, c := range p.Root().Columns() {
		names = append(names, c.Name())
	}
	if !slices.Equal(names, namesOf(columns)) {
		return fmt.Errorf("it has the columns %q", names)
	}
	for _, g := range p.RowGroups() {
		if more, err := readGroup(g, columns, f); err != nil || !more {
			return err
		}
	}
	return nil
}

func readGroup(g parquet.RowGroup, columns []census.Column, f func(census.Record) (bool, error)) (more bool,
	err error) {
	rows := g.Rows()
	defer func() { err = errors.Join(err, rows.Close()) }()
	block := make([]parquet.Row, 256)
	for {
		n, err := rows.ReadRows(block)
		for _, row := range block[:n] {
			out := make(census.Record, len(columns))
			for _, v := range row {
				if i := v.Column(); i < len(columns) && !v.IsNull() {
					out[i] = textOf(columns[i].Kind, v)
				}
			}
			if more, err := f(out); err != nil || !more {
				return false, err
			}
		}
		if err == io.EOF {
			return true, nil
		}
		if err != nil {
			return false, err
		}
	}
}

func textOf(k census.Kind, v parquet.Value) string {
	switch k {
	case census.Text, census.Map:
		return string(bytes.Clone(v.ByteArray()))
	case census.Truth:
		return strconv.FormatBool(v.Boolean())
	}
	return string(appendValue(nil, k, &census.Value{Number: v.Int64()}))
}
