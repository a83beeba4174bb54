package columns

import (
	"encoding/binary"
	"math"
	"strings"
	"time"
	"unsafe"

	"spindle/internal/core/query"
)

// Question is an expression that is asked of segments.
type Question struct {
	Expr   query.Expr
	Bucket string
	Now    time.Time
}

// Helps reports whether columns narrow down where the expression holds: not where it asks
// only for what they do not know, or for what all have.
func (q *Question) Helps() bool { return helps(q.Expr) }

func helps(x query.Expr) bool {
	switch x := x.(type) {
	case query.And:
		for _, p := range x {
			if helps(p) {
				return true
			}
		}
		return false
	case query.Or:
		for _, p := range x {
			if !helps(p) {
				return false
			}
		}
		return true
	case query.Not:
		return helps(x.Of)
	case *query.Test:
		return columnOf(x) != ""
	}
	return false
}

// columnOf names the column that answers a test; "" for none.
func columnOf(t *query.Test) string {
	switch t.Field.Name {
	case "size", "key", "type", "tier", "writer", "sealed", "changed":
		return t.Field.Name
	case "age":
		return timeName
	case "field", "tag":
		if t.Op == query.Exists || t.Op == query.Lacks {
			return hasName + t.Field.Name + " " + t.Field.Named
		}
		return t.Field.Name + " " + t.Field.Named
	}
	return ""
}

// Names gives the columns whose heads are asked for.
func (q *Question) Names() []string {
	seen := map[string]bool{goneName: true, keyName: true, restName: true}
	query.Each(q.Expr, func(t *query.Test) {
		if name := columnOf(t); name != "" {
			seen[name] = true
			if len(t.Numbers) > 0 {
				seen[asNumber+name] = true
			}
		}
	})
	out := make([]string, 0, len(seen))
	for name := range seen {
		out = append(out, name)
	}
	return out
}

// Asked is a segment with the heads of its columns.
type Asked struct {
	Objects int
	Hidden  *Bits            // of which newer segments tell
	Sets    map[string]*Bits // columns that are nothing but a set
	Heads   map[string]*Head // the others
	parts   map[*query.Test]Part
	data    map[*query.Test][]byte
}

// IsSet reports whether a column is nothing but a set, which is its head.
func IsSet(name string) bool { return name == goneName || strings.HasPrefix(name, hasName) }

// Part is a part of a column that a test needs.
type Part struct {
	Column string
	Chunks
	of string // what the values of the column rest begin with
}

// bounds gives the range of values in which those are for which a test holds.
func bounds(t *query.Test, now time.Time) (low, high string) {
	const end = "\xff"
	if low, high, ok := numbers(t, now); ok {
		return number(low), number(high)
	}
	if len(t.Numbers) > 0 {
		return "", strings.Repeat(end, longest)
	}
	switch t.Op {
	case query.Is, query.OneOf:
		low, high = cut(t.Texts[0]), cut(t.Texts[0])
		for _, s := range t.Texts {
			low, high = min(low, cut(s)), max(high, cut(s))
		}
		return low, high
	case query.Begins:
		low = cut(t.Texts[0])
		return low, low + strings.Repeat(end, longest)
	}
	return "", strings.Repeat(end, longest)
}

// span gives the range of numbers in which those are for which a test of a field holds.
func span(t *query.Test) (low, high float64) {
	low, high = math.Inf(-1), math.Inf(1)
	switch n := t.Numbers; t.Op {
	case query.Is:
		low, high = n[0], n[0]
	case query.Over, query.AtLeast:
		low = n[0]
	case query.Under, query.AtMost:
		high = n[0]
	default:
		low, high = n[0], n[1]
	}
	return low, high
}

