package columns

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"slices"
	"sort"

	"github.com/klauspost/compress/zstd"
)

const (
	chunkValues = 256
	longest     = 200 // bytes of a value that are kept
	mostChunk   = 64 << 20
)

var (
	writer, _ = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1),
		zstd.WithWindowSize(1<<20)) // of which it keeps twice as much
	reader, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(mostChunk))
)

func squeeze(b []byte) []byte { return writer.EncodeAll(b, nil) }

func stretch(b []byte) ([]byte, error) { return reader.DecodeAll(b, nil) }

func damaged(err error) error { return fmt.Errorf("a column of the index of find is damaged: %w", err) }

var errShort = fmt.Errorf("it ends too early")

// Column is one column of a segment, as it is kept: Head says where in Body what is.
type Column struct{ Head, Body []byte }

// posted is a value with the ordinals that have it.
type posted struct {
	value string
	at    []uint16
}

// column writes values in their order. Those that are cut stand in the head, as ordinals
// of which nobody knows.
func column(values []posted) Column {
	slices.SortFunc(values, func(a, b posted) int { return bytes.Compare([]byte(a.value), []byte(b.value)) })
	var long []uint16
	head := binary.AppendUvarint(nil, uint64((len(values)+chunkValues-1)/chunkValues))
	var body, raw []byte
	for i := 0; i < len(values); i += chunkValues {
		chunk := values[i:min(i+chunkValues, len(values))]
		raw = raw[:0]
		before := ""
		for _, v := range chunk {
			if len(v.value) == longest {
				long = append(long, v.at...)
			}
			raw = appendFront(raw, before, v.value)
			raw = appendOrdinals(raw, v.at)
			before = v.value
		}
		packed := squeeze(raw)
		head = appendText(head, chunk[0].value)
		head = binary.AppendUvarint(head, uint64(len(packed)))
		body = append(body, packed...)
	}
	slices.Sort(long)
	long = slices.Compact(long)
	return Column{squeeze(appendOrdinals(head, long)), body}
}

// keyColumn writes keys, whose ordinals are their places.
func keyColumn(keys []string) Column {
	head := binary.AppendUvarint(nil, uint64((len(keys)+chunkValues-1)/chunkValues))
	var body, raw []byte
	for i := 0; i < len(keys); i += chunkValues {
		raw = raw[:0]
		before := ""
		chunk := keys[i:min(i+chunkValues, len(keys))]
		for _, k := range chunk {
			raw = appendFront(raw, before, k)
			before = k
		}
		packed := squeeze(raw)
		head = binary.AppendUvarint(appendText(head, chunk[0]), uint64(len(packed)))
		body = append(body, packed...)
	}
	return Column{squeeze(appendOrdinals(head, nil)), body}
}

func appendText(b []byte, s string) []byte {
	return append(binary.AppendUvarint(b, uint64(len(s))), s...)
}

// appendFront writes a value by what it shares with the one before.
func appendFront(b []byte, before, s string) []byte {
	n := 0
	for n < len(before) && n < len(s) && before[n] == s[n] {
		n++
	}
	return appendText(binary.AppendUvarint(b, uint64(n)), s[n:])
}

func appendOrdinals(b []byte, at []uint16) []byte {
	b = binary.AppendUvarint(b, uint64(len(at)))
	before := -1
	for _, i := range at {
		b = binary.AppendUvarint(b, uint64(int(i)-before-1))
		before = int(i)
	}
	return b
}

// scan reads what the append functions wrote.
type scan struct {
	b   []byte
	err error
}

func (s *scan) number() int {
	n, k := binary.Uvarint(s.b)
	if k <= 0 || n > mostChunk {
		s.b, s.err = nil, errShort
		return 0
	}
	s.b = s.b[k:]
	return int(n)
}

func (s *scan) text() []byte {
	n := s.number()
	if n > len(s.b) {
		s.b, s.err = nil, errShort
		return nil
	}
	t := s.b[:n]
	s.b = s.b[n:]
	return t
}

// front reads a value into before, which becomes it.
func (s *scan) front(before []byte) []byte {
	n := s.number()
	rest := s.text()
	if n > len(before) {
		s.b, s.err = nil, errShort
		return before
	}
	return append(before[:n], rest...)
}

