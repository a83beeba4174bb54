package columns

import (
	"encoding/binary"
	"encoding/json"
	"math"
	"slices"
	"strings"

	"spindle/internal/core/census"
	"spindle/internal/core/query"
)

// names of columns beside those of single fields and tags.
const (
	keyName  = "key"
	sizeName = "size"
	timeName = "changed"
	restName = "rest"    // fields and tags that have no column of their own
	goneName = "gone"    // keys that have no object
	asNumber = "number " // before the name of a field or a tag: its values that are numbers
	hasName  = "has "    // before the name of a field or a tag: the objects that have it
)

const mostFields = 200 // columns of fields and tags in a segment

// Builder makes a segment of objects that are given in the order of their keys.
type Builder struct {
	keys   []string
	gone   Bits
	anGone bool
	values map[string]map[string][]uint16
	posted int // ordinals in values
}

// mostPosted bounds a segment of objects with very many fields.
const mostPosted = 2_000_000

// Full reports whether nothing more is to be added.
func (b *Builder) Full() bool { return len(b.keys) == Most || b.posted >= mostPosted }

// NewBuilder begins a segment.
func NewBuilder() *Builder { return &Builder{values: map[string]map[string][]uint16{}} }

// Len gives how many objects and keys there are.
func (b *Builder) Len() int { return len(b.keys) }

// number writes a number so that its bytes are in its order.
func number(n int64) string {
	return string(binary.BigEndian.AppendUint64(nil, uint64(n)^1<<63))
}

func (b *Builder) add(name, value string, at uint16) {
	column := b.values[name]
	if column == nil {
		column = map[string][]uint16{}
		b.values[name] = column
	}
	column[value] = append(column[value], at)
	b.posted++
}

// Add takes an object.
func (b *Builder) Add(r *census.Row) error {
	at := uint16(len(b.keys))
	b.keys = append(b.keys, string(r.Key))
	b.add(sizeName, number(r.Size), at)
	b.add(timeName, number(r.Changed.UnixMicro()), at)
	b.add("type", cut(r.Type), at)
	b.add("tier", r.Tier, at)
	b.add("writer", cut(r.Writer), at)
	if r.Sealed {
		b.add("sealed", "", at)
	}
	for kind, raw := range map[string][]byte{"field ": r.Metadata, "tag ": r.Tags} {
		if len(raw) == 0 {
			continue
		}
		var all map[string]string
		if err := json.Unmarshal(raw, &all); err != nil {
			return err
		}
		for name, value := range all {
			b.add(kind+name, cut(value), at)
		}
	}
	return nil
}

// AddGone takes a key that has no object, so that older segments are not believed of it.
func (b *Builder) AddGone(key string) {
	b.gone.Set(len(b.keys))
	b.anGone = true
	b.keys = append(b.keys, key)
}

func cut(s string) string { return s[:min(len(s), longest)] }

// Segment is what was built.
type Segment struct {
	Objects     int // with those that are gone
	First, Last string
	Columns     map[string]Column
}

// Segment gives the segment of what was added.
func (b *Builder) Segment() *Segment {
	s := &Segment{Objects: len(b.keys), First: b.keys[0], Last: b.keys[len(b.keys)-1], Columns: map[string]Column{}}
	s.Columns[keyName] = keyColumn(b.keys)
	if b.anGone {
		s.Columns[goneName] = Column{Head: b.gone.Pack()}
	}
	rest := []posted{}
	own := 0
	for name, values := range b.values {
		open := strings.HasPrefix(name, "field ") || strings.HasPrefix(name, "tag ")
		if open {
			if own++; own > mostFields {
				for v, at := range values {
					rest = append(rest, posted{cut(name + "\x00" + v), at})
				}
				continue
			}
			s.Columns[hasName+name] = Column{Head: has(values)}
			if n := numerals(values); len(n) > chunkValues {
				s.Columns[asNumber+name] = column(n)
			}
		}
		list := make([]posted, 0, len(values))
		for v, at := range values {
			list = append(list, posted{v, at})
		}
		s.Columns[name] = column(list)
	}
	if len(rest) > 0 {
		s.Columns[restName] = column(merged(rest))
	}
	return s
}

// numerals gives the values that are numbers, as numbers: many may be in the order of texts
// in another one.
func numerals(values map[string][]uint16) []posted {
	by := map[string][]uint16{}
	for v, at := range values {
		if n, ok := query.Number(v); ok {
			key := float(n)
			by[key] = append(by[key], at...)
		}
	}
	out := make([]posted, 0, len(by))
	for v, at := range by {
		slices.Sort(at)
		out = append(out, posted{v, at})
	}
	return out
}

// float writes a number so that its bytes are in its order.
func float(n float64) string {
	b := math.Float64bits(n + 0) // no negative zero
	if b>>63 == 1 {
		b = ^b
	} else {
		b |= 1 << 63
	}
	return string(binary.BigEndian.AppendUint64(nil, b))
}

// unfloat reads what float wrote.
func unfloat(v []byte) float64 {
	b := binary.BigEndian.Uint64(v)
	if b>>63 == 1 {
		b &^= 1 << 63
	} else {
		b = ^b
	}
	return math.Float64frombits(b)
}

// has gives the set of those that have any value.
func has(values map[string][]uint16) []byte {
	var b Bits
	for _, at := range values {
		for _, i := range at {
			b.Set(int(i))
		}
	}
	return b.Pack()
}

// merged puts those together that came to be the same when they were cut.
func merged(list []posted) []posted {
	by := map[string][]uint16{}
	for _, p := range list {
		by[p.value] = append(by[p.value], p.at...)
	}
	out := make([]posted, 0, len(by))
	for v, at := range by {
		slices.Sort(at)
		at = slices.Compact(at)
		out = append(out, posted{v, at})
	}
	return out
}
