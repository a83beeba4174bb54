package catalog

import (
	"context"
	"errors"
	"sync"

	"spindle/internal/core/columns"
)

const columnMemory = 64 << 20 // bytes of heads that a process keeps, roughly

// columnCache keeps the beginnings of columns, which never change.
type columnCache struct {
	mu    sync.Mutex
	known map[columnName]columnHead
	bytes int
}

type columnName struct {
	segment int64
	name    string
}

// columnHead is a head, or a set, or neither when the segment has no such column.
type columnHead struct {
	head *columns.Head
	set  *columns.Bits
}

// heads gives segments with the heads of some columns, which are read where they are not
// known.
func (c *columnCache) heads(ctx context.Context, q selecting, segments []segment,
	names []string) (map[int64]*columns.Asked, error) {
	out := make(map[int64]*columns.Asked, len(segments))
	var missing []int64
	c.mu.Lock()
	for i := range segments {
		s := &segments[i]
		a := &columns.Asked{Objects: s.Objects, Sets: map[string]*columns.Bits{}, Heads: map[string]*columns.Head{}}
		out[s.ID] = a
		for _, name := range names {
			x, ok := c.kept()[columnName{s.ID, name}]
			if !ok {
				missing = append(missing, s.ID)
				break
			}
			x.give(a, name)
		}
	}
	c.mu.Unlock()
	if len(missing) > 0 {
		if err := c.read(ctx, q, missing, names, out); err != nil {
			return nil, err
		}
	}
	for i := range segments {
		hidden, err := columns.Unpack(segments[i].Hidden)
		if err != nil {
			return nil, err
		}
		out[segments[i].ID].Hidden = hidden
	}
	return out, nil
}

// kept gives what is known, or nothing when that has grown too large. The lock is held.
func (c *columnCache) kept() map[columnName]columnHead {
	if c.known == nil || c.bytes > columnMemory {
		c.known, c.bytes = map[columnName]columnHead{}, 0
	}
	return c.known
}

func (h columnHead) give(a *columns.Asked, name string) {
	if h.head != nil {
		a.Heads[name] = h.head
	}
	if h.set != nil {
		a.Sets[name] = h.set
	}
}

func (c *columnCache) read(ctx context.Context, q selecting, segments []int64, names []string,
	out map[int64]*columns.Asked) error {
	var rows []struct {
		Segment int64  `db:"segment"`
		Name    string `db:"name"`
		Head    []byte `db:"head"`
	}
	if err := q.SelectContext(ctx, &rows,
		`select segment, name, head from find_columns where segment = any($1) and name = any($2)`, segments,
		names); err != nil {
		return err
	}
	read := map[columnName]columnHead{}
	has := map[int64]bool{}
	for _, r := range rows {
		has[r.Segment] = true
	}
	for _, id := range segments {
		if !has[id] {
			return errColumnGone
		}
		for _, name := range names {
			read[columnName{id, name}] = columnHead{}
		}
	}
	size := 0
	for _, r := range rows {
		var x columnHead
		var err error
		if columns.IsSet(r.Name) {
			x.set, err = columns.Unpack(r.Head)
			size += columns.Most / 8
		} else {
			x.head, err = columns.ReadHead(r.Head)
			size += 4 * len(r.Head)
		}
		if err != nil {
			return err
		}
		read[columnName{r.Segment, r.Name}] = x
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	known := c.kept()
	for n, x := range read {
		known[n] = x
		x.give(out[n.segment], n.name)
	}
	c.bytes += size + 64*len(read)
	return nil
}

// piece is a part of a column's body.
type piece struct {
	segment int64
	column  string
	columns.Chunks
	data []byte
}

// readPieces reads the bytes of pieces, in one go.
func readPieces(ctx context.Context, q selecting, wants []piece) error {
	ids, names, from, n, which := []int64{}, []string{}, []int{}, []int{}, []int{}
	for i, w := range wants {
		if w.Bytes > 0 {
			ids, names, from, n, which = append(ids, w.segment), append(names, w.column), append(from, w.Offset+1),
				append(n, w.Bytes),
				append(which, i)
		}
	}
	if len(ids) == 0 {
		return nil
	}
	var rows []struct {
		At   int    `db:"at"`
		Data []byte `db:"data"`
	}
	if err := q.SelectContext(ctx, &rows, `select w.at, substring(c.body from w.o for w.n) as data
		from unnest($1::bigint[], $2::text[], $3::int[], $4::int[], $5::int[]) as w(id, name, o, n, at)
		join find_columns c on c.segment = w.id and c.name = w.name`, ids, names, from, n, which); err != nil {
		return err
	}
	if len(rows) < len(ids) {
		return errColumnGone
	}
	for _, r := range rows {
		wants[r.At].data = r.Data
	}
	return nil
}

// errColumnGone says that a segment went while it was read: its run was put together with
// others.
var errColumnGone = errors.New("a segment of the index of find is gone")
