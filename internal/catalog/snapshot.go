package catalog

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"

	"spindle/internal/core/census"
	"spindle/internal/core/object"
	"spindle/internal/core/query"
	"spindle/internal/core/tier"
)

// SnapshotFor bounds how long a snapshot is held: as long as it is, nothing that was
// replaced since can be let go of by the database.
const SnapshotFor = 5 * time.Minute

// Snapshot is the state of the catalog at one moment, for as long as it is open.
type Snapshot struct {
	At   time.Time // the moment that it is true of
	id   string
	c    *Catalog
	lead *sql.Conn
}

// Snapshot takes a snapshot. Close it soon.
func (c *Catalog) Snapshot(ctx context.Context) (*Snapshot, error) {
	s := &Snapshot{c: c}
	var err error
	if s.lead, err = s.begin(ctx); err != nil {
		return nil, err
	}
	if err := s.lead.QueryRowContext(ctx, `select pg_export_snapshot(), clock_timestamp()`).Scan(&s.id,
		&s.At); err != nil {
		s.Close()
		return nil, mapError(err)
	}
	s.At = s.At.UTC()
	return s, nil
}

// begin gives a connection in a transaction that sees the snapshot, or takes one.
func (s *Snapshot) begin(ctx context.Context) (*sql.Conn, error) {
	conn, err := s.c.db.DB.Conn(ctx)
	if err != nil {
		return nil, mapError(err)
	}
	steps := []string{`begin isolation level repeatable read read only`}
	if s.id != "" {
		steps = append(steps, fmt.Sprintf(`set transaction snapshot '%s'`, s.id))
	}
	steps = append(steps, fmt.Sprintf(`set local idle_in_transaction_session_timeout = %d`,
		(SnapshotFor+time.Minute).Milliseconds()))
	for _, step := range steps {
		if _, err := conn.ExecContext(ctx, step); err != nil {
			end(conn)
			return nil, mapError(err)
		}
	}
	return conn, nil
}

// end lets a connection of a snapshot go.
func end(conn *sql.Conn) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if _, err := conn.ExecContext(ctx, `rollback`); err != nil {
		_ = conn.Raw(func(any) error { return errors.New("it is in a transaction still") }) // it is not used again
	}
	_ = conn.Close() // nothing was written
}

// Close lets the snapshot go; those who read from it are done before.
func (s *Snapshot) Close() { end(s.lead) }

// Slice is a part of what is listed: keys from one on and before another, "" for the ends.
type Slice struct{ From, Until string }

// Slices cuts the keys of a bucket beneath a prefix in parts of so many keys, in their
// order, and gives each until f has an error.
func (s *Snapshot) Slices(ctx context.Context, bucket int64, prefix string, keys int, f func(Slice) error) error {
	from := ""
	for {
		q := where(bucket)
		q.beneath("h.key", prefix).when(from != "", "h.key >= ?", []byte(from))
		var until []byte
		err := s.lead.QueryRowContext(ctx,
			`select h.key from heads h where h.bucket = $1 and `+q.String()+` order by h.key offset `+
				q.arg(keys)+` limit 1`, q.args...).Scan(&until)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return mapError(err)
		}
		if err := f(Slice{from, string(until)}); err != nil || until == nil {
			return err
		}
		from = string(until)
	}
}

// CensusAsk asks for the rows of a census in a slice of a bucket.
type CensusAsk struct {
	Bucket   int64
	Name     string
	Prefix   string
	Slice    Slice
	Where    query.Expr // nil: all
	Versions bool       // previous ones, and delete markers unless Where asks for something
	Metadata bool       // is wanted
	Tags     bool       // are wanted
	Tiers    tier.Set
	Now      time.Time
	Limit    int // 0: all
}

// SnapshotReader reads rows of a snapshot; one query at a time.
type SnapshotReader struct {
	conn  *sql.Conn
	names map[int16]string
}

