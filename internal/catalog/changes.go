package catalog

import (
	"context"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// Change is one change of one key, to be committed with its journal entry and
// its usage, or not at all. Its kind says what it does:
//
//   - ObjectWritten (also the zero value), ObjectRestored, ObjectRenamed,
//     ObjectCopied: Version becomes current.
//   - ObjectRemoved, ObjectRenamedAway: the current version is removed, and
//     where versioning is on or paused a delete marker is left.
//   - VersionRemoved: the version ID is removed for good.
//   - ObjectAnnotated: the version ID, or the current one, gets the type,
//     headers, metadata and tags of Version.
type Change struct {
	Kind    EntryKind
	Bucket  int64
	Key     string
	Version *object.Version
	ID      object.VersionID
	Detail  map[string]any // for the journal

	IfAbsent   bool         // only if nothing is there
	IfETag     *object.ETag // only if this content is there
	IfRevision int          // ObjectAnnotated: only if this is the revision; 0: whatever it is

	At     time.Time
	Who    string // the access key
	Source string // the client's address
}

// Result of a committed Change.
type Result struct {
	Number     int64 // of the version written, marked, removed or changed; 0 when nothing was there to remove
	Versioning object.Versioning
	Revision   int  // of the metadata, as it is now
	Marker     bool // the version is a delete marker
	Freed      bool // a body was let go of

	status int
}

// ID names the version that was written.
func (r Result) ID() object.VersionID {
	if r.Versioning != object.On {
		return object.Plain
	}
	return object.VersionID(r.Number)
}

// Commit applies a change. It returns after the database has committed. The
// errors have the codes bucket-missing, exists, mismatch, absent, quota,
// version-missing, version-marker, revision and those of an unavailable database, after which the change may or may not have
// been committed.
func (c *Catalog) Commit(ctx context.Context, ch Change) (Result, error) {
	if _, leased := ctx.Value(leaseKey{}).(Lease); leased {
		return c.commitAlone(ctx, ch)
	}
	r, err := c.commits.do(ctx, ch)
	if err != nil {
		return Result{}, err
	}
	return r, r.err()
}

// commitAlone applies a change in a transaction of its own, which a lease guards.
func (c *Catalog) commitAlone(ctx context.Context, ch Change) (r Result, err error) {
	for try := 0; ; try++ {
		err = c.inTx(ctx, func(tx *sqlx.Tx) error {
			rs, err := commitOn(ctx, tx, []Change{ch}, true)
			if err == nil {
				r, err = rs[0], rs[0].err()
			}
			return err
		})
		if err == nil || try == 5 || !fault.HasCode(err, "database-collision") {
			return r, err
		}
		time.Sleep(time.Duration(try+1) * 5 * time.Millisecond)
	}
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
	switch r.status {
	case 0:
		return nil
	case 1:
		return fault.New(fault.NotFound, "bucket-missing", "the bucket does not exist, or was removed meanwhile").In("bucket")
	case 2:
		return fault.New(fault.Precondition, "exists", "the key holds an object already, and the request asked that it should not").In("key")
	case 3:
		return fault.New(fault.Precondition, "mismatch", "the object's ETag is not the one the request asked for").In("key").Do("read the object again and repeat the change on what is there now")
	case 4:
		return fault.New(fault.NotFound, "absent", "nothing is there, and the request asked for what is").In("key")
	case 6:
		return VersionMissing()
	case 7:
		return fault.New(fault.Conflict, "version-marker", "this version is a delete marker: it has no content and no metadata").In("version").Do("name another version; the key's history lists them")
	case 8:
		return fault.New(fault.Precondition, "revision", "the metadata is at revision %d now", r.Revision).In("revision").Do("read it again and repeat the change on what is there now")
	}
	return fault.New(fault.Full, "quota", "the bucket's quota has no room for this object").In("quota").Do("remove objects or previous versions, or raise the bucket's quota")
}

// VersionMissing is the error for a version that a key does not have.
func VersionMissing() error {
	return fault.New(fault.NotFound, "version-missing", "the key has no such version").In("version").Do("the key's history lists its versions; a version of another key does not count")
}

const commitCall = `select place, status, mode, coalesce(number, 0) as number, coalesce(revision, 0), marker, freed from commit_changes(
 $1,$2,$3,$4,$5,$6,$7,$8,$9,$10,$11,$12,$13,$14,$15,$16,$17,$18,$19,$20,$21,$22,$23,$24,$25,$26)`

// commitBatch runs changes of distinct keys in one transaction.
func (c *Catalog) commitBatch(ctx context.Context, batch []Change) ([]Result, error) {
	for try := 0; ; try++ {
		r, err := commitOn(ctx, c.db, batch, try > 0)
		if err == nil || try == 5 || !retryable(err) {
			return r, err
		}
		time.Sleep(time.Duration(try+1) * 5 * time.Millisecond)
	}
}

type queryer interface {
	QueryxContext(context.Context, string, ...any) (*sqlx.Rows, error)
}

// commitOn commits a batch; careful takes its keys one by one.
func commitOn(ctx context.Context, q queryer, batch []Change, careful bool) ([]Result, error) {
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
	ctype := make([]string, n)
	at, who, source := make([]time.Time, n), make([]string, n), make([]string, n)
	// Arrays that most batches do not need are made by the first that does; null otherwise.
	var headers, metadata, tags, detail []*string
	var ifAbsent []bool
	var ifMatch [][]byte
	var ifParts, revision []int32
	var number []*int64
	for i, o := range order {
		ch := &batch[o]
		kind[i], bucket[i], key[i] = int16(max(ch.Kind, ObjectWritten)), ch.Bucket, []byte(ch.Key)
		at[i], who[i], source[i] = ch.At, ch.Who, ch.Source
		if ch.IfAbsent {
			need(&ifAbsent, n)[i] = true
		}
		if ch.IfETag != nil {
			need(&ifMatch, n)[i], need(&ifParts, n)[i] = ch.IfETag.MD5[:], int32(ch.IfETag.Parts)
		}
		if ch.ID != object.Current {
			need(&number, n)[i] = (*int64)(&ch.ID)
		}
		if ch.IfRevision > 0 {
			need(&revision, n)[i] = int32(ch.IfRevision)
		}
		if err := setJSON(&detail, i, n, ch.Detail); err != nil {
			return nil, err
		}
		v := ch.Version
		if v == nil {
			md5[i] = noMD5[:]
			continue
		}
		size[i], md5[i], parts[i], crc[i] = v.Size, v.ETag.MD5[:], int32(v.ETag.Parts), int64(v.CRC64)
		sumKind[i], sum[i] = int16(v.Checksum.Kind), v.Checksum.Bytes
		if v.PartSums {
			sumKind[i] += perPart
		}
		tier[i], file[i], place[i] = v.Body.Tier, v.Body.File, v.Body.Offset
		ctype[i] = v.Headers.ContentType
		for into, from := range map[*[]*string]any{&headers: v.Headers, &metadata: v.Metadata, &tags: v.Tags} {
			if err := setJSON(into, i, n, from); err != nil {
				return nil, err
			}
		}
	}
	rows, err := q.QueryxContext(ctx, commitCall, kind, bucket, key, size, md5, parts, crc, sumKind, sum, tier, file, place,
		ctype, headers, metadata, tags, ifAbsent, ifMatch, ifParts, number, revisionOrNull(revision), detail, at, who, source, careful)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := make([]Result, n)
	answered := 0
	for rows.Next() {
		var p int
		var r Result
		if err := rows.Scan(&p, &r.status, &r.Versioning, &r.Number, &r.Revision, &r.Marker, &r.Freed); err != nil {
			return nil, err
		}
		out[order[p-1]] = r
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

var noMD5 [16]byte

// need makes an array of n elements, unless it is there.
func need[T any](s *[]T, n int) []T {
	if *s == nil {
		*s = make([]T, n)
	}
	return *s
}

// revisionOrNull turns zeros, for which any revision will do, into nulls.
func revisionOrNull(s []int32) []*int32 {
	if s == nil {
		return nil
	}
	out := make([]*int32, len(s))
	for i := range s {
		if s[i] > 0 {
			out[i] = &s[i]
		}
	}
	return out
}

// setJSON puts v as JSON into the i-th of n elements, unless it is empty.
func setJSON(into *[]*string, i, n int, v any) error {
	switch v := v.(type) {
	case object.Metadata:
		if len(v) == 0 {
			return nil
		}
	case object.Tags:
		if len(v) == 0 {
			return nil
		}
	case map[string]any:
		if len(v) == 0 {
			return nil
		}
	case object.Headers:
		if v == (object.Headers{ContentType: v.ContentType}) {
			return nil
		}
	}
	s, err := jsonOrNull(v)
	if err == nil && s != nil {
		need(into, n)[i] = s
	}
	return err
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

// Copying makes a version of another's body: a copy, a rename or a restore.
type Copying struct {
	From   Address
	FromID object.VersionID // Current: the current one
	Change                  // of the target; its kind is ObjectCopied, ObjectRenamed or ObjectRestored

	// Edit gets the version as found under lock and gives what to write; it must
	// keep the body.
	Edit func(*object.Version) (*object.Version, error)
}

// Copy carries out a Copying in one transaction, in which a rename removes the
// source too. The errors are those of Commit, and key-missing and
// version-missing for the source.
func (c *Catalog) Copy(ctx context.Context, cp Copying) (Result, *object.Version, error) {
	for try := 0; ; try++ {
		r, v, err := c.copy(ctx, cp)
		if err == nil || try == 5 || !fault.HasCode(err, "database-collision") {
			return r, v, err
		}
		time.Sleep(time.Duration(try+1) * 5 * time.Millisecond)
	}
}

func (c *Catalog) copy(ctx context.Context, cp Copying) (res Result, wrote *object.Version, err error) {
	err = c.inTx(ctx, func(tx *sqlx.Tx) error {
		ch := cp.Change
		move := ch.Kind == ObjectRenamed
		from, err := lockVersion(ctx, tx, cp.From, cp.FromID, move)
		if err != nil {
			return err
		}
		found := from.Version
		if wrote, err = cp.Edit(found); err != nil {
			return err
		}
		ch.Version = wrote
		ch.Detail = map[string]any{"from": map[string]any{"bucket": cp.From.Bucket.String(), "key": hexKey(cp.From.Key.String()), "version": found.ID().String()}}
		batch := []Change{ch}
		if move {
			batch = append(batch, Change{Kind: ObjectRenamedAway, Bucket: from.Bucket, Key: cp.From.Key.String(), At: ch.At, Who: ch.Who, Source: ch.Source,
				Detail: map[string]any{"to": map[string]any{"key": hexKey(ch.Key)}}})
		}
		rs, err := commitOn(ctx, tx, batch, true) // its rows are locked already
		if err != nil {
			return err
		}
		for _, r := range rs {
			if err := r.err(); err != nil {
				return err
			}
		}
		res = rs[0]
		_, err = tx.ExecContext(ctx, `insert into lineage (how, at, who, from_bucket, from_key, from_number, to_bucket, to_key, to_number)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9)`, int16(ch.Kind), ch.At, ch.Who, from.Bucket, []byte(cp.From.Key.String()), found.Number, ch.Bucket, []byte(ch.Key), res.Number)
		return err
	})
	return res, wrote, err
}

// lockVersion finds a version and holds it until the transaction ends.
func lockVersion(ctx context.Context, tx *sqlx.Tx, a Address, id object.VersionID, alone bool) (Stored, error) {
	lock := " for key share of h"
	if alone {
		lock = " for update of h"
	}
	var row headRow
	q := `select b.id as bucket, ` + headColumns + ` from buckets b join heads h on h.bucket = b.id where b.name = $1 and b.removed is null and h.key = $2`
	err := tx.GetContext(ctx, &row, q+` and ($3 = 0 or h.number = $3 or $3 = -1 and h.plain)`+lock, a.Bucket.String(), []byte(a.Key.String()), int64(id))
	if errors.Is(err, sql.ErrNoRows) && id != object.Current {
		err = tx.GetContext(ctx, &row, strings.Replace(q, "heads", "history", 1)+` and (h.number = $3 or $3 = -1 and h.plain)`+lock, a.Bucket.String(), []byte(a.Key.String()), int64(id))
	}
	switch {
	case errors.Is(err, sql.ErrNoRows) && id != object.Current:
		return Stored{}, VersionMissing()
	case errors.Is(err, sql.ErrNoRows), err == nil && row.Marker.Bool && id == object.Current:
		return Stored{}, missing(a)
	case err != nil:
		return Stored{}, err
	case row.Marker.Bool:
		return Stored{}, Result{status: 7}.err()
	}
	v, err := row.version(a.Key)
	return Stored{Bucket: row.Bucket.Int64, Version: v}, err
}

// hexKey writes a key for a JSON document, which cannot hold every byte.
func hexKey(key string) string { return hex.EncodeToString([]byte(key)) }

func missing(a Address) error {
	return fault.New(fault.NotFound, "key-missing", "the bucket has no object with this key").In("key")
}
