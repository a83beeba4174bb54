package censusfile_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/file"

	"spindle/internal/censusfile"
	"spindle/internal/core/census"
	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/query"
	"spindle/internal/side"
)

var names = append(slices.Clone(census.Usual), "sealed", "field taxon", "tag a,b")

func columnsOf(t testing.TB, names []string) []census.Column {
	t.Helper()
	c, err := census.ParseColumns(names)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// sample gives rows in the order of keys, with values that have every sign.
func sample(n int) []census.Row {
	r := rand.New(rand.NewPCG(1, 2))
	odd := []string{"plain", "", "a,b", `say "so"`, "line\r\nline", " space ", "ünïcode é", "\x01", "{}", "'=1+1"}
	out := make([]census.Row, n)
	for i := range out {
		sum := make([]byte, 16)
		for k := range sum {
			sum[k] = byte(r.Uint32())
		}
		out[i] = census.Row{Bucket: "plates", Key: fmt.Appendf(nil, "%06d/%s", i, odd[i%len(odd)]), Number: int64(i + 1),
			Current: true,
			Size:    r.Int64N(1 << 40), Changed: time.Unix(1700000000+int64(i), int64(i%1000)*1000), Type: odd[i%len(odd)],
			Tier: "main",
			MD5:  sum, Parts: i % 3, CRC64: int64(r.Uint64()), Sealed: i%2 == 0, Writer: "scanner-2"}
		switch i % 4 {
		case 0:
			meta, _ := json.Marshal(map[string]string{"taxon": odd[i%len(odd)]})
			tags, _ := json.Marshal(map[string]string{"a,b": odd[(i+1)%len(odd)]})
			out[i].Metadata, out[i].Tags = meta, tags
		case 1:
			out[i].Marker, out[i].Size = true, 0
		}
	}
	return out
}

func written(t testing.TB, f census.Format, columns []census.Column, rows []census.Row) ([]byte, string) {
	t.Helper()
	var b bytes.Buffer
	to := censusfile.Count(&b)
	w, err := censusfile.New(f, columns, to)
	if err != nil {
		t.Fatal(err)
	}
	for i := range rows {
		if err := w.Write(&rows[i]); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	sha, crc := to.Sums()
	again := digest.NewCRC64()
	again.Write(b.Bytes())
	if to.Bytes != int64(b.Len()) || crc != again.Sum64() {
		t.Errorf("%d bytes with %x were counted, %d with %x were written", to.Bytes, crc, b.Len(), again.Sum64())
	}
	return b.Bytes(), sha
}

// All formats give back the same rows, whatever is in them.
func TestFormats(t *testing.T) {
	columns, rows := columnsOf(t, names), sample(5000)
	var first []census.Record
	for _, f := range []census.Format{census.CSV, census.JSONLines, census.Parquet} {
		b, _ := written(t, f, columns, rows)
		var all []census.Record
		if err := censusfile.Read(f, columns, bytes.NewReader(b), t.TempDir(), func(r census.Record) (bool, error) {
			all = append(all, slices.Clone(r))
			return true, nil
		}); err != nil {
			t.Fatal(f, err)
		}
		if first == nil {
			first = all
		}
		if len(all) != len(rows) {
			t.Fatalf("%s: %d rows of %d", f, len(all), len(rows))
		}
		for i := range all {
			want := first[i]
			if f != census.CSV { // it has no line ends but its own in a quoted text
				want = slices.Clone(want)
			}
			for c := range all[i] {
				if strings.ReplaceAll(all[i][c], "\r\n", "\n") != strings.ReplaceAll(want[c], "\r\n", "\n") {
					t.Fatalf("%s, row %d, %s: %q, want %q", f, i, columns[c].Name, all[i][c], want[c])
				}
			}
		}
		if err := censusfile.Read(f, columns, bytes.NewReader(b[:len(b)/2]), t.TempDir(),
			func(census.Record) (bool, error) {
				return true, nil
			}); f != census.CSV && !fault.HasCode(err, "census-file") {
			t.Errorf("%s: half of a file: %v", f, err)
		}
	}
}

// Readers that are not ours read the same: encoding/csv, and Apache's Parquet.
func TestOtherReaders(t *testing.T) {
	columns, rows := columnsOf(t, names), sample(2500)
	b, _ := written(t, census.CSV, columns, rows)
	lines, err := csv.NewReader(bytes.NewReader(b)).ReadAll()
	if err != nil || len(lines) != len(rows)+1 || !slices.Equal(lines[0], names) {
		t.Fatalf("CSV: %v, %d lines, %q", err, len(lines), lines[0])
	}
	b, _ = written(t, census.Parquet, columns, rows)
	p, err := file.NewParquetReader(bytes.NewReader(b))
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	schema := p.MetaData().Schema
	for i, name := range names {
		if schema.Column(i).Name() != name {
			t.Errorf("column %d is %s, want %s", i, schema.Column(i).Name(), name)
		}
	}
	if p.NumRows() != int64(len(rows)) || schema.Column(5).LogicalType().String() == "None" {
		t.Errorf("%d rows, a moment is %s", p.NumRows(), schema.Column(5).LogicalType())
	}
	keys, sizes := []string{}, []int64{}
	for g := range p.NumRowGroups() {
		group := p.RowGroup(g)
		key, err := group.Column(1)
		if err != nil {
			t.Fatal(err)
		}
		size, err := group.Column(4)
		if err != nil {
			t.Fatal(err)
		}
		texts, numbers := make([]parquet.ByteArray, 1000), make([]int64, 1000)
		for key.HasNext() {
			levels := make([]int16, 1000)
			_, n, err := key.(*file.ByteArrayColumnChunkReader).ReadBatch(1000, texts, levels, nil)
			if err != nil {
				t.Fatal(err)
			}
			for _, x := range texts[:n] {
				keys = append(keys, x.String())
			}
		}
		for size.HasNext() {
			levels := make([]int16, 1000)
			_, n, err := size.(*file.Int64ColumnChunkReader).ReadBatch(1000, numbers, levels, nil)
			if err != nil {
				t.Fatal(err)
			}
			sizes = append(sizes, numbers[:n]...)
		}
	}
	k := 0
	for i, r := range rows {
		if keys[i] != string(r.Key) {
			t.Fatalf("row %d has the key %q, want %q", i, keys[i], r.Key)
		}
		if !r.Marker {
			if sizes[k] != r.Size {
				t.Fatalf("row %d has the size %d, want %d", i, sizes[k], r.Size)
			}
			k++
		}
	}
}

// set gives a census of rows in files of so many, in a folder.
func set(t *testing.T, f census.Format, rows []census.Row, each int) *censusfile.Set {
	t.Helper()
	of := &side.Folder{Dir: t.TempDir()}
	t.Cleanup(func() { _ = of.Close() })
	s := &censusfile.Set{Of: of, Columns: columnsOf(t, names), Format: f, Scratch: t.TempDir(),
		AsOf: time.Unix(1800000000, 0)}
	for i := 0; i < len(rows); i += each {
		part := rows[i:min(i+each, len(rows))]
		b, sha := written(t, f, s.Columns, part)
		key := fmt.Sprintf("part-%d", len(s.Files))
		crc := digest.NewCRC64()
		crc.Write(b)
		sum := crc.Sum64()
		if _, err := of.Write(t.Context(), key, body{bytes.NewReader(b)},
			side.Write{Facts: side.Facts{Key: key, Size: int64(len(b)),
				CRC64: &sum}}); err != nil {
			t.Fatal(err)
		}
		s.Files = append(s.Files, census.File{Key: key, Rows: int64(len(part)), Bytes: int64(len(b)), SHA256: sha})
	}
	return s
}

// A set is read from any place on, its rows are told by expressions and summed, and files
// that somebody changed are told.
func TestSet(t *testing.T) {
	rows := sample(1000)
	s := set(t, census.Parquet, rows, 300)
	var at censusfile.Place
	n := 0
	for more := true; more; { // pages of 77
		page := 0
		more = false
		if err := s.Rows(t.Context(), at, func(_ census.Record, p censusfile.Place) (bool, error) {
			n, page, at = n+1, page+1, p
			more = page == 77
			return !more, nil
		}); err != nil {
			t.Fatal(err)
		}
	}
	if n != len(rows) {
		t.Errorf("%d rows in pages, want %d", n, len(rows))
	}
	x, err := query.Parse(`field taxon contains "," and not key begins with 0009`, s.AsOf)
	if err != nil {
		t.Fatal(err)
	}
	test, err := s.Test(x)
	if err != nil {
		t.Fatal(err)
	}
	totals, err := s.Totals(t.Context(), "state", test)
	if err != nil || len(totals) != 1 || totals[0].Rows != 45 {
		t.Errorf("%+v, %v", totals, err)
	}
	if by, err := s.Totals(t.Context(), "field taxon", test); err != nil || len(by) != 1 || by[0].Value != "a,b" {
		t.Errorf("by a field: %+v, %v", by, err)
	}
	if _, err := s.Totals(t.Context(), "nothing", nil); !fault.HasCode(err, "census-column") {
		t.Errorf("by no column: %v", err)
	}
	if x, err = query.Parse("replication is failed", s.AsOf); err == nil {
		if _, err = s.Test(x); !fault.HasCode(err, "census-column") {
			t.Errorf("what is in no column: %v", err)
		}
	}
	good := s.Files[1].SHA256
	s.Files[1].SHA256 = s.Files[0].SHA256
	if _, err := s.Totals(t.Context(), "state", nil); !fault.HasCode(err, "census-file") {
		t.Errorf("another file in its place: %v", err)
	}
	s.Files[1].SHA256, s.Files[2].Key = good, "gone"
	if _, err := s.Totals(t.Context(), "state", nil); !fault.HasCode(err, "census-gone") {
		t.Errorf("a file that is gone: %v", err)
	}
}

// What came, went and changed between two sets is told, across the ends of files.
func TestDiffer(t *testing.T) {
	before := sample(900)
	after := slices.Clone(before)
	after[100].Size++
	after[400].Tier = "cellar"
	after = slices.Delete(after, 200, 203)
	after = append(after, census.Row{Bucket: "plates", Key: []byte("999999"), Number: 5000, Current: true})
	was, is := set(t, census.Parquet, before, 250), set(t, census.JSONLines, after, 333)
	var said []string
	tell := func(d censusfile.Difference) (bool, error) {
		at := d.Is
		if at == nil {
			at = d.Was
		}
		said = append(said, fmt.Sprintf("%s %.6s %v", d.Change, at[1], d.Columns))
		return true, nil
	}
	if err := censusfile.Differ(t.Context(), was, is, tell); err != nil {
		t.Fatal(err)
	}
	want := []string{"changed 000100 [size]", "went 000200 []", "went 000201 []", "went 000202 []",
		"changed 000400 [tier]", "came 999999 []"}
	if !slices.Equal(said, want) {
		t.Errorf("%q, want %q", said, want)
	}
	said = nil
	if err := censusfile.Differ(t.Context(), was, was, tell); err != nil || said != nil {
		t.Errorf("with itself: %q, %v", said, err)
	}
	other := set(t, census.CSV, before, 250)
	other.Columns = other.Columns[:4]
	if err := censusfile.Differ(t.Context(), was, other, tell); !fault.HasCode(err, "census-columns") {
		t.Errorf("other columns: %v", err)
	}
}

type body struct{ *bytes.Reader }

func (b body) Range(_ context.Context, from, length int64) (io.ReadCloser, error) {
	return io.NopCloser(io.NewSectionReader(b, from, length)), nil
}

// endless gives the same bytes for ever.
type endless struct{ start, then string }

func (e *endless) Read(p []byte) (int, error) {
	if e.start != "" {
		n := copy(p, e.start)
		e.start = e.start[n:]
		return n, nil
	}
	for i := range p {
		p[i] = e.then[i%len(e.then)]
	}
	return len(p), nil
}

// A file that lies about itself, or never ends, takes no memory: it is refused.
func TestHostileFiles(t *testing.T) {
	columns := columnsOf(t, names)
	parquet, _ := written(t, census.Parquet, columns, sample(100))
	claiming := func(n uint32) io.Reader {
		b := slices.Clone(parquet)
		binary.LittleEndian.PutUint32(b[len(b)-8:], n)
		return bytes.NewReader(b)
	}
	csv, _ := written(t, census.CSV, columns, sample(1))
	head := string(csv[:bytes.IndexByte(csv, '\n')+1])
	for name, x := range map[string]struct {
		format census.Format
		from   io.Reader
	}{
		"a footer of 4 GiB":             {census.Parquet, claiming(0xfffffff0)},
		"a footer of half of that":      {census.Parquet, claiming(0x7ffffff0)},
		"a footer longer than the file": {census.Parquet, claiming(uint32(len(parquet)))},
		"a file of an end alone":        {census.Parquet, strings.NewReader("\xff\xff\xff\xffPAR1")},
		"a row that never ends":         {census.CSV, &endless{head, "x"}},
		"a quoted text of lines":        {census.CSV, &endless{head + `"`, "x\n"}},
		"columns that never end":        {census.CSV, &endless{head, "x,"}},
		"a line that never ends":        {census.JSONLines, &endless{`{"key":"`, "x"}},
		"a list in a list in a list":    {census.JSONLines, &endless{`{"key":`, "["}},
	} {
		var was, is runtime.MemStats
		runtime.ReadMemStats(&was)
		err := censusfile.Read(x.format, columns, x.from, t.TempDir(), func(census.Record) (bool, error) { return true, nil })
		runtime.ReadMemStats(&is)
		if !fault.HasCode(err, "census-file") {
			t.Errorf("%s: %v", name, err)
		}
		if took := (is.TotalAlloc - was.TotalAlloc) >> 20; took > 64 {
			t.Errorf("%s took %d MiB", name, took)
		}
	}
}
