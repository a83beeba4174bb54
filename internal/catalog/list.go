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
	Brief     bool   // of objects key, number, time, size, entity tag, kind of checksum and tier alone
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
	columns := `key, number, h.created, size, md5, parts, checksum_kind, tier`
	if !l.Brief {
		columns += `, revision, crc64, checksum, body_file, body_offset, written_by, content_type, plain`
	}
	if l.Full {
		columns += `, headers, metadata, tags`
	}
	page = make([]Entry, 0, min(l.Max+1, 1001))
	add := func(r *row) error {
		if r.Folded {
			page = append(page, Entry{Prefix: string(r.Name)})
			return nil
		}
		if !r.Number.Valid { // it was removed between the two looks
			return nil
		}
		e, err := entryOf(&r.headRow)
		page = append(page, e)
		return err
	}
	if l.Delimiter == "" {
		after := []byte(l.After)
		if l.After == "" {
			// Nothing sorts before the empty key, and no object has it.
			after = []byte{}
		}
		err = c.rows(ctx, add, `select `+columns+` from heads h where bucket = $1 and key >= $2 and key > $3 and key < $4
			and not marker order by key limit $5`, l.Bucket, []byte(l.Prefix), after, until, l.Max+1)
		if more = len(page) > l.Max; more {
			page = page[:l.Max]
		}
		return page, more, err
	}
	// One round trip: the page by seeking, then its objects' rows by key.
	seen := 0
	err = c.rows(ctx, func(r *row) error {
		if seen++; seen > l.Max {
			more = true
			return nil
		}
		return add(r)
	}, `select f.key as name, f.folded, h.`+columns+`
		from list_folded($1, $2, $3, $4, $5, $6, false) with ordinality f(key, folded, i)
		left join lateral (select * from heads x where x.bucket = $1 and x.key = f.key and not f.folded
			and not x.marker limit 1) h on true order by f.i`,
		l.Bucket, []byte(l.Prefix), []byte(l.Delimiter), []byte(l.After), until, l.Max+1)
	return page, more, err
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
