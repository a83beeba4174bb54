package catalog

import (
	"bytes"
	"context"
	"fmt"
	"runtime"
	"slices"

	"golang.org/x/sync/errgroup"

	"spindle/internal/core/columns"
	"spindle/internal/core/query"
)

const (
	tailMost         = 4000    // keys that the index has not read, before objects are looked at instead
	tailEntries      = 20_000  // entries of the journal that are looked through for them
	piecesAtOnce     = 8 << 20 // bytes of columns that are read in one go
	candidatesAtOnce = 400     // objects that are looked at in one go
	doubtsMost       = 200_000 // objects that a count looks at
)

// view is the index of a bucket as it is, with what it has not read yet.
type view struct {
	c        *Catalog
	q        *columns.Question
	segments []segment
	tail     [][]byte // in order
	asked    map[int64]*columns.Asked
	may      map[int64]*columns.Bits
	sure     map[int64]*columns.Bits
}

// view gives the index of a bucket for a question; nil when it does not answer it.
func (c *Catalog) view(ctx context.Context, f *Find) (*view, error) {
	v := &view{c: c, q: &columns.Question{Expr: f.Expr, Bucket: f.Name, Now: f.Now}, asked: map[int64]*columns.Asked{},
		may: map[int64]*columns.Bits{}, sure: map[int64]*columns.Bits{}}
	if f.Previous || !v.q.Helps() {
		return nil, nil
	}
	var rows []struct {
		segment
		XID  string `db:"xid"`
		Seq  int64  `db:"seq"`
		Some bool   `db:"some"`
	}
	// The place is read before what the journal holds after it: what is between is in both.
	if err := c.db.SelectContext(ctx, &rows, `select coalesce(s.id, 0) as id, coalesce(s.run, 0) as run,
		coalesce(s.objects, 0) as objects,
		coalesce(s.first, '') as first, coalesce(s.last, '') as last, coalesce(s.hidden, '') as hidden,
		s.id is not null as some,
		f.xid::text as xid, f.seq from find_indexes i join followers f on f.name = 'find'
		left join find_segments s on s.bucket = i.bucket and s.live where i.bucket = $1 and i.ready
		order by s.first`, f.Bucket); err != nil {
		return nil, mapError(err)
	}
	if len(rows) == 0 {
		return nil, nil
	}
	for _, r := range rows {
		if r.Some {
			v.segments = append(v.segments, r.segment)
		}
	}
	var entries []struct {
		Bucket int64  `db:"bucket"`
		Key    []byte `db:"key"`
	}
	if err := c.db.SelectContext(ctx, &entries, `select coalesce(j.bucket, 0) as bucket, j.key from journal j
		where (j.xid, j.seq) > ($1::xid8, $2)
		limit $3`, rows[0].XID, rows[0].Seq, tailEntries+1); err != nil {
		return nil, mapError(err)
	}
	for _, e := range entries {
		if e.Bucket == f.Bucket && e.Key != nil {
			v.tail = append(v.tail, e.Key)
		}
	}
	slices.SortFunc(v.tail, bytes.Compare)
	v.tail = slices.CompactFunc(v.tail, bytes.Equal)
	if len(entries) > tailEntries || len(v.tail) > tailMost {
		return nil, nil // it lags
	}
	return v, nil
}

// answer answers the question for segments.
func (v *view) answer(ctx context.Context, segments []segment) error {
	segments = slices.DeleteFunc(slices.Clone(segments), func(s segment) bool { return v.may[s.ID] != nil })
	asked, err := v.c.columns.heads(ctx, v.c.db, segments, append(v.q.Names(), columns.SizeColumn))
	if err != nil {
		return mapError(err)
	}
	type need struct {
		s    *segment
		test []*query.Test
		want []piece
	}
	var group []need
	size := 0
	flush := func() error {
		var all []piece
		for _, n := range group {
			all = append(all, n.want...)
		}
		if err := readPieces(ctx, v.c.db, all); err != nil {
			return mapError(err)
		}
		var work errgroup.Group
		work.SetLimit(runtime.GOMAXPROCS(0))
		sure, may := make([]*columns.Bits, len(group)), make([]*columns.Bits, len(group))
		for k, n := range group {
			a := asked[n.s.ID]
			for i, t := range n.test {
				a.Give(t, all[i].data)
			}
			all = all[len(n.test):]
			work.Go(func() (err error) {
				sure[k], may[k], err = v.q.Answer(a)
				return err
			})
		}
		if err := work.Wait(); err != nil {
			return err
		}
		for k, n := range group {
			v.sure[n.s.ID], v.may[n.s.ID], v.asked[n.s.ID] = sure[k], may[k], asked[n.s.ID]
		}
		group, size = nil, 0
		return nil
	}
	for i := range segments {
		n := need{s: &segments[i]}
		for t, p := range v.q.Parts(asked[n.s.ID]) {
			n.test, n.want = append(n.test, t), append(n.want, piece{segment: n.s.ID, column: p.Column, Chunks: p.Chunks})
			size += p.Bytes
		}
		if group = append(group, n); size > piecesAtOnce {
			if err := flush(); err != nil {
				return err
			}
		}
	}
	return flush()
}

