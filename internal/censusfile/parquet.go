package censusfile

import (
	"io"

	"github.com/klauspost/compress/zstd"
	"github.com/parquet-go/parquet-go"
	compress "github.com/parquet-go/parquet-go/compress/zstd"

	"spindle/internal/core/census"
)

const (
	blockRows = 2048    // that go to the columns together
	groupRows = 100_000 // of a row group
)

// ordered is a group whose fields stand in an order of their own.
type ordered struct {
	parquet.Group
	names []string
}

// Fields gives the columns in their order.
func (o ordered) Fields() []parquet.Field {
	by := map[string]parquet.Field{}
	for _, f := range o.Group.Fields() {
		by[f.Name()] = f
	}
	out := make([]parquet.Field, len(o.names))
	for i, n := range o.names {
		out[i] = by[n]
	}
	return out
}

// few are columns that have few values.
var few = map[string]bool{"bucket": true, "state": true, "type": true, "tier": true, "writer": true}

func schema(columns []census.Column) *parquet.Schema {
	o := ordered{Group: parquet.Group{}}
	for _, c := range columns {
		var n parquet.Node
		switch c.Kind {
		case census.Whole:
			n = parquet.Encoded(parquet.Int(64), &parquet.DeltaBinaryPacked)
		case census.Moment:
			n = parquet.Encoded(parquet.Timestamp(parquet.Microsecond), &parquet.DeltaBinaryPacked)
		case census.Truth:
			n = parquet.Leaf(parquet.BooleanType)
		case census.Map:
			n = parquet.JSON()
		default:
			if n = parquet.String(); few[c.Name] {
				n = parquet.Encoded(n, &parquet.RLEDictionary)
			}
		}
		o.Group[c.Name] = parquet.Optional(n)
		o.names = append(o.names, c.Name)
	}
	return parquet.NewSchema("census", o)
}

// parquetWriter gathers blocks of rows, column by column.
type parquetWriter struct {
	w       *parquet.GenericWriter[any]
	columns []census.Column
	blocks  [][]parquet.Value
	memory  []byte // of the texts of a block
	value   census.Value
	group   int // rows in the row group
}

// packing compresses pages of columns. Its encoders are those of all writers, and look back no
// further than a page is long: by themselves each would keep 8 MiB, and each writer several.
type packing struct{ compress.Codec }

var packer, _ = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithWindowSize(1<<20),
	zstd.WithZeroFrames(true), zstd.WithEncoderCRC(false))

func (*packing) Encode(dst, src []byte) ([]byte, error) { return packer.EncodeAll(src, dst[:0]), nil }

func newParquet(columns []census.Column, to io.Writer) (Writer, error) {
	w := &parquetWriter{columns: columns, blocks: make([][]parquet.Value, len(columns)),
		w: parquet.NewGenericWriter[any](to, schema(columns), parquet.Compression(&packing{}),
			parquet.CreatedBy("spindle", "1", ""))}
	return w, nil
}

func (w *parquetWriter) Write(r *census.Row) error {
	for i := range w.columns {
		c := &w.columns[i]
		c.Of(r, &w.value)
		w.blocks[i] = append(w.blocks[i], w.valueOf(c.Kind).Level(0, level(w.value.None), i))
	}
	if len(w.blocks[0]) < blockRows {
		return nil
	}
	return w.pass()
}

func level(none bool) int {
	if none {
		return 0
	}
	return 1
}

func (w *parquetWriter) valueOf(k census.Kind) parquet.Value {
	switch {
	case w.value.None:
		return parquet.NullValue()
	case k == census.Text || k == census.Map:
		begin := len(w.memory)
		w.memory = append(w.memory, w.value.Text...)
		return parquet.ByteArrayValue(w.memory[begin:])
	case k == census.Truth:
		return parquet.BooleanValue(w.value.Number == 1)
	}
	return parquet.Int64Value(w.value.Number)
}

// pass gives the block to the columns, and ends the row group when it is large enough.
func (w *parquetWriter) pass() error {
	for i, column := range w.w.ColumnWriters() {
		if _, err := column.WriteRowValues(w.blocks[i]); err != nil {
			return err
		}
	}
	w.group += len(w.blocks[0])
	for i := range w.blocks {
		w.blocks[i] = w.blocks[i][:0]
	}
	w.memory = w.memory[:0]
	if w.group < groupRows {
		return nil
	}
	w.group = 0
	return w.w.Flush()
}

func (w *parquetWriter) Close() error {
	if len(w.blocks[0]) > 0 {
		if err := w.pass(); err != nil {
			return err
		}
	}
	return w.w.Close()
}
