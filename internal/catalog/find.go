package catalog

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"spindle/internal/core/object"
	"spindle/internal/core/pattern"
	"spindle/internal/core/query"
	"spindle/internal/core/tier"
)

// Find asks for a page of the versions of a bucket for which an expression holds, in the
// byte order of keys, of each key the newest first.
type Find struct {
	Bucket   int64
	Name     string // of the bucket
	Expr     query.Expr
	Now      time.Time
	Tiers    tier.Set
	Previous bool // versions too
	After    FindPlace
	Limit    int
	Budget   int // rows that are looked at, at most

	keys [][]byte // only these; nil: all
}

// FindPlace is how far a bucket was looked through: after this version of this key.
type FindPlace struct {
	Key    string
	Number int64 // 0: after all of the key's versions
}

// FoundVersion is a version that was found.
type FoundVersion struct {
	*object.Version
	Current bool
}

// FindPage is what was found in one go.
type FindPage struct {
	Found  []FoundVersion
	Next   FindPlace // where to go on; "" at the end of the bucket
	Looked int64     // at so many versions
	Index  bool      // the index told where to look
}

// from asks for rows of the bucket that are to be looked at.
func (f *Find) from(q *conditions) {
	is, begins := query.Must(f.Expr, "key")
	q.and(`h.bucket = ?`, f.Bucket).and(`not h.marker`).beneath("h.key", begins)
	q.when(is != "", `h.key = ?`, []byte(is)).when(f.keys != nil, `h.key = any(?::bytea[])`, f.keys)
	switch {
	case f.After.Key != "" && f.After.Number > 0:
		q.and(`(h.key > ? or h.key = ? and h.number < ?)`, []byte(f.After.Key), []byte(f.After.Key), f.After.Number)
		q.and(`h.key >= ?`, []byte(f.After.Key))
	case f.After.Key != "":
		q.and(`h.key > ?`, []byte(f.After.Key))
	}
}

const findColumns = `h.key, h.number, h.revision, h.created, h.size, h.md5, h.parts, h.crc64, h.checksum_kind,
	h.checksum, h.tier,
	h.body_file, h.body_offset, h.content_type, h.headers, h.metadata, h.tags, h.written_by, h.source, h.plain, h.marker`

// rows gives the statement for the versions of the bucket, with whether each is current.
func (f *Find) rows(q *conditions) string {
	f.from(q)
	s := `select ` + findColumns + `, h.bucket, true as current from heads h where ` + q.String()
	if f.Previous {
		s += ` union all select ` + findColumns + `, h.bucket, false from history h where ` + q.String()
	}
	return s
}

// Find gives a page of what is found: by the index of the bucket, where there is one that
// answers, and otherwise at the cost of what it looks at.
func (c *Catalog) Find(ctx context.Context, f Find) (p FindPage, err error) {
	for range indexTries {
		v, err := c.view(ctx, &f)
		if err != nil {
			return p, err
		}
		if v == nil {
			break
		}
		if p, err = v.find(ctx, f); !errors.Is(err, errColumnGone) {
			return p, err
		}
	}
	return c.walk(ctx, f)
}

// indexTries is how often the index is asked anew when its runs were put together meanwhile.
const indexTries = 3

