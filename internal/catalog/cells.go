package catalog

import (
	"context"
	"database/sql"
	"encoding/binary"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/stdlib"
)

// since2000 is where the database counts moments from, in microseconds.
var since2000 = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC).UnixMicro()

// integer reads a whole number or a yes or no as the database sends it; nothing is 0.
func integer(b []byte) int64 {
	switch len(b) {
	case 1:
		return int64(b[0])
	case 2:
		return int64(int16(binary.BigEndian.Uint16(b)))
	case 4:
		return int64(int32(binary.BigEndian.Uint32(b)))
	case 8:
		return int64(binary.BigEndian.Uint64(b))
	}
	return 0
}

// moment reads a moment as the database sends it.
func moment(b []byte) time.Time { return time.UnixMicro(integer(b) + since2000).UTC() }

// row is what pages are made of: a version, or a folded prefix, as a statement gives it.
type row struct {
	headRow
	Name   []byte // of an entry, beside the version's own columns
	Folded bool
	Latest bool
}

// cells take the columns of rows as the database sends them, by their names: pages have a
// thousand rows, of which reflection would cost more than the database does. The memory is the
// driver's, and used again for the next row: a version copies what it keeps but for the checksum.
var cells = map[string]func(*row, []byte){
	"name":          func(r *row, b []byte) { r.Name = b },
	"folded":        func(r *row, b []byte) { r.Folded = integer(b) != 0 },
	"latest":        func(r *row, b []byte) { r.Latest = integer(b) != 0 },
	"bucket":        func(r *row, b []byte) { r.Bucket = sql.NullInt64{Int64: integer(b), Valid: true} },
	"key":           func(r *row, b []byte) { r.Key = b },
	"number":        func(r *row, b []byte) { r.Number = sql.NullInt64{Int64: integer(b), Valid: true} },
	"revision":      func(r *row, b []byte) { r.Revision = sql.NullInt32{Int32: int32(integer(b)), Valid: true} },
	"created":       func(r *row, b []byte) { r.Created = sql.NullTime{Time: moment(b), Valid: true} },
	"size":          func(r *row, b []byte) { r.Size = sql.NullInt64{Int64: integer(b), Valid: true} },
	"md5":           func(r *row, b []byte) { r.MD5 = b },
	"parts":         func(r *row, b []byte) { r.Parts = sql.NullInt32{Int32: int32(integer(b)), Valid: true} },
	"crc64":         func(r *row, b []byte) { r.CRC64 = sql.NullInt64{Int64: integer(b), Valid: true} },
	"checksum_kind": func(r *row, b []byte) { r.ChecksumKind = sql.NullInt16{Int16: int16(integer(b)), Valid: true} },
	"checksum":      func(r *row, b []byte) { r.Checksum = append([]byte(nil), b...) },
	"tier":          func(r *row, b []byte) { r.Tier = sql.NullInt16{Int16: int16(integer(b)), Valid: true} },
	"body_file":     func(r *row, b []byte) { r.BodyFile = sql.NullInt64{Int64: integer(b), Valid: true} },
	"body_offset":   func(r *row, b []byte) { r.BodyOffset = sql.NullInt64{Int64: integer(b), Valid: true} },
	"content_type":  func(r *row, b []byte) { r.ContentType = sql.NullString{String: string(b), Valid: true} },
	"headers":       func(r *row, b []byte) { r.Headers = b },
	"metadata":      func(r *row, b []byte) { r.Metadata = b },
	"tags":          func(r *row, b []byte) { r.Tags = b },
	"written_by":    func(r *row, b []byte) { r.WrittenBy = sql.NullString{String: string(b), Valid: true} },
	"source":        func(r *row, b []byte) { r.Source = sql.NullString{String: string(b), Valid: true} },
	"plain":         func(r *row, b []byte) { r.Plain = sql.NullBool{Bool: integer(b) != 0, Valid: true} },
	"marker":        func(r *row, b []byte) { r.Marker = sql.NullBool{Bool: integer(b) != 0, Valid: true} },
}

// cellsOf gives what takes each column of a statement's rows.
func cellsOf(columns []pgconn.FieldDescription) ([]func(*row, []byte), error) {
	out := make([]func(*row, []byte), len(columns))
	for i, c := range columns {
		text := c.DataTypeOID == pgtype.TextOID || c.DataTypeOID == pgtype.JSONBOID
		if out[i] = cells[c.Name]; out[i] == nil || (c.Format == pgtype.TextFormatCode) != text {
			return nil, fmt.Errorf("the column %s comes as nothing that is known", c.Name)
		}
	}
	return out, nil
}

// take reads a row.
func (r *row) take(cells []func(*row, []byte), values [][]byte) {
	*r = row{}
	for i, b := range values {
		if b != nil {
			cells[i](r, b)
		}
	}
}

// rows gives each row of a statement of pages. The row is used again for the next. Where a
// connection breaks off before the first, it asks again, once: the pool may have kept one from
// before the server was started anew.
func (c *Catalog) rows(ctx context.Context, each func(*row) error, statement string, args ...any) error {
	given := false
	counted := func(r *row) error {
		given = true
		return each(r)
	}
	err := c.ask(ctx, counted, statement, args)
	if err != nil && !given && ctx.Err() == nil && connectionTrouble(err) {
		err = c.ask(ctx, counted, statement, args)
	}
	return mapError(err)
}

func (c *Catalog) ask(ctx context.Context, each func(*row) error, statement string, args []any) error {
	conn, err := c.db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	return conn.Raw(func(driver any) error {
		rows, err := driver.(*stdlib.Conn).Conn().Query(ctx, statement, args...)
		if err != nil {
			return err
		}
		return eachRow(rows, 0, func(r *row, _ [][]byte) error { return each(r) })
	})
}

// eachRow reads rows of which the first columns are for the caller, and the others are cells.
func eachRow(rows pgx.Rows, own int, each func(r *row, own [][]byte) error) error {
	defer rows.Close()
	var cells []func(*row, []byte)
	var r row
	for rows.Next() {
		if cells == nil {
			var err error
			if cells, err = cellsOf(rows.FieldDescriptions()[own:]); err != nil {
				return err
			}
		}
		values := rows.RawValues()
		r.take(cells, values[own:])
		if err := each(&r, values[:own]); err != nil {
			return err
		}
	}
	return rows.Err()
}
