package middle

// Paged gives a page of what who asks may see: it is filtered before it is cut, so
// that neither its length nor where it goes on tells of the rest. get reads a page
// after a place, place gives that of a row, and show what is shown of it, if
// anything. next is the place of the last row shown, the zero place at the end.
func Paged[Row, Shown any, Place comparable](after Place, limit int, get func(Place, int) ([]Row, error),
	place func(Row) Place, show func(Row) (Shown, bool, error)) (out []Shown, next Place, err error) {
	out = []Shown{}
	var last Place // of the last row that is shown
	size := max(limit+1, 50)
	for {
		rows, err := get(after, size)
		if err != nil {
			return nil, next, err
		}
		for _, r := range rows {
			s, seen, err := show(r)
			if err != nil {
				return nil, next, err
			}
			if seen && len(out) == limit {
				return out, last, nil
			}
			if after = place(r); seen {
				out, last = append(out, s), after
			}
		}
		if len(rows) < size {
			return out, next, nil
		}
	}
}

// Cut gives the rows of a page, of which one more than fit was read when there is more, and the
// place after which the next begins; the zero place at the end.
func Cut[Row any, Place any](rows []Row, limit int, place func(Row) Place) (page []Row, next Place) {
	if len(rows) <= limit {
		return rows, next
	}
	return rows[:limit], place(rows[limit-1])
}

// Fresh makes the answer that a result is for.
func Fresh[Out any](result **Out) *Out {
	*result = new(Out)
	return *result
}

// WithRuns gives what is shown of jobs, each with its latest run.
func WithRuns[Job, Run, Info any](jobs []*Job, id func(*Job) int64, latest func([]int64) (map[int64]Run, error),
	show func(*Job, *Run) Info) ([]Info, error) {
	ids := make([]int64, len(jobs))
	for i, j := range jobs {
		ids[i] = id(j)
	}
	runs, err := latest(ids)
	if err != nil {
		return nil, err
	}
	out := make([]Info, len(jobs))
	for i, j := range jobs {
		var last *Run
		if r, ok := runs[ids[i]]; ok {
			last = &r
		}
		out[i] = show(j, last)
	}
	return out, nil
}