// walk looks at objects, as many as the budget allows.
func (c *Catalog) walk(ctx context.Context, f Find) (p FindPage, err error) {
	q := where()
	rows := f.rows(q)
	asked := &predicate{conditions: &conditions{args: q.args}, find: &f}
	term := asked.of(f.Expr)
	q.args = asked.args
	statement := fmt.Sprintf(`with looked as materialized (select * from (%s) h order by key, number desc limit %s),
		hits as (select * from looked h where %s order by key, number desc limit %s),
		last as (select key as last_key, number as last_number from looked order by key desc, number limit 1)
		select (select count(*) from looked) as looked, last.*, h.* from last left join hits h on true
		order by h.key, h.number desc`,
		rows, q.arg(f.Budget), term, q.arg(f.Limit))
	var list []struct {
		Looked     int64  `db:"looked"`
		LastKey    []byte `db:"last_key"`
		LastNumber int64  `db:"last_number"`
		Current    *bool  `db:"current"`
		headRow
	}
	if err := c.db.SelectContext(ctx, &list, statement, q.args...); err != nil {
		return p, mapError(err)
	}
	for i := range list {
		r := &list[i]
		if p.Looked = r.Looked; r.Current == nil {
			break
		}
		e, err := entryOf(&r.headRow)
		if err != nil {
			return p, err
		}
		p.Found = append(p.Found, FoundVersion{e.Version, *r.Current})
	}
	switch n := len(p.Found); {
	case n == f.Limit && n > 0:
		p.Next = FindPlace{p.Found[n-1].Key.String(), p.Found[n-1].Number}
	case len(list) > 0 && p.Looked == int64(f.Budget):
		p.Next = FindPlace{string(list[0].LastKey), list[0].LastNumber}
	}
	return p, nil
}

// CountFound counts all versions of the bucket for which the expression holds.
func (c *Catalog) CountFound(ctx context.Context, f Find) (objects, bytes int64, err error) {
	for range indexTries {
		v, err := c.view(ctx, &f)
		if err != nil {
			return 0, 0, err
		}
		if v == nil {
			break
		}
		objects, bytes, done, err := v.count(ctx, f)
		if errors.Is(err, errColumnGone) {
			continue
		}
		if done || err != nil {
			return objects, bytes, err
		}
		break
	}
	return c.countWalking(ctx, f)
}

// countWalking counts by looking at objects.
func (c *Catalog) countWalking(ctx context.Context, f Find) (objects, bytes int64, err error) {
	q := where()
	rows := f.rows(q)
	p := &predicate{conditions: &conditions{args: q.args}, find: &f}
	term := p.of(f.Expr)
	err = c.db.QueryRowxContext(ctx, fmt.Sprintf(`select count(*), coalesce(sum(size), 0)::bigint from (%s) h where %s`,
		rows, term),
		p.args...).Scan(&objects, &bytes)
	return objects, bytes, mapError(err)
}

// inScope asks that a row that the statement calls h is in a scope.
func (q *conditions) inScope(s query.Scope) {
	if s.All() {
		return
	}
	p := &predicate{conditions: &conditions{args: q.args}, find: &Find{Expr: s.Expr()}}
	term := p.of(s.Expr())
	q.args, q.terms = p.args, append(q.terms, term)
}

// predicate writes an expression as a condition of a row that the statement calls h.
type predicate struct {
	*conditions
	find *Find
}

func (p *predicate) of(x query.Expr) string {
	list := func(parts []query.Expr, word string) string {
		terms := make([]string, len(parts))
		for i, part := range parts {
			terms[i] = p.of(part)
		}
		return "(" + strings.Join(terms, " "+word+" ") + ")"
	}
	switch x := x.(type) {
	case query.And:
		return list(x, "and")
	case query.Or:
		return list(x, "or")
	case query.Not:
		return "not " + p.of(x.Of)
	case *query.Test:
		return "coalesce(" + p.test(x) + ", false)"
	}
	return "false"
}

func (p *predicate) test(t *query.Test) string {
	switch t.Field.Name {
	case "sealed":
		return fmt.Sprintf(`h.body_file > 0 and h.body_file & %d <> 0`, object.SealedBit)
	case "current":
		return `h.current`
	case "bucket":
		return fmt.Sprint(query.Holds(t, query.Object{Bucket: p.find.Name}, p.find.Now))
	case "tier":
		return p.tier(t)
	case "size":
		return p.numbers(t, `h.size::double precision`)
	case "age":
		return p.age(t)
	case "changed":
		return p.moments(t)
	case "key":
		return p.key(t)
	case "replication":
		return p.replication(t)
	case "version":
		return p.version(t)
	case "field":
		return p.open(t, `h.metadata`)
	case "tag":
		return p.open(t, `h.tags`)
	}
	return p.text(t, map[string]string{"type": `h.content_type`, "writer": `h.written_by`,
		"md5":   `encode(h.md5, 'hex') || case when h.parts > 0 then '-' || h.parts else '' end`,
		"crc64": `lpad(to_hex(h.crc64), 16, '0')`}[t.Field.Name])
}

