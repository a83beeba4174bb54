package catalog

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// Change is one change of one key, to be committed with its journal entry and
// its usage, or not at all.
type Change struct {
	Bucket  int64
	Key     string
	Remove  bool            // otherwise Version becomes current
	Version *object.Version // what to write; not for Remove

	IfAbsent bool         // only if nothing is there
	IfETag   *object.ETag // only if this content is there

	At     time.Time
	Who    string // the access key
	Source string // the client's address
}

// Result of a committed Change.
type Result struct {
	Number int64 // of the version written or removed; 0 when nothing was there to remove
	Freed  bool  // a body was let go of
}

// Commit applies a change. It returns after the database has committed. The
// errors have the codes bucket-missing, exists, mismatch, absent, quota and
// those of an unavailable database, after which the change may or may not have
// been committed.
func (c *Catalog) Commit(ctx context.Context, ch Change) (Result, error) {
	r, err := c.commits.do(ctx, ch)
	if err != nil {
		return Result{}, err
	}
	return r, r.err()
}

// CommitMany applies changes of distinct keys, in batches, and gives the
// results and errors in their order.
func (c *Catalog) CommitMany(ctx context.Context, changes []Change) ([]Result, []error) {
	results, errs := make([]Result, len(changes)), make([]error, len(changes))
	for from := 0; from < len(changes); from += 250 {
		to := min(from+250, len(changes))
		rs, err := c.commitBatch(ctx, changes[from:to])
		for i := from; i < to; i++ {
			if err != nil {
				errs[i] = mapError(err)
				continue
			}
			results[i], errs[i] = rs[i-from], rs[i-from].err()
		}
	}
	return results, errs
}

func (r Result) err() error {
	if r.Number >= 0 {
		return nil
	}
	switch -r.Number {
	case 1:
		return fault.New(fault.NotFound, "bucket-missing", "the bucket does not exist, or was removed meanwhile").In("bucket")
	case 2:
		return fault.New(fault.Precondition, "exists", "the key holds an object already, and the request asked that it should not").In("key")
	case 3:
		return fault.New(fault.Precondition, "mismatch", "the object's ETag is not the one the request asked for").In("key").Do("read the object again and repeat the change on what is there now")
	case 4:
		return fault.New(fault.NotFound, "absent", "nothing is there, and the request asked for a certain ETag").In("key")
	}
	return fault.New(fault.Full, "quota", "the bucket's quota has no room for this object").In("quota").Do("remove objects, or raise the bucket's quota")
}

const commitCall = `select place, status, coalesce(number, 0) as number, freed from commit_changes(
 $1,$2,$3,$4,$5,$6,$7,$8,$9,$10,$11,$12,$13,$14,$15,$16,$17,$18,$19,$20,$21)`

// commitBatch runs changes of distinct keys in one transaction. A status other
// than done comes back as a negative Number.
func (c *Catalog) commitBatch(ctx context.Context, batch []Change) ([]Result, error) {
	for try := 0; ; try++ {
		r, err := commitOn(ctx, c.db, batch)
		if err == nil || try == 5 || !retryable(err) {
			return r, err
		}
		time.Sleep(time.Duration(try+1) * 5 * time.Millisecond)
	}
}

type queryer interface {
	QueryxContext(context.Context, string, ...any) (*sqlx.Rows, error)
}

