package catalog

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/pgxpool"
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
	Body    any            // of Version, which is not on a disk yet; see Catalog.BodiesFirst

	IfAbsent   bool         // only if nothing is there
	IfCurrent  bool         // ObjectAnnotated: only if no other version is the current one
	IfETag     *object.ETag // only if this content is there
	IfState    *State       // a write or removal: only if the current version or marker is this one, with this metadata
	IfRevision int          // ObjectAnnotated: only if this is the revision; 0: whatever it is

	Author
}

// State is the current version or delete marker of a key, with the revision of its metadata; the zero State: none.
type State struct {
	Number   int64
	Revision int
}

// frees reports whether a change makes room rather than take it.
func (ch *Change) frees() bool {
	switch ch.Kind {
	case ObjectRemoved, ObjectDeleted, VersionRemoved:
		return true
	}
	return false
}

// Result of a committed Change.
type Result struct {
	Number     int64 // of the version written, marked, removed or changed; 0 when nothing was there to remove
	Versioning object.Versioning
	Revision   int  // of the metadata, as it is now
	Marker     bool // the version is a delete marker
	Freed      bool // a body was let go of

	status commitStatus
	failed error // before it came to the database
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
// version-missing, version-marker, revision and those of an unavailable database, after which the
// change may or may not have
// been committed.
func (c *Catalog) Commit(ctx context.Context, ch Change) (Result, error) {
	if c.Scarce() && !ch.frees() {
		return Result{}, c.NoRoom()
	}
	if _, leased := ctx.Value(leaseKey{}).(Lease); leased {
		if ch.Body != nil {
			if err := c.BodiesFirst([]Change{ch})[0]; err != nil {
				return Result{}, err
			}
		}
		return c.commitAlone(ctx, ch)
	}
	if err := ctx.Err(); err != nil {
		return Result{}, mapError(err)
	}
	if ch.Body != nil { // what holds its bytes is ours until it is settled, whoever leaves
		ctx = context.WithoutCancel(ctx)
	}
	r, err := c.commits.do(ctx, ch)
	if fault.HasCode(err, "database-full") && ch.frees() && c.MakeRoom != nil && c.MakeRoom() {
		r, err = c.commits.do(ctx, ch)
	}
	if err != nil {
		c.noteFull(err)
		return Result{}, err
	}
	return r, r.err()
}

// commitGathered brings the bodies of a batch to the disk, those that are not, and then commits
// their changes: the next batch gathers meanwhile.
func (c *Catalog) commitGathered(ctx context.Context, batch []Change) ([]Result, error) {
	if !slices.ContainsFunc(batch, func(ch Change) bool { return ch.Body != nil }) {
		return c.commitBatch(ctx, batch)
	}
	results := make([]Result, len(batch))
	var there []Change
	var places []int
	for i, err := range c.BodiesFirst(batch) {
		if err != nil {
			results[i].failed = err
			continue
		}
		there, places = append(there, batch[i]), append(places, i)
	}
	if len(there) == 0 {
		return results, nil
	}
	rs, err := c.commitBatch(ctx, there)
	if err != nil && len(there) < len(batch) { // told apart from those that failed before
		rs, errs := c.settle(there, err)
		for n, i := range places {
			results[i] = rs[n]
			results[i].failed = errs[n]
		}
		return results, nil
	}
	for n, i := range places {
		if err == nil {
			results[i] = rs[n]
		}
	}
	return results, err
}

// commitAlone applies a change in a transaction of its own, which a lease guards.
func (c *Catalog) commitAlone(ctx context.Context, ch Change) (r Result, err error) {
	err = retry(ctx, func(int) error {
		return c.inTx(ctx, func(tx *sqlx.Tx) error {
			rs, err := commitOn(ctx, inside(tx), []Change{ch}, true)
			if err == nil {
				r, err = rs[0], rs[0].err()
			}
			return err
		})
	})
	return r, err
}

// CommitMany applies changes of distinct keys, in batches, and gives the
// results and errors in their order.
func (c *Catalog) CommitMany(ctx context.Context, changes []Change) ([]Result, []error) {
	results, errs := make([]Result, len(changes)), make([]error, len(changes))
	for from := 0; from < len(changes); from += 250 {
		to := min(from+250, len(changes))
		rs, err := c.commitBatch(ctx, changes[from:to])
		if l := new(lostError); errors.As(err, &l) {
			rs, late := c.settle(changes[from:to], err)
			for i := from; i < to; i++ {
				if results[i], errs[i] = rs[i-from], late[i-from]; errs[i] == nil {
					errs[i] = results[i].err()
				}
			}
			continue
		}
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
	if r.failed != nil {
		return r.failed
	}
	switch r.status {
	case statusDone:
		return nil
	case statusBucketGone:
		return fault.New(fault.NotFound, "bucket-missing", "the bucket does not exist, or was removed meanwhile").In("bucket")
	case statusExists:
		return fault.New(fault.Precondition, "exists",
			"the key holds an object already, and the request asked that it should not").In("key")
	case statusMismatch:
		return fault.New(fault.Precondition, "mismatch", "the object's ETag is not the one the request asked for").In("key").
			Do("read the object again and repeat the change on what is there now")
	case statusAbsent:
		return fault.New(fault.NotFound, "absent", "nothing is there, and the request asked for what is").In("key")
	case statusOtherVersion:
		return fault.New(fault.Precondition, "version-moved", "the key changed meanwhile").In("key").
			Do("look at what is there now")
	case statusNoVersion:
		return VersionMissing()
	case statusRetained:
		return Retained(r.Number)
	case statusIsMarker:
		return fault.New(fault.Conflict, "version-marker",
			"this version is a delete marker: it has no content and no metadata").In("version").
			Do("name another version; the key's history lists them")
	case statusOtherRevision:
		return fault.Revision("the metadata", r.Revision, -1)
	}
	return fault.New(fault.Full, "quota", "the bucket's quota has no room for this object").In("quota").
		Do("remove objects or previous versions, or raise the bucket's quota")
}

// Retained is the error for a version that must be kept, whoever asks.
func Retained(number int64) error {
	return fault.New(fault.Conflict, "version-retained", "version %s must be kept, and stays as it is",
		object.VersionID(number)).In("version").Do("write under another key, or wait until it need not be kept")
}

// VersionMissing is the error for a version that a key does not have.
func VersionMissing() error {
	return fault.New(fault.NotFound, "version-missing", "the key has no such version").In("version").
		Do("the key's history lists its versions; a version of another key does not count")
}

const commitCall = `select place, status, mode, coalesce(number, 0), coalesce(revision, 0), marker, freed
	from commit_changes($1, $2, $3, $4)`

// commitBatch runs changes of distinct keys in one transaction; what collides with
// others is tried again one by one.
func (c *Catalog) commitBatch(ctx context.Context, batch []Change) (rs []Result, err error) {
	ctx, cancel := context.WithTimeout(ctx, answerFor)
	defer cancel()
	err = retry(ctx, func(tried int) error {
		var conn *pgxpool.Conn
		err := shared(ctx, func() (err error) { conn, err = c.hot.Acquire(ctx); return err })
		if err != nil {
			return err
		}
		defer conn.Release()
		rs, err = commitOn(ctx, directly(conn), batch, tried > 0)
		return lost(conn.Conn(), err)
	})
	if err == nil {
		c.load.add(len(batch), time.Now())
		c.wake()
	}
	c.doubtOthers(err)
	return rs, err
}

// doubtOthers throws the connections of batches away when one of them is found to say nothing any more: what
// happened to it, as when a firewall forgot it, happened to those that were idle beside it.
func (c *Catalog) doubtOthers(err error) {
	var l *lostError
	if errors.As(err, &l) || err != nil && connectionTrouble(err) {
		c.hot.Reset()
	}
}

// among says for commit_changes what is among a batch.
func (k EntryKind) among() int {
	switch k {
	case 0, ObjectWritten, ObjectRestored, ObjectRenamed, ObjectCopied:
		return 1
	case ObjectAnnotated:
		return 2
	case ObjectRemoved, ObjectRenamedAway:
		return 4
	}
	return 0
}

// answers are rows that come back; of the driver itself, or by way of sqlx.
type answers interface {
	Next() bool
	Scan(...any) error
	Err() error
}

// asker sends a statement.
type asker func(ctx context.Context, query string, args ...any) (rows answers, done func(), err error)

// directly asks by the driver itself.
func directly(conn *pgxpool.Conn) asker {
	return func(ctx context.Context, query string, args ...any) (answers, func(), error) {
		rows, err := conn.Query(ctx, query, args...)
		if err != nil {
			return nil, nil, err
		}
		return rows, rows.Close, nil
	}
}

// inside asks in a transaction.
func inside(tx *sqlx.Tx) asker {
	return func(ctx context.Context, query string, args ...any) (answers, func(), error) {
		rows, err := tx.QueryContext(ctx, query, args...)
		if err != nil {
			return nil, nil, err
		}
		return rows, func() { _ = rows.Close() }, nil
	}
}

// commitOn commits a batch; careful takes its keys one by one.
func commitOn(ctx context.Context, ask asker, batch []Change, careful bool) ([]Result, error) {
	n := len(batch)
	order := make([]int, n)
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int {
		return cmp.Or(cmp.Compare(batch[a].Bucket, batch[b].Bucket), strings.Compare(batch[a].Key, batch[b].Key))
	})
	changes := make(pgtype.FlatArray[*changeRow], n)
	var buckets []int64
	kinds := 0
	for i, o := range order {
		if ch := &batch[o]; len(buckets) == 0 || buckets[len(buckets)-1] != ch.Bucket {
			buckets = append(buckets, ch.Bucket)
		}
		kinds |= batch[o].Kind.among()
		row, err := batch[o].row()
		if err != nil {
			return nil, err
		}
		changes[i] = row
	}
	rows, done, err := ask(ctx, commitCall, changes, buckets, kinds, careful)
	if err != nil {
		return nil, err
	}
	defer done()
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
func (c *Catalog) Copy(ctx context.Context, cp Copying) (r Result, v *object.Version, err error) {
	err = retry(ctx, func(int) error {
		r, v, err = c.copy(ctx, cp)
		return err
	})
	return r, v, err
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
		ch.Detail = map[string]any{"from": map[string]any{"bucket": cp.From.Bucket.String(),
			"key": hexKey(cp.From.Key.String()), "version": found.ID().String()}}
		batch := []Change{ch}
		if move {
			batch = append(batch, Change{Kind: ObjectRenamedAway, Bucket: from.Bucket, Key: cp.From.Key.String(),
				Author: ch.Author,
				Detail: map[string]any{"to": map[string]any{"key": hexKey(ch.Key)}}})
		}
		rs, err := commitOn(ctx, inside(tx), batch, true) // its rows are locked already
		if err != nil {
			return err
		}
		for _, r := range rs {
			if err := r.err(); err != nil {
				return err
			}
		}
		res = rs[0]
		_, err = tx.ExecContext(ctx, `insert into lineage (how, at, who, from_bucket, from_key, from_number, to_bucket,
			to_key, to_number)
			values ($1, $2, $3, $4, $5, $6, $7, $8,
				$9)`, int16(ch.Kind), ch.At, ch.Who, from.Bucket, []byte(cp.From.Key.String()), found.Number, ch.Bucket, []byte(ch.Key), res.Number)
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
	q := `select b.id as bucket, ` + versionColumns +
		` from buckets b join heads h on h.bucket = b.id where b.name = $1 and b.removed is null and h.key = $2`
	err := tx.GetContext(ctx, &row,
		q+named(` and ($3 = @CurrentVersion or h.number = $3 or $3 = @PlainVersion and h.plain)`)+lock, a.Bucket.String(),
		[]byte(a.Key.String()), int64(id))
	if errors.Is(err, sql.ErrNoRows) && id != object.Current {
		err = tx.GetContext(ctx, &row, strings.Replace(q, "heads", "history",
			1)+named(` and (h.number = $3 or $3 = @PlainVersion and h.plain)`)+lock, a.Bucket.String(), []byte(a.Key.String()),
			int64(id))
	}
	switch {
	case errors.Is(err, sql.ErrNoRows) && id != object.Current:
		return Stored{}, VersionMissing()
	case errors.Is(err, sql.ErrNoRows), err == nil && row.Marker.Bool && id == object.Current:
		return Stored{}, missing(a)
	case err != nil:
		return Stored{}, err
	case row.Marker.Bool:
		return Stored{}, Result{status: statusIsMarker}.err()
	}
	v, err := row.version(a.Key)
	return Stored{Bucket: row.Bucket.Int64, Version: v}, err
}

// hexKey writes a key for a JSON document, which cannot hold every byte.
func hexKey(key string) string { return hex.EncodeToString([]byte(key)) }

func missing(a Address) error {
	return fault.New(fault.NotFound, "key-missing", "the bucket has no object with this key").In("key")
}