// version asks for versions by their ids; what is none names nothing.
func (p *predicate) version(t *query.Test) string {
	numbers, plain := []int64{}, false
	for _, s := range t.Texts {
		switch id, err := object.ParseVersionID(s); {
		case err != nil:
		case id == object.Plain:
			plain = true
		default:
			numbers = append(numbers, int64(id))
		}
	}
	return fmt.Sprintf(`(h.plain and %v or not h.plain and h.number = any(%s::bigint[]))`, plain, p.arg(numbers))
}

// tier asks for the tiers whose names the test holds for.
func (p *predicate) tier(t *query.Test) string {
	ids := []int16{}
	for _, x := range p.find.Tiers {
		if query.Holds(t, query.Object{Tier: x.Name}, p.find.Now) {
			ids = append(ids, x.ID)
		}
	}
	return `h.tier = any(` + p.arg(ids) + `::smallint[])`
}

func (p *predicate) numbers(t *query.Test, column string) string {
	n := make([]string, len(t.Numbers))
	for i, v := range t.Numbers {
		n[i] = p.arg(v) + "::double precision"
	}
	if t.Op == query.Between {
		return column + ` between ` + n[0] + ` and ` + n[1]
	}
	return column + map[query.Op]string{query.Is: ` = `, query.Over: ` > `, query.Under: ` < `, query.AtLeast: ` >= `,
		query.AtMost: ` <= `}[t.Op] + n[0]
}

// age compares when a version was written with when one of that age was.
func (p *predicate) age(t *query.Test) string {
	var at []string
	for _, m := range t.Since(p.find.Now) {
		at = append(at, p.arg(m)+"::timestamptz")
	}
	if t.Op == query.Between {
		return `h.created <= ` + at[0] + ` and h.created >= ` + at[1]
	}
	return `h.created ` + map[query.Op]string{query.Over: `< `, query.Under: `> `, query.AtLeast: `<= `,
		query.AtMost: `>= `}[t.Op] +
		at[0]
}

func (p *predicate) moments(t *query.Test) string {
	first := p.arg(t.Times[0]) + "::timestamptz"
	switch t.Op {
	case query.Before:
		return `h.created < ` + first
	case query.After:
		return `h.created > ` + first
	case query.On:
		return `h.created >= ` + first + ` and h.created < ` + p.arg(t.Times[0].AddDate(0, 0, 1)) + `::timestamptz`
	}
	return `h.created >= ` + first + ` and h.created <= ` + p.arg(t.Times[1]) + `::timestamptz`
}

// like gives a pattern that begins or ends with a text, or has it somewhere.
func like(before, text, after string) string {
	return before + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text) + after
}

func (p *predicate) key(t *query.Test) string {
	switch t.Op {
	case query.Is, query.OneOf:
		keys := make([][]byte, len(t.Texts))
		for i, s := range t.Texts {
			keys[i] = []byte(s)
		}
		return `h.key = any(` + p.arg(keys) + `::bytea[])`
	case query.Begins:
		q := &conditions{args: p.args}
		q.beneath("h.key", t.Texts[0])
		if p.args = q.args; len(q.terms) == 0 {
			return "true"
		}
		return "(" + q.String() + ")"
	case query.Ends:
		return `h.key like ` + p.arg([]byte(like("%", t.Texts[0], "")))
	case query.Contains:
		return `h.key like ` + p.arg([]byte(like("%", t.Texts[0], "%")))
	}
	return p.likeKey(t.Pattern)
}

