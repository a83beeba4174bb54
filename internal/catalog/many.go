package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/object"
)

// Each is one of many changes that are made in one transaction.
type Each struct {
	Key  string           // of the source; "" when the change has none
	ID   object.VersionID // of the source; Current: the current one
	Make Change           // its kind is that of a Copying, or ObjectRemoved
	// Edit gets the source as found under lock and gives what to write; it must keep the body.
	Edit func(*object.Version) (*object.Version, error)
}

// Step says, once the changes of a step of an order are made, how far it is: that is noted in
// the same transaction, so that what is done is counted, once.
type Step func(made []*object.Version) (order int64, p OrderProgress)

// MakeMany makes changes to keys of one bucket, from sources in another or the same, in one
// transaction: all, or none. It gives what was written, nil for removals and for those whose
// source is gone. The error of a change that is refused is that of Commit, in a RefusedKey.
// No key may be named twice: see Distinct.
func (c *Catalog) MakeMany(ctx context.Context, source int64, many []Each, step Step) (made []*object.Version,
	err error) {
	err = retry(ctx, func(tried int) error {
		return c.inTx(ctx, func(tx *sqlx.Tx) error {
			if made, err = makeMany(ctx, tx, source, many, tried > 0); err != nil {
				return err
			}
			order, p := step(made)
			b, err := json.Marshal(p)
			if err != nil {
				return err
			}
			_, err = tx.ExecContext(ctx, `update orders set progress = $2::jsonb, changed = now() where id = $1`, order,
				string(b))
			return err
		})
	})
	return made, err
}

// Distinct tells whether no key is named twice by changes, as source or target.
func Distinct(source int64, many []Each) bool {
	type place struct {
		bucket int64
		key    string
	}
	seen := make(map[place]bool, 2*len(many))
	twice := func(p place) bool {
		was := seen[p]
		seen[p] = true
		return was
	}
	for _, x := range many {
		if twice(place{x.Make.Bucket, x.Make.Key}) || x.Make.Kind == ObjectRenamed && twice(place{source, x.Key}) {
			return false
		}
	}
	return true
}

func makeMany(ctx context.Context, tx *sqlx.Tx, source int64, many []Each, careful bool) ([]*object.Version, error) {
	found, err := lockVersions(ctx, tx, source, many)
	if err != nil {
		return nil, err
	}
	from, err := bucketNamed(ctx, tx, source)
	if err != nil {
		return nil, err
	}
	made := make([]*object.Version, len(many))
	var batch []Change
	var of []int // the change that an element of the batch is of
	for i, x := range many {
		ch := x.Make
		if ch.Kind == ObjectRemoved {
			batch, of = append(batch, ch), append(of, i)
			continue
		}
		v := found[i]
		if v == nil {
			continue
		}
		if made[i], err = x.Edit(v); err != nil {
			return nil, &RefusedKey{x.Key, err}
		}
		ch.Version = made[i]
		ch.Detail = map[string]any{"from": map[string]any{"bucket": from, "key": hexKey(x.Key), "version": v.ID().String()}}
		if batch, of = append(batch, ch), append(of, i); ch.Kind == ObjectRenamed {
			batch, of = append(batch, Change{Kind: ObjectRenamedAway, Bucket: source, Key: x.Key, Author: ch.Author,
				Detail: map[string]any{"to": map[string]any{"key": hexKey(ch.Key)}}}), append(of, i)
		}
	}
	if len(batch) == 0 {
		return made, nil
	}
	results, err := commitOn(ctx, inside(tx), batch, careful)
	if err != nil {
		return nil, err
	}
	var l lineage
	for n, r := range results {
		i := of[n]
		if err := r.err(); err != nil {
			return nil, &RefusedKey{batch[n].Key, err}
		}
		if batch[n].Kind == ObjectRenamedAway || made[i] == nil {
			continue
		}
		made[i].Number, made[i].Plain = r.Number, r.Versioning != object.On
		l.add(batch[n], source, many[i].Key, found[i].Number, r.Number)
	}
	return made, l.insert(ctx, tx)
}

// RefusedKey says which of many keys an error is of.
type RefusedKey struct {
	Key string
	Err error
}

func (r *RefusedKey) Error() string { return fmt.Sprintf("%q: %v", r.Key, r.Err) }
func (r *RefusedKey) Unwrap() error { return r.Err }

func bucketNamed(ctx context.Context, tx *sqlx.Tx, id int64) (name string, err error) {
	err = tx.GetContext(ctx, &name, `select name from buckets where id = $1`, id)
	return name, err
}

// lineage gathers which version came of which.
type lineage struct {
	how                              []int16
	at                               []time.Time
	who                              []string
	fromBucket, fromNumber, toBucket []int64
	toNumber                         []int64
	fromKey, toKey                   [][]byte
}

