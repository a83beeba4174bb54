package catalog

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/fault"
	"spindle/internal/core/lifecycle"
	"spindle/internal/core/object"
	"spindle/internal/core/pattern"
)

// scopeTerms asks for what a rule's scope holds, of a row that the statement calls h.
// What has no content, as delete markers, is held only by scopes that ask for none.
func (q *conditions) scopeTerms(s *lifecycle.Scope) string {
	t := &conditions{args: q.args}
	t.beneath("h.key", s.Prefix)
	any := func(list []pattern.Pattern) string {
		var terms []string
		for _, p := range list {
			terms = append(terms, t.likeKey(p))
		}
		return strings.Join(terms, " or ")
	}
	if len(s.Like) > 0 {
		t.terms = append(t.terms, "("+any(s.Like)+")")
	}
	if len(s.LeaveOut) > 0 {
		t.terms = append(t.terms, "not ("+any(s.LeaveOut)+")")
	}
	if s.Content() {
		t.and(`not h.marker`)
	}
	t.when(s.From != nil, `h.size >= ?`, s.From).when(s.To != nil, `h.size <= ?`, s.To)
	if len(s.Tags) > 0 {
		doc, _ := json.Marshal(s.Tags) // strings always can be
		t.and(`h.tags @> ?::jsonb`, string(doc))
	}
	t.inScope(s.Where)
	q.args = t.args
	return t.String()
}

// maskOf gives an expression for the lifecycle.Mask of a row h.
func (q *conditions) maskOf(set *lifecycle.Set) string {
	terms := []string{"0::bigint"}
	for i, r := range set.Rules {
		if r.On() {
			terms = append(terms, fmt.Sprintf("case when %s then %d::bigint else 0 end", q.scopeTerms(&r.Scope), int64(1)<<i))
		}
	}
	return strings.Join(terms, " + ")
}

// AgeGroup are current versions without previous ones that no rule can tell apart.
type AgeGroup struct {
	Mask    lifecycle.Mask `db:"mask"`
	Tier    int16          `db:"tier"`
	Age     int            `db:"age"` // whole days
	Plain   bool           `db:"plain"`
	Objects int64          `db:"objects"`
	Bytes   int64          `db:"bytes"`
	Place   string         `db:"place"` // of one of them
}

// AgedKey is a key with its versions as rules see them.
type AgedKey struct {
	Name string
	lifecycle.Key
	More []AgedMore // beside each of the versions
}

// AgedMore is what acting on a version needs to know beside what judging does.
type AgedMore struct {
	Revision int
	Body     object.BodyRef
	CRC64    uint64
	Retained bool // it must be kept, whatever the rules say
}

// DueRemoval is a version that rules remove.
type DueRemoval struct {
	Key     string
	Number  int64
	Current bool // it is the key's current version, and no delete marker
	Rule    string
}

// Ageing reads how the objects of a bucket stand to its rules, all at one moment, by
// group and key by key, in bounded memory.
type Ageing struct {
	Bucket int64
	Set    *lifecycle.Set
	Now    time.Time
	Group  func(AgeGroup, string) error // with one of their keys
	Key    func(*AgedKey) error         // those with previous versions or a delete marker
}

// Aged carries out an Ageing.
func (c *Catalog) Aged(ctx context.Context, a Ageing) error {
	tx, err := c.db.BeginTxx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		return mapError(err)
	}
	defer func() { _ = tx.Rollback() }()
	// The database cannot tell how few groups there are, and would sort all rows to find them.
	for _, s := range []string{`set local jit = off`, `set local work_mem = '32MB'`, `set local enable_sort = off`} {
		if _, err := tx.ExecContext(ctx, s); err != nil {
			return mapError(err)
		}
	}
	if err := agedGroups(ctx, tx, a); err != nil {
		return mapError(err)
	}
	if _, err := tx.ExecContext(ctx, `set local enable_sort = on`); err != nil {
		return mapError(err)
	}
	return mapError(agedKeys(ctx, tx, a))
}