// candidates gives keys from one on, and before another, for which the expression may
// hold, at least so many unless there are fewer; end is up to where there are no others.
func (v *view) candidates(ctx context.Context, from, until []byte, most int) (keys [][]byte, end []byte, err error) {
	var in []segment
	for _, s := range v.segments {
		if (until == nil || bytes.Compare(s.First, until) < 0) && bytes.Compare(s.Last, from) >= 0 {
			in = append(in, s)
		}
	}
	if err := v.answer(ctx, in); err != nil {
		return nil, nil, err
	}
	end = until
	todo := make([][]piece, len(in))
	for i := range in {
		if h := v.asked[in[i].ID].Heads[columns.KeyColumn]; h != nil {
			for _, c := range h.Of(v.may[in[i].ID], 2) {
				todo[i] = append(todo[i], piece{segment: in[i].ID, column: columns.KeyColumn, Chunks: c})
			}
		}
	}
	// Chunks are in the order of keys within a segment: enough of each are read.
	got := make([]int, len(in))
	for each := 2; ; each *= 4 {
		var round []piece
		var of []int
		for i := range todo {
			n := min(each, len(todo[i]))
			for _, p := range todo[i][:n] {
				round, of = append(round, p), append(of, i)
			}
			todo[i] = todo[i][n:]
		}
		if len(round) == 0 {
			break
		}
		if err := readPieces(ctx, v.c.db, round); err != nil {
			return nil, nil, mapError(err)
		}
		for k, p := range round {
			i := of[k]
			if got[i] >= most {
				continue
			}
			may, last := v.may[in[i].ID], []byte(nil)
			if err := v.asked[in[i].ID].Heads[columns.KeyColumn].Keys(p.Chunks, p.data, func(o int, key []byte) {
				if may.Has(o) && bytes.Compare(key, from) >= 0 && (until == nil || bytes.Compare(key, until) < 0) {
					last = bytes.Clone(key)
					keys = append(keys, last)
					got[i]++
				}
			}); err != nil {
				return nil, nil, err
			}
			if got[i] >= most {
				todo[i] = nil
				if next := append(bytes.Clone(last), 0); end == nil || bytes.Compare(next, end) < 0 {
					end = next
				}
			}
		}
	}
	for _, k := range v.tail {
		if bytes.Compare(k, from) >= 0 && (until == nil || bytes.Compare(k, until) < 0) {
			keys = append(keys, k)
		}
	}
	slices.SortFunc(keys, bytes.Compare)
	keys = slices.CompactFunc(keys, bytes.Equal)
	if end != nil {
		n, _ := slices.BinarySearchFunc(keys, end, bytes.Compare)
		keys = keys[:n]
	}
	return keys, end, nil
}