func (l *lineage) add(ch Change, source int64, key string, number, becomes int64) {
	l.how, l.at, l.who = append(l.how, int16(ch.Kind)), append(l.at, ch.At), append(l.who, ch.Who)
	l.fromBucket, l.fromKey = append(l.fromBucket, source), append(l.fromKey, []byte(key))
	l.fromNumber, l.toBucket = append(l.fromNumber, number), append(l.toBucket, ch.Bucket)
	l.toKey, l.toNumber = append(l.toKey, []byte(ch.Key)), append(l.toNumber, becomes)
}

func (l *lineage) insert(ctx context.Context, tx *sqlx.Tx) error {
	_, err := tx.ExecContext(ctx, `insert into lineage (how, at, who, from_bucket, from_key, from_number, to_bucket, to_key,
			to_number)
		select * from unnest($1::smallint[], $2::timestamptz[], $3::text[], $4::bigint[], $5::bytea[], $6::bigint[],
			$7::bigint[], $8::bytea[], $9::bigint[])`, l.how, l.at, l.who, l.fromBucket, l.fromKey, l.fromNumber, l.toBucket,
		l.toKey, l.toNumber)
	return err
}

// lockVersions finds the sources of changes and holds them until the transaction ends; nil for
// those that are gone.
func lockVersions(ctx context.Context, tx *sqlx.Tx, bucket int64, many []Each) ([]*object.Version, error) {
	var places []int64
	var keys [][]byte
	var ids []int64
	lock := "key share"
	for i, x := range many {
		if x.Make.Kind == ObjectRemoved {
			continue
		}
		if x.Make.Kind == ObjectRenamed {
			lock = "update"
		}
		places, keys, ids = append(places, int64(i)), append(keys, []byte(x.Key)), append(ids, int64(x.ID))
	}
	out := make([]*object.Version, len(many))
	for _, from := range []string{"heads", "history"} {
		// In the order of keys, as all do who lock many.
		rows, err := tx.QueryContext(ctx, named(`select w.i, `+versionColumns+`
			from unnest($2::bigint[], $3::bytea[], $4::bigint[]) w(i, k, n)
			cross join lateral (select * from `+from+` v where v.bucket = $1 and v.key = w.k
				and (w.n = @CurrentVersion or v.number = w.n or w.n = @PlainVersion and v.plain)
				order by v.number desc limit 1 for `+lock+`) h`), bucket, places, keys, ids)
		if err != nil {
			return nil, err
		}
		if err := readLocked(rows, many, out); err != nil {
			return nil, err
		}
		var more int
		for i, place := range places { // only versions that are named are looked for in the history
			if out[place] == nil && ids[i] != int64(object.Current) {
				places[more], keys[more], ids[more] = place, keys[i], ids[i]
				more++
			}
		}
		if places, keys, ids = places[:more], keys[:more], ids[:more]; more == 0 {
			break
		}
	}
	return out, nil
}

// readLocked reads versions, each to its place.
func readLocked(rows *sql.Rows, many []Each, into []*object.Version) error {
	defer rows.Close()
	for rows.Next() {
		var place int
		var r headRow
		if err := rows.Scan(append([]any{&place}, r.targets()...)...); err != nil {
			return err
		}
		if r.Marker.Bool {
			continue
		}
		key, err := object.ParseKey(many[place].Key)
		if err != nil {
			return err
		}
		if into[place], err = r.version(key); err != nil {
			return err
		}
	}
	return rows.Err()
}

// VersionsAsOf gives versions of keys by their numbers, with the metadata that they had at a
// moment; nil for those that are gone.
func (c *Catalog) VersionsAsOf(ctx context.Context, bucket int64, keys []string, numbers []int64,
	at time.Time) ([]*object.Version, error) {
	many := make([]Each, len(keys))
	names := make([][]byte, len(keys))
	for i, k := range keys {
		many[i], names[i] = Each{Key: k}, []byte(k)
	}
	out := make([]*object.Version, len(keys))
	for _, from := range []string{"heads", "history"} {
		rows, err := c.db.QueryContext(ctx, `select w.i - 1, `+versionColumns+`
			from unnest($2::bytea[], $3::bigint[]) with ordinality w(k, n, i)
			cross join lateral (select * from `+from+` v where v.bucket = $1 and v.key = w.k and v.number = w.n limit 1) h`,
			bucket, names, numbers)
		if err == nil {
			err = readLocked(rows, many, out)
		}
		if err != nil {
			return nil, mapError(err)
		}
	}
	var there []*object.Version
	for _, v := range out {
		if v != nil {
			there = append(there, v)
		}
	}
	return out, c.metadataAsOf(ctx, bucket, there, at)
}
