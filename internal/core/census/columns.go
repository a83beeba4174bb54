package census

import (
	"encoding/hex"
	"encoding/json"
	"strconv"
	"strings"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/query"
)

// Kind is what the values of a column are.
type Kind string

// Kinds of columns.
const (
	Text   Kind = "text"
	Whole  Kind = "whole number"
	Moment Kind = "moment"    // UTC, to the microsecond
	Truth  Kind = "yes or no" // true, false
	Map    Kind = "map"       // names and values, as a JSON object
)

// MaxColumns bounds a census.
const MaxColumns = 200

// Row is a version that is listed.
type Row struct {
	Bucket         string
	Key            []byte
	Number         int64
	Plain          bool // its id is null
	Current        bool
	Marker         bool // a delete marker: it has nothing but key, id and time
	Size           int64
	Changed        time.Time
	Type           string // of the content
	Tier           string
	MD5            []byte
	Parts          int
	CRC64          int64
	Sealed         bool
	Writer         string
	Metadata, Tags []byte // JSON objects; nil: none
}

// Value is what a row has in a column.
type Value struct {
	None   bool
	Text   []byte // of Text and Map
	Number int64  // of Whole; of Moment microseconds since 1970; of Truth 0 or 1
}

// Column is one of the columns of a census.
type Column struct {
	Name string `json:"name"`
	Kind Kind   `json:"kind"`
	of   func(*Row, *Value)
}

// Of gives a row's value in v, whose memory is used again.
func (c *Column) Of(r *Row, v *Value) {
	v.None, v.Number, v.Text = false, 0, v.Text[:0]
	c.of(r, v)
}

// Usual are the columns of a census that names none.
var Usual = []string{"bucket", "key", "version", "state", "size", "changed", "type", "tier", "etag", "crc64", "writer",
	"fields", "tags"}

func truth(v *Value, is bool) {
	if is {
		v.Number = 1
	}
}

// known are the columns that every version can have. "state" is current, previous or
// marker.
var known = []Column{
	{"bucket", Text, func(r *Row, v *Value) { v.Text = append(v.Text, r.Bucket...) }},
	{"key", Text, func(r *Row, v *Value) { v.Text = append(v.Text, r.Key...) }},
	{"version", Text, version},
	{"state", Text, state},
	{"size", Whole, func(r *Row, v *Value) { v.Number, v.None = r.Size, r.Marker }},
	{"changed", Moment, func(r *Row, v *Value) { v.Number = r.Changed.UnixMicro() }},
	{"type", Text, func(r *Row, v *Value) { v.Text, v.None = append(v.Text, r.Type...), r.Marker || r.Type == "" }},
	{"tier", Text, func(r *Row, v *Value) { v.Text, v.None = append(v.Text, r.Tier...), r.Marker }},
	{"etag", Text, etag},
	{"crc64", Text, crc64},
	{"sealed", Truth, func(r *Row, v *Value) { truth(v, r.Sealed); v.None = r.Marker }},
	{"writer", Text, func(r *Row, v *Value) { v.Text = append(v.Text, r.Writer...) }},
	{"fields", Map, func(r *Row, v *Value) { v.Text, v.None = append(v.Text, r.Metadata...), len(r.Metadata) == 0 }},
	{"tags", Map, func(r *Row, v *Value) { v.Text, v.None = append(v.Text, r.Tags...), len(r.Tags) == 0 }},
}

func version(r *Row, v *Value) {
	if r.Plain {
		v.Text = append(v.Text, "null"...)
		return
	}
	v.Text = append(v.Text, object.VersionID(r.Number).String()...)
}

func state(r *Row, v *Value) {
	switch {
	case r.Marker:
		v.Text = append(v.Text, "marker"...)
	case r.Current:
		v.Text = append(v.Text, "current"...)
	default:
		v.Text = append(v.Text, "previous"...)
	}
}

func etag(r *Row, v *Value) {
	if v.None = r.Marker; v.None {
		return
	}
	if v.Text = hex.AppendEncode(v.Text, r.MD5); r.Parts > 0 {
		v.Text = strconv.AppendInt(append(v.Text, '-'), int64(r.Parts), 10)
	}
}

func crc64(r *Row, v *Value) {
	if v.None = r.Marker; v.None {
		return
	}
	const digits = "0123456789abcdef"
	for shift := 60; shift >= 0; shift -= 4 {
		v.Text = append(v.Text, digits[uint64(r.CRC64)>>shift&15])
	}
}

// named gives a column of one metadata field, or one tag.
func named(kind, name string, of func(*Row) []byte) Column {
	return Column{kind + " " + name, Text, func(r *Row, v *Value) {
		var all map[string]string
		if raw := of(r); len(raw) == 0 || json.Unmarshal(raw, &all) != nil {
			v.None = true
			return
		}
		value, ok := all[name]
		v.Text, v.None = append(v.Text, value...), !ok
	}}
}

// ParseColumns reads the names of columns. Beside those of Usual and sealed there are
// field NAME and tag NAME. The error has the code census-columns.
func ParseColumns(names []string) (out []Column, err error) {
	seen := map[string]bool{}
	for _, name := range names {
		c, ok := column(name)
		if !ok || seen[name] {
			says := "there is no column %q"
			if ok {
				says = "the column %q is named twice"
			}
			return nil, fault.New(fault.Invalid, "census-columns", says, name).In("columns").
				Do("there are %s, sealed, and of metadata and tags: field NAME, tag NAME", strings.Join(Usual, ", "))
		}
		seen[name] = true
		out = append(out, c)
	}
	if len(out) == 0 {
		return nil, fault.New(fault.Invalid, "census-columns", "a census has columns").In("columns").Do("name some")
	}
	return out, nil
}

func column(name string) (Column, bool) {
	for _, c := range known {
		if c.Name == name {
			return c, true
		}
	}
	if n, ok := strings.CutPrefix(name, "field "); ok && n != "" && len(n) <= query.MaxName {
		return named("field", n, func(r *Row) []byte { return r.Metadata }), true
	}
	if n, ok := strings.CutPrefix(name, "tag "); ok && n != "" && len(n) <= query.MaxName {
		return named("tag", n, func(r *Row) []byte { return r.Tags }), true
	}
	return Column{}, false
}

// NeedsMap reports whether a census with these columns reads metadata, or tags.
func NeedsMap(columns []Column, kind string) bool {
	for _, c := range columns {
		if c.Name == map[string]string{"field": "fields", "tag": "tags"}[kind] || strings.HasPrefix(c.Name, kind+" ") {
			return true
		}
	}
	return false
}