// find gives a page by the index.
func (v *view) find(ctx context.Context, f Find) (p FindPage, err error) {
	p.Index = true
	is, begins := query.Must(f.Expr, "key")
	from := []byte(begins)
	if is != "" {
		from = []byte(is)
	}
	if f.After.Key != "" {
		if next := append([]byte(f.After.Key), 0); bytes.Compare(next, from) > 0 {
			from = next
		}
	}
	for step := 1; ; step *= 2 {
		until := v.boundary(from, step)
		keys, end, err := v.candidates(ctx, from, until, f.Limit+candidatesAtOnce)
		if err != nil {
			return p, err
		}
		for part := range slices.Chunk(keys, candidatesAtOnce) {
			ask := f
			ask.keys, ask.After, ask.Limit, ask.Budget = part, FindPlace{}, f.Limit-len(p.Found), len(part)
			page, err := v.c.walk(ctx, ask)
			if err != nil {
				return p, err
			}
			p.Found, p.Looked = append(p.Found, page.Found...), p.Looked+int64(len(part))
			if n := len(p.Found); n >= f.Limit {
				p.Next = FindPlace{p.Found[n-1].Key.String(), p.Found[n-1].Number}
				return p, nil
			}
			if p.Looked >= int64(f.Budget) {
				p.Next = FindPlace{Key: string(part[len(part)-1])}
				return p, nil
			}
		}
		if end == nil || begins != "" && !bytes.HasPrefix(end, []byte(begins)) && bytes.Compare(end, []byte(begins)) > 0 {
			return p, nil
		}
		from = end
	}
}

// boundary gives the beginning of the n-th segment after a key; nil for the end.
func (v *view) boundary(from []byte, n int) []byte {
	for i := range v.segments {
		if bytes.Compare(v.segments[i].First, from) > 0 {
			if n--; n == 0 {
				return v.segments[i].First
			}
		}
	}
	return nil
}

// count counts by the index. It is not done when there is too much that the index does not
// know.
func (v *view) count(ctx context.Context, f Find) (objects, bytes int64, done bool, err error) {
	if err := v.answer(ctx, v.segments); err != nil {
		return 0, 0, false, err
	}
	var doubts [][]byte
	for i := range v.segments {
		s := &v.segments[i]
		a, sure, may := v.asked[s.ID], v.sure[s.ID], v.may[s.ID]
		told, err := v.c.places(ctx, v.c.db, s, within(v.tail, s))
		if err != nil {
			return 0, 0, false, mapError(err)
		}
		sure.Without(told)
		may.Without(told)
		may.Without(sure)
		if doubts, err = v.add(ctx, s, may, doubts); err != nil {
			return 0, 0, false, err
		}
		if len(doubts) > doubtsMost {
			return 0, 0, false, nil
		}
		h := a.Heads[columns.SizeColumn]
		n := sure.Count()
		if h == nil || n == 0 {
			continue
		}
		sizes := []piece{{segment: s.ID, column: columns.SizeColumn, Chunks: h.All()}}
		if err := readPieces(ctx, v.c.db, sizes); err != nil {
			return 0, 0, false, mapError(err)
		}
		sum, err := a.Sizes(sizes[0].data, sure)
		if err != nil {
			return 0, 0, false, err
		}
		objects, bytes = objects+int64(n), bytes+sum
	}
	for part := range slices.Chunk(append(doubts, v.tail...), 2000) {
		ask := f
		ask.keys = part
		n, sum, err := v.c.countWalking(ctx, ask)
		if err != nil {
			return 0, 0, false, err
		}
		objects, bytes = objects+n, bytes+sum
	}
	return objects, bytes, true, nil
}

// within gives the keys that a segment may have.
func within(keys [][]byte, s *segment) [][]byte {
	from, _ := slices.BinarySearchFunc(keys, s.First, bytes.Compare)
	to, is := slices.BinarySearchFunc(keys, s.Last, bytes.Compare)
	if is {
		to++
	}
	return keys[from:to]
}

// add adds the keys of ordinals of a segment.
func (v *view) add(ctx context.Context, s *segment, of *columns.Bits, keys [][]byte) ([][]byte, error) {
	h := v.asked[s.ID].Heads[columns.KeyColumn]
	if h == nil {
		return keys, nil
	}
	var wants []piece
	for _, c := range h.Of(of, columns.Most) {
		wants = append(wants, piece{segment: s.ID, column: columns.KeyColumn, Chunks: c})
	}
	if err := readPieces(ctx, v.c.db, wants); err != nil {
		return nil, mapError(err)
	}
	for _, p := range wants {
		if err := h.Keys(p.Chunks, p.data, func(o int, key []byte) {
			if of.Has(o) {
				keys = append(keys, bytes.Clone(key))
			}
		}); err != nil {
			return nil, fmt.Errorf("segment %d: %w", s.ID, err)
		}
	}
	return keys, nil
}