// Reader gives one that reads beside others.
func (s *Snapshot) Reader(ctx context.Context) (*SnapshotReader, error) {
	conn, err := s.begin(ctx)
	return &SnapshotReader{conn: conn, names: map[int16]string{}}, err
}

// Close lets the reader's connection go.
func (r *SnapshotReader) Close() { end(r.conn) }

func (l *CensusAsk) statement() (string, []any) {
	q := where()
	q.and(`h.bucket = ?`, l.Bucket).beneath("h.key", l.Prefix)
	q.when(l.Slice.From != "", `h.key >= ?`, []byte(l.Slice.From)).when(l.Slice.Until != "", `h.key < ?`,
		[]byte(l.Slice.Until))
	q.when(!l.Versions || l.Where != nil, `not h.marker`)
	rows := `select ` + findColumns + `, h.bucket, true as current from heads h where ` + q.String()
	if l.Versions {
		rows += ` union all select ` + findColumns + `, h.bucket, false from history h where ` + q.String()
	}
	p := &predicate{conditions: &conditions{args: q.args}, find: &Find{Name: l.Name, Now: l.Now, Tiers: l.Tiers}}
	term := "true"
	if l.Where != nil {
		term = p.of(l.Where)
	}
	wanted := func(column string, is bool) string {
		if is {
			return column
		}
		return "null::jsonb"
	}
	most := ""
	if l.Limit > 0 {
		most = " limit " + strconv.Itoa(l.Limit)
	}
	return fmt.Sprintf(`select h.key, h.number, h.plain, h.current, h.marker, h.size, h.created, h.content_type, h.tier,
		h.md5, h.parts,
		h.crc64, h.body_file, h.written_by, %s, %s from (%s) h where %s order by h.key, h.number desc`+most,
		wanted("h.metadata", l.Metadata), wanted("h.tags", l.Tags), rows, term), p.args
}

// rowFormats asks for all columns as the database has them, but for the two documents as
// text.
var rowFormats = pgx.QueryResultFormats{1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 0, 0}

// Rows gives each row, whose memory is used again, in the order of keys, of each the newest
// version first.
func (r *SnapshotReader) Rows(ctx context.Context, l *CensusAsk, f func(*census.Row) error) error {
	for _, t := range l.Tiers {
		r.names[t.ID] = t.Name
	}
	statement, args := l.statement()
	err := r.conn.Raw(func(driver any) error {
		conn := driver.(*stdlib.Conn).Conn()
		rows, err := conn.Query(ctx, statement, append([]any{pgx.QueryExecModeDescribeExec, rowFormats}, args...)...)
		if err != nil {
			return err
		}
		defer rows.Close()
		row := census.Row{Bucket: l.Name}
		for rows.Next() {
			r.read(&row, rows.RawValues())
			if err := f(&row); err != nil {
				return err
			}
		}
		return rows.Err()
	})
	return mapError(err)
}

// read takes a row as it comes.
func (r *SnapshotReader) read(row *census.Row, v [][]byte) {
	row.Key, row.Number = v[0], integer(v[1])
	row.Plain, row.Current, row.Marker = integer(v[2]) == 1, integer(v[3]) == 1, integer(v[4]) == 1
	row.Size = integer(v[5])
	row.Changed = moment(v[6])
	if row.Type != string(v[7]) {
		row.Type = string(v[7])
	}
	row.Tier = r.names[int16(integer(v[8])&math.MaxUint16)]
	row.MD5, row.Parts, row.CRC64 = v[9], int(integer(v[10])), integer(v[11])
	row.Sealed = object.BodyRef{File: integer(v[12])}.Sealed()
	if row.Writer != string(v[13]) {
		row.Writer = string(v[13])
	}
	row.Metadata, row.Tags = document(v[14]), document(v[15])
}

// document gives one that says something.
func document(b []byte) []byte {
	if len(b) <= len("{}") {
		return nil
	}
	return b
}