func agedGroups(ctx context.Context, tx *sqlx.Tx, a Ageing) error {
	q := where(a.Bucket, a.Now)
	mask := q.maskOf(a.Set)
	var groups []AgeGroup
	if err := tx.SelectContext(ctx, &groups, `select mask, tier, age, plain, count(*) as objects,
		sum(size)::bigint as bytes,
			min(place)::text as place
		from (select `+mask+` as mask, h.tier, floor(date_part('epoch', $2::timestamptz - h.created) / 86400)::int as age,
				h.plain, h.size, h.ctid as place
			from heads h where h.bucket = $1 and not h.marker
				and not exists (select 1 from history p where p.bucket = h.bucket and p.key = h.key)) x
		group by 1, 2, 3, 4`, q.args...); err != nil {
		return err
	}
	groups = slices.DeleteFunc(groups, func(g AgeGroup) bool { return g.Mask == 0 })
	for from := 0; from < len(groups); from += 1000 {
		part := groups[from:min(from+1000, len(groups))]
		places := make([]string, len(part))
		for i, g := range part {
			places[i] = g.Place
		}
		var named []struct {
			Place string `db:"place"`
			Key   []byte `db:"key"`
		}
		if err := tx.SelectContext(ctx, &named,
			`select ctid::text as place, key from heads where ctid = any($1::text[]::tid[])`,
			places); err != nil {
			return err
		}
		keys := make(map[string]string, len(named))
		for _, n := range named {
			keys[n.Place] = string(n.Key)
		}
		for _, g := range part {
			if err := a.Group(g, keys[g.Place]); err != nil {
				return err
			}
		}
	}
	return nil
}

