package catalog

import (
	"context"

	"spindle/internal/core/object"
)

// Listing asks for a page of current objects in byte order.
type Listing struct {
	Bucket    int64
	Prefix    string
	Delimiter string // "": flat
	After     string // exclusive; a key or a folded prefix
	Max       int    // entries of the page, at least 1
	Full      bool   // with metadata and headers
}

// Entry of a page: an object, or a folded prefix.
type Entry struct {
	Prefix  string
	Version *object.Version // nil for a prefix
}

// Name gives the entry's key or prefix: what to continue after.
func (e Entry) Name() string {
	if e.Version != nil {
		return e.Version.Key.String()
	}
	return e.Prefix
}

// List gives a page and whether more follows. It costs what the page costs.
func (c *Catalog) List(ctx context.Context, l Listing) (page []Entry, more bool, err error) {
	until := endOf(l.Prefix)
	columns := `key, number, revision, h.created, size, md5, parts, crc64, checksum_kind, checksum, tier, body_file,
		body_offset, written_by, content_type, plain`
	if l.Full {
		columns += `, headers, metadata, tags`
	}
	if l.Delimiter == "" {
		q := `select ` + columns +
			` from heads h where bucket = $1 and key >= $2 and key > $3 and key < $4 and not marker
				order by key limit $5`
		after := []byte(l.After)
		if l.After == "" {
			// Nothing sorts before the empty key, and no object has it.
			after = []byte{}
		}
		var rows []headRow
		if err := c.db.SelectContext(ctx, &rows, q, l.Bucket, []byte(l.Prefix), after, until, l.Max+1); err != nil {
			return nil, false, mapError(err)
		}
		if more = len(rows) > l.Max; more {
			rows = rows[:l.Max]
		}
		page = make([]Entry, len(rows))
		for i := range rows {
			if page[i], err = entryOf(&rows[i]); err != nil {
				return nil, false, err
			}
		}
		return page, more, nil
	}
	// One round trip: the page by seeking, then its objects' rows by key.
	q := `select f.key as name, f.folded, ` + columns[len("key, "):] + `
		from list_folded($1, $2, $3, $4, $5, $6, false) with ordinality f(key, folded, i)
		left join lateral (select * from heads x where x.bucket = $1 and x.key = f.key and not f.folded
			and not x.marker limit 1) h on true order by f.i`
	var rows []struct {
		Name   []byte `db:"name"`
		Folded bool   `db:"folded"`
		headRow
	}
	if err := c.db.SelectContext(ctx, &rows, q, l.Bucket, []byte(l.Prefix), []byte(l.Delimiter), []byte(l.After), until,
		l.Max+1); err != nil {
		return nil, false, mapError(err)
	}
	if more = len(rows) > l.Max; more {
		rows = rows[:l.Max]
	}
	for i := range rows {
		r := &rows[i]
		switch {
		case r.Folded:
			page = append(page, Entry{Prefix: string(r.Name)})
		case r.Number.Valid: // else it was removed between the two looks
			r.headRow.Key = r.Name
			e, err := entryOf(&r.headRow)
			if err != nil {
				return nil, false, err
			}
			page = append(page, e)
		}
	}
	return page, more, nil
}

func entryOf(r *headRow) (Entry, error) {
	key, err := object.ParseKey(string(r.Key))
	if err != nil {
		return Entry{}, err
	}
	v, err := r.version(key)
	return Entry{Version: v}, err
}

// Count gives the number and bytes of the current objects beneath a prefix.
// It reads them all: for rehearsals, not for pages.
func (c *Catalog) Count(ctx context.Context, bucket int64, prefix string) (objects, bytes int64, err error) {
	until := endOf(prefix)
	err = c.db.QueryRowxContext(ctx, `select count(*), coalesce(sum(size), 0)::bigint from heads
		where bucket = $1 and key >= $2 and key < $3
			and not marker`, bucket, []byte(prefix), until).Scan(&objects, &bytes)
	return objects, bytes, mapError(err)
}
