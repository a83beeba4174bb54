package desk

// paged gives a page of what who asks may see: it is filtered before it is cut, so
// that neither its length nor where it goes on tells of the rest. get reads a page
// after a place, place gives that of a row, and show what is shown of it, if
// anything. next is the place of the last row shown, the zero place at the end.
func paged[Row, Shown any, Place comparable](after Place, limit int, get func(Place, int) ([]Row, error),
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