func (p *predicate) text(t *query.Test, column string) string {
	column = `(` + column + `) collate "C"`
	switch t.Op {
	case query.Is, query.OneOf:
		return column + ` = any(` + p.arg(t.Texts) + `::text[])`
	case query.Begins:
		return column + ` like ` + p.arg(like("", t.Texts[0], "%"))
	case query.Ends:
		return column + ` like ` + p.arg(like("%", t.Texts[0], ""))
	case query.Contains:
		return column + ` like ` + p.arg(like("%", t.Texts[0], "%"))
	}
	return column + ` like ` + p.arg(t.Pattern.Like())
}

// open asks for a metadata field or a tag.
func (p *predicate) open(t *query.Test, column string) string {
	name := p.arg(t.Field.Named) + "::text"
	has := column + ` ? ` + name
	switch {
	case t.Op == query.Exists:
		return has
	case t.Op == query.Lacks:
		return `not coalesce(` + has + `, false)`
	case len(t.Numbers) > 0:
		value := `(` + column + ` ->> ` + name + `)`
		return `case when length(` + value + `) <= 30 and ` + value + ` ~ '^-?[0-9]+(\.[0-9]+)?$' then ` +
			p.numbers(t, value+`::double precision`) + ` else false end`
	}
	return p.text(t, column+` ->> `+name)
}

// replication asks how rules have the object copied.
func (p *predicate) replication(t *query.Test) string {
	var states []string
	for _, s := range t.Texts {
		states = append(states, map[string]string{"pending": `x.waiting and x.attempts = 0`,
			"failed":    `x.waiting and x.attempts > 0`,
			"completed": `not x.waiting and x.confirmed is not null`}[s])
	}
	return `h.current and exists (select 1 from replicas x join replication_targets t on t.id = x.target
		join replications r on r.id = t.rule where r.bucket = h.bucket and x.key = h.key
		and (` + strings.Join(states, " or ") + `))`
}

// likeKey asks for keys of a pattern.
func (q *conditions) likeKey(p pattern.Pattern) string {
	if strings.Contains(p.String(), "?") { // one character may be several bytes
		return `case when position('\x00'::bytea in h.key) = 0 then convert_from(h.key, 'UTF8') collate "C" like ` +
			q.arg(p.Like()) + ` else false end`
	}
	return `h.key like ` + q.arg([]byte(p.Like()))
}

// FoundWord is a metadata field or a tag, with values that are common.
type FoundWord struct {
	Kind   string // field or tag
	Name   string
	Values []string
}

// FindWords gives the fields and tags of some objects of buckets, the most common first.
func (c *Catalog) FindWords(ctx context.Context, buckets []int64, sample int) ([]FoundWord, error) {
	var rows []struct {
		Kind   string `db:"kind"`
		Name   string `db:"name"`
		Values string `db:"values"`
	}
	err := c.db.SelectContext(ctx, &rows, `with sampled as (
			select h.metadata, h.tags from unnest($1::bigint[]) b,
				lateral (select metadata, tags from heads x where x.bucket = b and not x.marker limit $2) h),
		pairs as (select 'field' as kind, p.key as name, p.value from sampled, jsonb_each_text(sampled.metadata) p
			union all select 'tag', p.key, p.value from sampled, jsonb_each_text(sampled.tags) p),
		counted as (select kind, name, value, count(*) as n from pairs where length(value) <= 100 group by 1, 2, 3),
		ranked as (select *, row_number() over (partition by kind, name order by n desc, value) as i,
			sum(n) over (partition by kind, name) as total from counted)
		select kind, name, jsonb_agg(value order by i)::text as values from ranked where i <= 12
			group by kind, name, total order by total desc, name limit 100`, buckets, sample)
	if err != nil {
		return nil, mapError(err)
	}
	out := make([]FoundWord, len(rows))
	for i, r := range rows {
		out[i] = FoundWord{Kind: r.Kind, Name: r.Name}
		if err := json.Unmarshal([]byte(r.Values), &out[i].Values); err != nil {
			return nil, err
		}
	}
	return out, nil
}
