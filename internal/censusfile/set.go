package censusfile

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"spindle/internal/core/census"
	"spindle/internal/core/fault"
	"spindle/internal/core/query"
	"spindle/internal/side"
)

// Set is a census that was written: its files, at the side where they are.
type Set struct {
	Of      side.Side
	Columns []census.Column
	Format  census.Format
	Files   []census.File
	AsOf    time.Time // what ages are counted to
	Scratch string    // a folder for what cannot be read in one go
}

// Place is how far a set was read: so many rows of a file.
type Place struct {
	File int   `json:"f"`
	Rows int64 `json:"r"`
}

// Rows gives all rows from a place on, with the place after each, until f says that it is
// enough. The error for files that are not those that were written has the code
// census-file, and one that is missing census-gone.
func (s *Set) Rows(ctx context.Context, from Place, f func(census.Record, Place) (bool, error)) error {
	for i := from.File; i < len(s.Files); i++ {
		at := Place{File: i}
		skip := int64(0)
		if i == from.File {
			skip = from.Rows
		}
		more := true
		err := s.file(ctx, &s.Files[i], func(r census.Record) (ok bool, err error) {
			if at.Rows++; at.Rows <= skip {
				return true, nil
			}
			more, err = f(r, at)
			return more, err
		})
		if err != nil || !more {
			return err
		}
	}
	return nil
}

// file reads a file, and looks whether it is the one that was written when all of it was.
func (s *Set) file(ctx context.Context, of *census.File, f func(census.Record) (bool, error)) error {
	facts, err := s.Of.Stat(ctx, of.Key)
	if err != nil {
		if k := fault.From(err).Kind; k == fault.NotFound {
			return fault.New(fault.NotFound, "census-gone", "the file %s of the census is not there any more", of.Key).
				Do("run the census again").Because(err)
		}
		return err
	}
	changed := fault.New(fault.Conflict, "census-file", "the file %s is not the one that the census wrote", of.Key).
		Do("somebody wrote over it: run the census again")
	if facts.Size != of.Bytes {
		return changed
	}
	body, err := s.Of.Read(ctx, of.Key, facts.ETag, 0, facts.Size)
	if err != nil {
		return err
	}
	defer body.Close()
	if s.Format == census.Parquet { // nothing of it is believed before it is known to be ours
		return s.known(of, body, f, changed)
	}
	sum := sha256.New()
	whole := true
	if err := Read(s.Format, s.Columns, io.TeeReader(body, sum), s.Scratch, func(r census.Record) (bool, error) {
		more, err := f(r)
		whole = whole && more
		return more, err
	}); err != nil || !whole {
		return err
	}
	if hex.EncodeToString(sum.Sum(nil)) != of.SHA256 {
		return changed
	}
	return nil
}

// known reads a file from a copy, once its digest is that of what was written.
func (s *Set) known(of *census.File, body io.Reader, f func(census.Record) (bool, error), changed error) error {
	file, err := os.CreateTemp(s.Scratch, "census-*")
	if err != nil {
		return fault.New(fault.Unavailable, "scratch", "the service's folder for work cannot be used").Because(err)
	}
	defer file.Close()
	if err := os.Remove(file.Name()); err != nil {
		return err
	}
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(file, sum), io.LimitReader(body, of.Bytes+1))
	if err != nil {
		return err
	}
	if n != of.Bytes || hex.EncodeToString(sum.Sum(nil)) != of.SHA256 {
		return changed
	}
	return readParquetFile(s.Columns, file, n, f)
}

// index gives where a column is, -1 for nowhere.
func (s *Set) index(name string) int {
	return slices.IndexFunc(s.Columns, func(c census.Column) bool { return c.Name == name })
}

// Test gives what an expression says of rows. The error for one that asks for what is in no
// column has the code census-column.
func (s *Set) Test(x query.Expr) (func(census.Record) bool, error) {
	if err := s.answers(x); err != nil {
		return nil, err
	}
	at := map[string]int{}
	for i, c := range s.Columns {
		at[c.Name] = i
	}
	text := func(r census.Record, name string) string {
		if i, ok := at[name]; ok {
			return r[i]
		}
		return ""
	}
	return func(r census.Record) bool {
		o := query.Object{Bucket: text(r, "bucket"), Key: text(r, "key"), Type: text(r, "type"), Tier: text(r, "tier"),
			Writer: text(r, "writer"), MD5: text(r, "etag"), CRC64: text(r, "crc64"), Version: text(r, "version"),
			Sealed: text(r, "sealed") == "true", Current: text(r, "state") == "current"}
		o.Size, _ = strconv.ParseInt(text(r, "size"), 10, 64)     // a marker has none
		o.Changed, _ = time.Parse(momentForm, text(r, "changed")) // there always, where the column is
		o.Metadata, o.Tags = s.maps(r, "field", "fields"), s.maps(r, "tag", "tags")
		return query.Holds(x, o, s.AsOf)
	}, nil
}