// numbers gives the range of whole numbers for which a test of sizes or moments holds.
func numbers(t *query.Test, now time.Time) (low, high int64, ok bool) {
	low, high = math.MinInt64, math.MaxInt64
	micro := func(i int) int64 { return t.Times[i].UnixMicro() }
	switch t.Field.Name {
	case "size":
		down, up := whole(math.Floor(t.Numbers[0])), whole(math.Ceil(t.Numbers[0]))
		switch t.Op {
		case query.Is:
			low, high = up, down
		case query.Over:
			low = down + 1
		case query.Under:
			high = up - 1
		case query.AtLeast:
			low = up
		case query.AtMost:
			high = down
		default:
			low, high = up, whole(math.Floor(t.Numbers[1]))
		}
		return low, high, true
	case "age":
		at := t.Since(now)
		switch t.Op {
		case query.Over:
			high = at[0].UnixMicro() - 1
		case query.Under:
			low = at[0].UnixMicro() + 1
		case query.AtLeast:
			high = at[0].UnixMicro()
		case query.AtMost:
			low = at[0].UnixMicro()
		default:
			low, high = at[1].UnixMicro(), at[0].UnixMicro()
		}
		return low, high, true
	case "changed":
		switch t.Op {
		case query.Before:
			high = t.Times[0].Add(-1).UnixMicro()
		case query.After:
			low = micro(0) + 1
		case query.On:
			low, high = micro(0), t.Times[0].AddDate(0, 0, 1).UnixMicro()-1
		default:
			low, high = micro(0), micro(1)
		}
		return low, high, true
	}
	return 0, 0, false
}

func whole(f float64) int64 {
	switch {
	case f >= math.MaxInt64/2:
		return math.MaxInt64 / 2
	case f <= math.MinInt64/2:
		return math.MinInt64 / 2
	}
	return int64(f)
}

// Parts gives the parts of columns that an expression needs, to be read and given back by
// Give.
func (q *Question) Parts(s *Asked) map[*query.Test]Part {
	s.parts, s.data = map[*query.Test]Part{}, map[*query.Test][]byte{}
	query.Each(q.Expr, func(t *query.Test) {
		name := columnOf(t)
		if name == "" || IsSet(name) && s.Sets[name] != nil {
			return
		}
		if h := s.Heads[asNumber+name]; h != nil && len(t.Numbers) > 0 {
			low, high := span(t)
			s.parts[t] = Part{Column: asNumber + name, Chunks: h.Between(float(low), float(high))}
			return
		}
		low, high := bounds(t, q.Now)
		if h := s.Heads[name]; h != nil {
			s.parts[t] = Part{Column: name, Chunks: h.Between(low, high)}
			return
		}
		if h := s.Heads[restName]; h != nil && (t.Field.Name == "field" || t.Field.Name == "tag") {
			of := t.Field.Name + " " + t.Field.Named + "\x00"
			s.parts[t] = Part{Column: restName, Chunks: h.Between(cut(of+low), cut(of+high)), of: of}
		}
	})
	return s.parts
}

// Give hands over the bytes of a part.
func (s *Asked) Give(t *query.Test, data []byte) { s.data[t] = data }

// Answer gives the ordinals for which the expression surely holds, and those for which it
// may. What is hidden or gone is in neither.
func (q *Question) Answer(s *Asked) (sure, may *Bits, err error) {
	if sure, may, err = q.answer(s, q.Expr); err != nil {
		return nil, nil, err
	}
	s.data = nil // columns are larger than answers
	alive := &Bits{}
	alive.Fill(s.Objects)
	if gone := s.Sets[goneName]; gone != nil {
		alive.Without(gone)
	}
	if s.Hidden != nil {
		alive.Without(s.Hidden)
	}
	sure.And(alive)
	may.And(alive)
	return sure, may, nil
}

func (q *Question) answer(s *Asked, x query.Expr) (sure, may *Bits, err error) {
	join := func(list []query.Expr, with func(*Bits, *Bits)) (sure, may *Bits, err error) {
		for i, p := range list {
			a, b, err := q.answer(s, p)
			if err != nil {
				return nil, nil, err
			}
			if i == 0 {
				sure, may = a, b
				continue
			}
			with(sure, a)
			with(may, b)
		}
		return sure, may, nil
	}
	switch x := x.(type) {
	case query.And:
		return join(x, (*Bits).And)
	case query.Or:
		return join(x, (*Bits).Or)
	case query.Not:
		a, b, err := q.answer(s, x.Of)
		if err != nil {
			return nil, nil, err
		}
		sure, may = &Bits{}, &Bits{}
		sure.Fill(s.Objects)
		may.Fill(s.Objects)
		sure.Without(b)
		may.Without(a)
		return sure, may, nil
	}
	return q.test(s, x.(*query.Test))
}