// ordinals reads ordinals, into a set when there is one.
func (s *scan) ordinals(into *Bits) {
	n, at := s.number(), -1
	for ; n > 0 && s.err == nil; n-- {
		if at += s.number() + 1; at >= Most {
			s.b, s.err = nil, errShort
			return
		}
		if into != nil {
			into.Set(at)
		}
	}
}

// Head is the beginning of a column, read.
type Head struct {
	firsts []string // of each chunk
	ends   []int    // in the body
	long   *Bits    // ordinals whose values were cut; nil for none
}

// ReadHead reads a head.
func ReadHead(packed []byte) (*Head, error) {
	raw, err := stretch(packed)
	if err != nil {
		return nil, damaged(err)
	}
	s := &scan{b: raw}
	h := &Head{}
	end := 0
	for range s.number() {
		h.firsts = append(h.firsts, string(s.text()))
		end += s.number()
		h.ends = append(h.ends, end)
		if s.err != nil {
			return nil, damaged(s.err)
		}
	}
	if len(s.b) > 0 && s.b[0] != 0 {
		h.long = &Bits{}
		s.ordinals(h.long)
	}
	if s.err != nil {
		return nil, damaged(s.err)
	}
	return h, nil
}

// Chunks is a part of a column: chunks From up to, not with, To, which are so many bytes
// of its body from Offset on.
type Chunks struct{ From, To, Offset, Bytes int }

func (h *Head) part(from, to int) Chunks {
	if from >= to {
		return Chunks{}
	}
	offset := 0
	if from > 0 {
		offset = h.ends[from-1]
	}
	return Chunks{from, to, offset, h.ends[to-1] - offset}
}

// All gives all chunks.
func (h *Head) All() Chunks { return h.part(0, len(h.firsts)) }

// Between gives the chunks in which values from low to high are, both included.
func (h *Head) Between(low, high string) Chunks {
	from := sort.Search(len(h.firsts), func(i int) bool { return h.firsts[i] > low }) - 1
	to := sort.Search(len(h.firsts), func(i int) bool { return h.firsts[i] > high })
	return h.part(max(0, from), to)
}

// Of gives the chunks of keys in which some ordinals are, at most so many in one part.
func (h *Head) Of(set *Bits, most int) []Chunks {
	var out []Chunks
	for i := range h.firsts {
		for w := i * chunkValues / 64; w < (i+1)*chunkValues/64; w++ {
			if set[w] == 0 {
				continue
			}
			if n := len(out); n > 0 && out[n-1].To == i && i-out[n-1].From < most {
				out[n-1] = h.part(out[n-1].From, i+1)
			} else {
				out = append(out, h.part(i, i+1))
			}
			break
		}
	}
	return out
}

// each gives the raw chunks of a part.
func (h *Head) each(c Chunks, data []byte, f func(chunk int, s *scan) error) error {
	if len(data) != c.Bytes {
		return damaged(errShort)
	}
	for i := c.From; i < c.To; i++ {
		one := h.part(i, i+1)
		raw, err := stretch(data[one.Offset-c.Offset:][:one.Bytes])
		if err != nil {
			return damaged(err)
		}
		if err := f(i, &scan{b: raw}); err != nil {
			return err
		}
	}
	return nil
}

// match adds the ordinals of values for which f holds.
func (h *Head) match(c Chunks, data []byte, into *Bits, f func([]byte) bool) error {
	return h.each(c, data, func(_ int, s *scan) error {
		var value []byte
		for len(s.b) > 0 {
			if value = s.front(value); f(value) {
				s.ordinals(into)
			} else {
				s.ordinals(nil)
			}
		}
		if s.err != nil {
			return damaged(s.err)
		}
		return nil
	})
}

// Keys gives keys with their ordinals, from chunks of the column of keys.
func (h *Head) Keys(c Chunks, data []byte, f func(ordinal int, key []byte)) error {
	return h.each(c, data, func(chunk int, s *scan) error {
		var key []byte
		for i := chunk * chunkValues; len(s.b) > 0; i++ {
			if key = s.front(key); s.err == nil && i < Most {
				f(i, key)
			}
		}
		if s.err != nil {
			return damaged(s.err)
		}
		return nil
	})
}