// answers refuses an expression about what is in no column.
func (s *Set) answers(x query.Expr) (err error) {
	query.Each(x, func(t *query.Test) {
		name, in := t.Field.Name, ""
		switch name {
		case "md5":
			name = "etag"
		case "current":
			name = "state"
		case "age":
			name = "changed"
		case "field", "tag":
			name, in = name+" "+t.Field.Named, name+"s"
		}
		if s.index(name) < 0 && (in == "" || s.index(in) < 0) && err == nil {
			err = fault.New(fault.Invalid, "census-column", "the census has no column %q", name).In("where").
				Do("ask for what is in its columns: %s", strings.Join(namesOf(s.Columns), ", "))
		}
	})
	return err
}

// maps gives the metadata or the tags of a row: from the column of all, or those of one
// each.
func (s *Set) maps(r census.Record, kind, all string) map[string]string {
	out := map[string]string{}
	for i, c := range s.Columns {
		if c.Name == all && r[i] != "" {
			_ = json.Unmarshal([]byte(r[i]), &out) // what is no object has no fields
		} else if name, ok := strings.CutPrefix(c.Name, kind+" "); ok && r[i] != "" {
			out[name] = r[i]
		}
	}
	return out
}

// MaxTotals bounds the different values that are told apart.
const MaxTotals = 100_000

// value gives what rows are summed by: a column, or a field or a tag in the column of all;
// nil for neither.
func (s *Set) value(by string) func(census.Record) string {
	if at := s.index(by); at >= 0 {
		return func(r census.Record) string {
			if s.Columns[at].Kind == census.Moment {
				day, _, _ := strings.Cut(r[at], "T")
				return day
			}
			if first, _, ok := strings.Cut(r[at], "/"); by == "key" && ok {
				return first + "/"
			}
			return r[at]
		}
	}
	for _, kind := range []string{"field", "tag"} {
		if name, ok := strings.CutPrefix(by, kind+" "); ok && s.index(kind+"s") >= 0 {
			return func(r census.Record) string { return s.maps(r, kind, kind+"s")[name] }
		}
	}
	return nil
}

// Totals sums rows for which test holds by the values of a column; a nil test holds for all.
// Keys are summed by what stands before their first slash, moments by their day. The error
// for more than MaxTotals values has the code census-values.
func (s *Set) Totals(ctx context.Context, by string, test func(census.Record) bool) ([]census.Total, error) {
	value, size := s.value(by), s.index("size")
	if value == nil {
		return nil, fault.New(fault.Invalid, "census-column", "the census has no column %q", by).In("by").
			Do("take one of %s", strings.Join(namesOf(s.Columns), ", "))
	}
	sums := map[string]*census.Total{}
	err := s.Rows(ctx, Place{}, func(r census.Record, _ Place) (bool, error) {
		if test != nil && !test(r) {
			return true, nil
		}
		v := value(r)
		t := sums[v]
		if t == nil {
			if len(sums) == MaxTotals {
				return false, fault.New(fault.Invalid, "census-values", "the column %q has more than %d values", by,
					MaxTotals).In("by").
					Do("ask for rows like an expression, or take another column")
			}
			t = &census.Total{Value: strings.Clone(v)}
			sums[t.Value] = t
		}
		t.Rows++
		if size >= 0 {
			n, _ := strconv.ParseInt(r[size], 10, 64) // a marker has none
			t.Bytes += n
		}
		return true, nil
	})
	out := make([]census.Total, 0, len(sums))
	for _, t := range sums {
		out = append(out, *t)
	}
	slices.SortFunc(out, func(a, b census.Total) int {
		return cmp.Or(cmp.Compare(b.Rows, a.Rows),
			strings.Compare(a.Value, b.Value))
	})
	return out, err
}