// test answers for one test.
func (q *Question) test(s *Asked, t *query.Test) (sure, may *Bits, err error) {
	sure, may = &Bits{}, &Bits{}
	all := func(b *Bits) *Bits {
		b.Fill(s.Objects)
		return b
	}
	switch {
	case t.Field.Name == "current":
		return all(sure), all(may), nil
	case t.Field.Name == "bucket":
		if query.Holds(t, query.Object{Bucket: q.Bucket}, q.Now) {
			return all(sure), all(may), nil
		}
		return sure, may, nil
	case columnOf(t) == "":
		return sure, all(may), nil
	}
	if t.Op == query.Exists || t.Op == query.Lacks {
		return q.has(s, t)
	}
	if err := q.match(s, t, sure); err != nil {
		return nil, nil, err
	}
	*may = *sure
	if h := s.Heads[s.parts[t].Column]; h != nil && h.long != nil {
		sure.Without(h.long)
		may.Or(h.long)
	}
	return sure, may, nil
}

// has answers whether there is a field.
func (q *Question) has(s *Asked, t *query.Test) (sure, may *Bits, err error) {
	set := &Bits{}
	if is := s.Sets[columnOf(t)]; is != nil {
		*set = *is
	} else if err := q.match(s, t, set); err != nil {
		return nil, nil, err
	}
	if t.Op == query.Lacks {
		no := &Bits{}
		no.Fill(s.Objects)
		no.Without(set)
		set = no
	}
	may = &Bits{}
	*may = *set
	if h := s.Heads[s.parts[t].Column]; h != nil && h.long != nil {
		set.Without(h.long)
		may.Or(h.long)
	}
	return set, may, nil
}

// match adds the ordinals of those values for which a test holds.
func (q *Question) match(s *Asked, t *query.Test, into *Bits) error {
	p, ok := s.parts[t]
	if !ok || p.Bytes == 0 {
		return nil
	}
	h, data := s.Heads[p.Column], s.data[t]
	if p.Column == keyName {
		return h.Keys(p.Chunks, data, func(i int, key []byte) {
			if t.Says(view(key)) {
				into.Set(i)
			}
		})
	}
	if low, high, ok := numbers(t, q.Now); ok {
		return h.match(p.Chunks, data, into, func(v []byte) bool {
			if len(v) != 8 {
				return false
			}
			n := int64(binary.BigEndian.Uint64(v) ^ 1<<63)
			return low <= n && n <= high
		})
	}
	if strings.HasPrefix(p.Column, asNumber) {
		return h.match(p.Chunks, data, into, func(v []byte) bool { return len(v) == 8 && t.SaysNumber(unfloat(v)) })
	}
	return h.match(p.Chunks, data, into, func(v []byte) bool {
		if p.of != "" {
			rest, ok := strings.CutPrefix(view(v), p.of)
			return ok && (t.Op == query.Exists || t.Op == query.Lacks || t.Says(rest))
		}
		return t.Field.Name == "sealed" || t.Says(view(v))
	})
}

// view gives bytes as a text, for as long as they stay as they are.
func view(v []byte) string { return unsafe.String(unsafe.SliceData(v), len(v)) }

// Sizes sums the sizes of some objects, from the whole column of sizes.
func (s *Asked) Sizes(data []byte, of *Bits) (sum int64, err error) {
	h := s.Heads[sizeName]
	if h == nil {
		return 0, nil
	}
	return sum, h.each(h.All(), data, func(_ int, c *scan) error {
		var value []byte
		for len(c.b) > 0 {
			if value = c.front(value); len(value) != 8 {
				return damaged(errShort)
			}
			n := c.sum(of)
			sum += int64(n) * int64(binary.BigEndian.Uint64(value)^1<<63)
		}
		return c.err
	})
}

// sum reads ordinals and counts those that are in a set.
func (s *scan) sum(of *Bits) (in int) {
	n, at := s.number(), -1
	for ; n > 0 && s.err == nil; n-- {
		if at += s.number() + 1; at >= Most {
			s.b, s.err = nil, errShort
			return in
		}
		if of.Has(at) {
			in++
		}
	}
	return in
}

// KeyColumn, SizeColumn name columns that are read beside those of tests.
const (
	KeyColumn  = keyName
	SizeColumn = sizeName
)