func commitOn(ctx context.Context, q queryer, batch []Change) ([]Result, error) {
	n := len(batch)
	order := make([]int, n)
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int {
		if d := batch[a].Bucket - batch[b].Bucket; d != 0 {
			return int(min(1, max(-1, d)))
		}
		return strings.Compare(batch[a].Key, batch[b].Key)
	})
	kind, bucket, key, size := make([]int16, n), make([]int64, n), make([][]byte, n), make([]int64, n)
	md5, parts, crc := make([][]byte, n), make([]int32, n), make([]int64, n)
	sumKind, sum, tier, file, place := make([]int16, n), make([][]byte, n), make([]int16, n), make([]int64, n), make([]int64, n)
	ctype, headers, metadata := make([]string, n), make([]*string, n), make([]*string, n)
	ifAbsent, ifMatch, ifParts := make([]bool, n), make([][]byte, n), make([]int32, n)
	at, who, source := make([]time.Time, n), make([]string, n), make([]string, n)
	for i, o := range order {
		ch := &batch[o]
		kind[i], bucket[i], key[i] = 1, ch.Bucket, []byte(ch.Key)
		ifAbsent[i], at[i], who[i], source[i] = ch.IfAbsent, ch.At, ch.Who, ch.Source
		if ch.IfETag != nil {
			ifMatch[i], ifParts[i] = ch.IfETag.MD5[:], int32(ch.IfETag.Parts)
		}
		if ch.Remove {
			kind[i] = 2
			continue
		}
		v := ch.Version
		size[i], md5[i], parts[i], crc[i] = v.Size, v.ETag.MD5[:], int32(v.ETag.Parts), int64(v.CRC64)
		sumKind[i], sum[i] = int16(v.Checksum.Kind), v.Checksum.Bytes
		tier[i], file[i], place[i] = v.Body.Tier, v.Body.File, v.Body.Offset
		ctype[i] = v.Headers.ContentType
		var err error
		if headers[i], err = jsonOrNull(v.Headers); err != nil {
			return nil, err
		}
		if len(v.Metadata) > 0 {
			if metadata[i], err = jsonOrNull(v.Metadata); err != nil {
				return nil, err
			}
		}
	}
	rows, err := q.QueryxContext(ctx, commitCall, kind, bucket, key, size, md5, parts, crc, sumKind, sum, tier, file, place,
		ctype, headers, metadata, ifAbsent, ifMatch, ifParts, at, who, source)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := make([]Result, n)
	answered := 0
	for rows.Next() {
		var p, status int
		var number int64
		var freed bool
		if err := rows.Scan(&p, &status, &number, &freed); err != nil {
			return nil, err
		}
		if status != 0 {
			number = int64(-status)
		}
		out[order[p-1]] = Result{Number: number, Freed: freed}
		answered++
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	if answered != n {
		return nil, fmt.Errorf("commit_changes answered %d of %d changes", answered, n)
	}
	return out, nil
}

// jsonOrNull renders v as JSON, nil when it is an empty document.
func jsonOrNull(v any) (*string, error) {
	b, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	if string(b) == "{}" {
		return nil, nil
	}
	s := string(b)
	return &s, nil
}

// Copy makes the current version at from current at ch.Key too, sharing its
// body. edit gets the version as found under lock and gives what to write; it
// must keep the body. With move, the source is removed in the same
// transaction. The errors are those of Commit, and key-missing for the source.
func (c *Catalog) Copy(ctx context.Context, from Address, ch Change, move bool, edit func(*object.Version) (*object.Version, error)) (Result, *object.Version, error) {
	var res Result
	var wrote *object.Version
	err := c.inTx(ctx, func(tx *sqlx.Tx) error {
		lock := "for key share"
		if move {
			lock = "for update"
		}
		var row headRow
		err := tx.GetContext(ctx, &row, `select b.id as bucket, `+headColumns+` from buckets b join heads h on h.bucket = b.id
			where b.name = $1 and b.removed is null and h.key = $2 and not marker `+lock+` of h`, from.Bucket.String(), []byte(from.Key.String()))
		if err != nil {
			if fault.HasCode(mapError(err), "no-row") {
				return missing(from)
			}
			return err
		}
		found, err := row.version(from.Key)
		if err != nil {
			return err
		}
		if wrote, err = edit(found); err != nil {
			return err
		}
		ch.Version = wrote
		batch := []Change{ch}
		if move {
			batch = append(batch, Change{Bucket: row.Bucket.Int64, Key: from.Key.String(), Remove: true, At: ch.At, Who: ch.Who, Source: ch.Source})
		}
		rs, err := commitOn(ctx, tx, batch)
		if err != nil {
			return err
		}
		res = rs[0]
		return res.err()
	})
	return res, wrote, err
}

func missing(a Address) error {
	return fault.New(fault.NotFound, "key-missing", "the bucket has no object with this key").In("key")
}
