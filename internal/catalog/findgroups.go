package catalog

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"
)

// Grouping is what found objects are put together by.
type Grouping struct {
	Kind string // field, tag, type, tier, year, month or day
	Name string // of a field or tag
}

// FoundGroup are the found objects that have one value.
type FoundGroup struct {
	Value   *string `db:"value"` // nil: they have none
	Objects int64   `db:"objects"`
	Bytes   int64   `db:"bytes"`
}

// MaxGroups is how many groups of a bucket are given, those with most objects.
const MaxGroups = 10_000

// of writes what a row that the statement calls h is put together by.
func (g Grouping) of(q *conditions) string {
	day := func(format string) string { return `to_char(h.created at time zone 'UTC', '` + format + `')` }
	switch g.Kind {
	case "field":
		return `h.metadata ->> ` + q.arg(g.Name)
	case "tag":
		return `h.tags ->> ` + q.arg(g.Name)
	case "type":
		return `h.content_type`
	case "tier":
		return `h.tier::text`
	case "year":
		return day("YYYY")
	case "month":
		return day("YYYY-MM")
	}
	return day("YYYY-MM-DD")
}

// GroupFound puts what is found in a bucket together, the groups with most objects first; it
// costs a look at every object of the bucket. More says that there are others.
func (c *Catalog) GroupFound(ctx context.Context, f Find, by Grouping) (groups []FoundGroup, more bool, err error) {
	q := where()
	rows := f.rows(q)
	p := &predicate{conditions: &conditions{args: q.args}, find: &f}
	term, value := p.of(f.Expr), by.of(p.conditions)
	err = c.db.SelectContext(ctx, &groups, fmt.Sprintf(`select %s as value, count(*) as objects,
		coalesce(sum(size), 0)::bigint as bytes from (%s) h where %s group by 1 order by 2 desc, 1 limit %d`, value, rows,
		term, MaxGroups+1), append([]any{pgx.QueryExecModeExec}, p.args...)...)
	if len(groups) > MaxGroups {
		return groups[:MaxGroups], true, mapError(err)
	}
	return groups, false, mapError(err)
}
