package censusfile

import (
	"context"
	"slices"
	"strings"

	"spindle/internal/core/census"
	"spindle/internal/core/fault"
)

// Change is what happened to an object, or a version, between two censuses.
type Change string

// Changes.
const (
	Came    Change = "came"
	Went    Change = "went"
	Changed Change = "changed"
)

// Difference is one object that is in one set only, or otherwise in the other.
type Difference struct {
	Change  Change
	Was, Is census.Record // nil where it is not there
	Columns []string      // of what changed, in which
}

// Differ compares two sets of the same columns, both in the order of bucket and key, and
// gives each difference until f says that it is enough. The error for sets that cannot be
// compared has the code census-columns.
func Differ(ctx context.Context, was, is *Set, f func(Difference) (bool, error)) error {
	bucket, key := was.index("bucket"), was.index("key")
	if bucket < 0 || key < 0 || !slices.Equal(namesOf(was.Columns), namesOf(is.Columns)) {
		return fault.New(fault.Conflict, "census-columns",
			"the two censuses do not have the same columns, with bucket and key").
			Do("run the census again, with columns bucket and key, and compare two of those runs")
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	d := &differ{bucket: bucket, key: key, version: was.index("version"), names: namesOf(was.Columns), tell: f}
	a, b := d.groups(ctx, was), d.groups(ctx, is)
	x, y := <-a, <-b
	for x.rows != nil || y.rows != nil {
		var more bool
		var err error
		switch {
		case x.err != nil:
			return x.err
		case y.err != nil:
			return y.err
		case y.rows == nil || x.rows != nil && x.less(y):
			more, err = d.group(x.rows, nil)
			x = <-a
		case x.rows == nil || y.less(x):
			more, err = d.group(nil, y.rows)
			y = <-b
		default:
			more, err = d.group(x.rows, y.rows)
			x, y = <-a, <-b
		}
		if err != nil || !more {
			return err
		}
	}
	if x.err != nil {
		return x.err
	}
	return y.err
}

type differ struct {
	bucket, key, version int
	names                []string
	tell                 func(Difference) (bool, error)
}

// group is all rows of a key.
type group struct {
	bucket, key string
	rows        []census.Record
	err         error
}

func (g group) less(o group) bool {
	return g.bucket < o.bucket || g.bucket == o.bucket && g.key < o.key
}

// groups reads a set beside the other one. The channel is closed at its end.
func (d *differ) groups(ctx context.Context, s *Set) <-chan group {
	out := make(chan group, 64)
	give := func(g group) bool {
		select {
		case out <- g:
			return true
		case <-ctx.Done():
			return false
		}
	}
	go func() {
		defer close(out)
		var g group
		err := s.Rows(ctx, Place{}, func(r census.Record, _ Place) (bool, error) {
			if g.rows != nil && (g.bucket != r[d.bucket] || g.key != r[d.key]) {
				if !give(g) {
					return false, nil
				}
				g = group{}
			}
			g.bucket, g.key, g.rows = r[d.bucket], r[d.key], append(g.rows, r)
			return true, nil
		})
		switch {
		case err != nil:
			give(group{err: err})
		case g.rows != nil:
			give(g)
		}
	}()
	return out
}

// group tells the differences between the rows of one key.
func (d *differ) group(was, is []census.Record) (more bool, err error) {
	id := func(r census.Record) string {
		if d.version < 0 || len(was) == 1 && len(is) == 1 {
			return ""
		}
		return r[d.version]
	}
	for _, x := range was {
		diff := Difference{Change: Went, Was: x}
		if i := slices.IndexFunc(is, func(y census.Record) bool { return id(y) == id(x) }); i >= 0 {
			diff.Change, diff.Is = Changed, is[i]
			if is = slices.Delete(slices.Clone(is), i, i+1); slices.Equal(x, diff.Is) {
				continue
			}
			for c, name := range d.names {
				if x[c] != diff.Is[c] {
					diff.Columns = append(diff.Columns, strings.Clone(name))
				}
			}
		}
		if more, err := d.tell(diff); err != nil || !more {
			return false, err
		}
	}
	for _, y := range is {
		if more, err := d.tell(Difference{Change: Came, Is: y}); err != nil || !more {
			return false, err
		}
	}
	return true, nil
}