func agedKeys(ctx context.Context, tx *sqlx.Tx, a Ageing) error {
	q := where(a.Bucket)
	mask := q.maskOf(a.Set)
	rows, err := tx.QueryxContext(ctx, `select h.key, h.number, h.created, null::timestamptz as replaced, h.size, h.tier,
		h.marker,
			h.plain, `+mask+` as mask
		from heads h where h.bucket = $1 and (h.marker or exists (select 1 from history p where p.bucket = h.bucket
			and p.key = h.key))
		union all select h.key, h.number, h.created, h.replaced, h.size, h.tier, h.marker, h.plain, `+mask+`
		from history h where h.bucket = $1
		order by 1, 4 desc nulls first, 2 desc`, q.args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	var k *AgedKey
	for rows.Next() {
		var key []byte
		var v lifecycle.Version
		var replaced *time.Time
		if err := rows.Scan(&key, &v.Number, &v.Created, &replaced, &v.Size, &v.Tier, &v.Marker, &v.Plain,
			&v.Mask); err != nil {
			return err
		}
		if k == nil || k.Name != string(key) {
			if k != nil {
				if err := a.Key(k); err != nil {
					return err
				}
			}
			k = &AgedKey{Name: string(key)}
			k.Mask = a.Set.KeyMask(k.Name)
		}
		if replaced != nil {
			v.Replaced = *replaced
		}
		k.Versions = append(k.Versions, v)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if k != nil {
		return a.Key(k)
	}
	return nil
}

// agedRow is a version as agedOf reads it.
type agedRow struct {
	Key      []byte         `db:"key"`
	Number   int64          `db:"number"`
	Revision int            `db:"revision"`
	Created  time.Time      `db:"created"`
	Replaced *time.Time     `db:"replaced"`
	Size     int64          `db:"size"`
	Tier     int16          `db:"tier"`
	Marker   bool           `db:"marker"`
	Plain    bool           `db:"plain"`
	Mask     lifecycle.Mask `db:"mask"`
	File     int64          `db:"body_file"`
	Offset   int64          `db:"body_offset"`
	CRC64    int64          `db:"crc64"`
	Retained bool           `db:"retained"`
}

const agedColumns = `key, number, revision, created, size, tier, marker, plain, body_file, body_offset, crc64,
	retained(bucket, key, number, now()) as retained`

func (k *AgedKey) add(r *agedRow) {
	v := lifecycle.Version{Number: r.Number, Created: r.Created, Size: r.Size, Tier: r.Tier, Marker: r.Marker,
		Plain: r.Plain, Mask: r.Mask}
	if r.Replaced != nil {
		v.Replaced = *r.Replaced
	}
	k.Versions = append(k.Versions, v)
	k.More = append(k.More, AgedMore{Revision: r.Revision, CRC64: uint64(r.CRC64), Retained: r.Retained,
		Body: object.BodyRef{Tier: r.Tier, File: r.File, Offset: r.Offset}})
}

// agedOf gives keys of a bucket with their versions, those that are there, and which rules
// of a set hold them; locked has nobody change them until the transaction ends. A bucket
// that keeps no versions has no previous ones.
func agedOf(ctx context.Context, q querier, bucket int64, versioning object.Versioning, set *lifecycle.Set,
	keys [][]byte,
	locked bool) ([]*AgedKey, error) {
	var heads, previous []agedRow
	of := where(bucket, keys)
	columns := agedColumns + `, ` + of.maskOf(set) + ` as mask`
	lock := ""
	if locked {
		lock = ` for update`
	}
	if err := q.SelectContext(ctx, &heads,
		`select `+columns+` from heads h where bucket = $1 and key = any($2) order by key`+lock, of.args...); err != nil {
		return nil, err
	}
	if versioning != object.Off {
		if err := q.SelectContext(ctx, &previous, `select `+columns+`, replaced from history h where bucket = $1
			and key = any($2)
			order by key, replaced desc, number desc`, of.args...); err != nil {
			return nil, err
		}
	}
	out := make([]*AgedKey, len(heads))
	for i := range heads {
		k := &AgedKey{Name: string(heads[i].Key)}
		k.Mask = set.KeyMask(k.Name)
		out[i] = k
		k.add(&heads[i])
		for len(previous) > 0 && bytes.Compare(previous[0].Key, heads[i].Key) <= 0 {
			if bytes.Equal(previous[0].Key, heads[i].Key) {
				k.add(&previous[0])
			}
			previous = previous[1:]
		}
	}
	return out, nil
}

// AgedOf gives keys of a bucket with their versions, those that are there, and which rules
// of a set hold them.
func (c *Catalog) AgedOf(ctx context.Context, bucket int64, versioning object.Versioning, set *lifecycle.Set,
	keys [][]byte) ([]*AgedKey, error) {
	out, err := agedOf(ctx, c.db, bucket, versioning, set, keys, false)
	return out, mapError(err)
}

// ActOn locks keys of the bucket of a run, has them judged as they are then, and carries
// out the removals that come of it, in one transaction with their outcomes and how far
// the run is. judge may be called again. The error when the run was stopped meanwhile has
// the code run-stopped; nothing is done then.
func (c *Catalog) ActOn(ctx context.Context, run *Run, set *lifecycle.Set, keys [][]byte,
	by Author, judge func([]*AgedKey) ([]DueRemoval, []Outcome)) error {
	bucket := run.Bucket
	return retry(ctx, func(tried int) error {
		return c.inTx(ctx, func(tx *sqlx.Tx) error {
			if _, err := tx.ExecContext(ctx, named(`select case when quota is null
				then pg_advisory_xact_lock_shared(@BucketLock, (id % 2147483647)::int)
				else pg_advisory_xact_lock(@BucketLock, (id % 2147483647)::int) end from buckets
				where id = $1`), bucket); err != nil {
				return err
			}
			var versioning object.Versioning // now that nobody changes it
			if err := tx.GetContext(ctx, &versioning, `select versioning from buckets where id = $1`, bucket); err != nil {
				return err
			}
			aged, err := agedOf(ctx, tx, bucket, versioning, set, keys, true)
			if err != nil {
				return err
			}
			removals, outcomes := judge(aged)
			if err := removeDue(ctx, tx, run, by, aged, versioning, removals, tried > 0); err != nil {
				return err
			}
			if err := noteOutcomes(ctx, tx, run.ID, outcomes); err != nil {
				return err
			}
			return saveRun(ctx, tx, run)
		})
	})
}

// removeDue removes versions: those that leave nothing and are nobody's successors all at
// once, the others as any change.
func removeDue(ctx context.Context, tx *sqlx.Tx, run *Run, by Author, aged []*AgedKey, versioning object.Versioning,
	removals []DueRemoval, careful bool) error {
	heads := make(map[string]int64, len(aged))
	for _, k := range aged {
		heads[k.Name] = k.Versions[0].Number
	}
	type many struct {
		keys    [][]byte
		numbers []int64
		rules   []string
	}
	var current, previous many
	var rest []Change
	for _, r := range removals {
		into := &previous
		switch {
		case r.Current && versioning == object.Off:
			into = &current
		case r.Current:
			of := by
			of.Source = "rule " + r.Rule // the marker says which it was
			rest = append(rest, Change{Kind: ObjectRemoved, Bucket: run.Bucket, Key: r.Key, Author: of,
				Detail: map[string]any{"rule": r.Rule, "run": run.ID}})
			continue
		case heads[r.Key] == r.Number:
			rest = append(rest, Change{Kind: VersionRemoved, Bucket: run.Bucket, Key: r.Key, ID: object.VersionID(r.Number),
				Author: by, Detail: map[string]any{"rule": r.Rule, "run": run.ID}})
			continue
		}
		into.keys, into.numbers, into.rules = append(into.keys, []byte(r.Key)), append(into.numbers, r.Number),
			append(into.rules, r.Rule)
	}
	for i, m := range []many{current, previous} {
		if len(m.keys) == 0 {
			continue
		}
		if _, err := tx.ExecContext(ctx, `select remove_due($1, $2, $3, $4, $5, $6, $7, $8)`, run.Bucket, m.keys, m.numbers,
			m.rules, run.ID, i == 1, by.At, by.Who); err != nil {
			return err
		}
	}
	for _, batch := range distinct(rest) {
		results, err := commitOn(ctx, inside(tx), batch, careful)
		if err != nil {
			return err
		}
		for _, r := range results {
			if err := r.err(); err != nil && !fault.HasCode(err, "version-missing") {
				return err
			}
		}
	}
	return nil
}

// MoveBodies has versions of one bucket lie elsewhere, in one transaction with what came
// of it: outcomes gets which were moved, in their order. Those that are not what they
// were, by number, revision and body, stay as they are. They have one author and run.
func (c *Catalog) MoveBodies(ctx context.Context, run *Run, list []Moving,
	outcomes func(moved []bool) []Outcome) error {
	return retry(ctx, func(int) error {
		return c.inTx(ctx, func(tx *sqlx.Tx) error {
			places, err := moveBodies(ctx, tx, run.Bucket, list)
			if err != nil {
				return err
			}
			moved := make([]bool, len(list))
			for _, p := range places {
				moved[p-1] = true
			}
			if err := noteOutcomes(ctx, tx, run.ID, outcomes(moved)); err != nil {
				return err
			}
			return saveRun(ctx, tx, run)
		})
	})
}

// distinct cuts changes into batches that name each key once, and keep their order.
func distinct(changes []Change) (out [][]Change) {
	turn := map[string]int{}
	for _, ch := range changes {
		n := turn[ch.Key]
		turn[ch.Key]++
		if n == len(out) {
			out = append(out, nil)
		}
		out[n] = append(out[n], ch)
	}
	return out
}
