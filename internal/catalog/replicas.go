package catalog

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/replication"
)

// ReplicasIn counts the current objects of a bucket that came as copies, and their bytes.
func (c *Catalog) ReplicasIn(ctx context.Context, bucket int64) (objects, bytes int64, err error) {
	err = c.db.QueryRowxContext(ctx, `select count(*), coalesce(sum(size), 0)::bigint from heads where bucket = $1
		and not marker
		and headers ? 'origin'`, bucket).Scan(&objects, &bytes)
	return objects, bytes, mapError(err)
}

// FollowReplication reads the journal on for the rules, at most limit entries, and has
// what changed wait at their targets. more says that there was something.
func (c *Catalog) FollowReplication(ctx context.Context, limit int) (more bool, err error) {
	// A look without a lock first: a transaction that finds nothing would cost a sync.
	err = c.db.GetContext(ctx, &more, `select exists (select 1 from followers f where f.name = $1 and exists
		(select 1 from journal j where (j.xid, j.seq) > (f.xid, f.seq) and j.`+belowHorizon+`))`, replicationFollower)
	if err != nil || !more {
		return false, mapError(err)
	}
	n, err := c.Follow(ctx, replicationFollower, limit, func(ctx context.Context, tx *sqlx.Tx, s Stretch) error {
		_, err := tx.ExecContext(ctx, `select replicate_due($1::xid8, $2, $3::xid8, $4)`, s.From.XID, s.From.Seq, s.To.XID,
			s.To.Seq)
		return err
	})
	return n > 0, err
}

// ReplicaTask is a key that waits at a target, claimed.
type ReplicaTask struct {
	Key      string
	Have     replication.Have
	Seq      int64 // of the change that it waits for
	Since    time.Time
	Attempts int
	Turn     int64  // of the claim
	Upload   string // an upload there that goes on

	Changed   time.Time // when the key last changed at the source; zero: before the rule
	Again     bool      // somebody tried before, and it is not known how that ended
	Overwrite bool      // somebody decided that it replaces whatever is there
	Repair    bool      // what is there is damaged or another, whatever it says
}

// DueTargets gives those of some targets at which something is due.
func (c *Catalog) DueTargets(ctx context.Context, targets []int64) (due []int64, err error) {
	err = c.db.SelectContext(ctx, &due, `select t from unnest($1::bigint[]) t where exists (select 1 from replicas
		where target = t and waiting and due <= clock_timestamp() and (until is null or until < clock_timestamp()))`, targets)
	return due, mapError(err)
}

// ClaimReplicas claims keys that are due at a target, the one that waits longest first.
func (c *Catalog) ClaimReplicas(ctx context.Context, target int64, limit int, lease time.Duration) ([]ReplicaTask,
	error) {
	var rows []struct {
		Key      []byte    `db:"key"`
		Number   int64     `db:"number"`
		Revision int       `db:"revision"`
		Gone     bool      `db:"gone"`
		ETag     string    `db:"etag"`
		Version  string    `db:"version"`
		Seq      int64     `db:"seq"`
		Since    time.Time `db:"since"`
		Attempts int       `db:"attempts"`
		Turn     int64     `db:"turn"`
		Upload   string    `db:"upload"`

		Changed   sql.NullTime `db:"changed"`
		Again     bool         `db:"again"`
		Overwrite bool         `db:"overwrite"`
		Repair    bool         `db:"repair"`
		Accepted  int64        `db:"accepted"`
	}
	err := c.db.SelectContext(ctx, &rows, `with due as materialized (
			select ctid as place, until is not null or code <> '' as again from replicas where target = $1 and waiting
				and due <= clock_timestamp() and (until is null or until < clock_timestamp())
			order by due, key limit $2 for update skip locked)
		update replicas r set turn = turn + 1, until = clock_timestamp() + $3::bigint * interval '1 ms'
		from due where r.ctid = any(array(select place from due)) and r.ctid = due.place
		returning key, number, revision, gone, etag, version, seq, coalesce(since, clock_timestamp()) as since, attempts,
			turn, upload, changed, overwrite, repair, accepted, due.again`, target, limit, lease.Milliseconds())
	out := make([]ReplicaTask, len(rows))
	for i, r := range rows {
		out[i] = ReplicaTask{Key: string(r.Key), Seq: r.Seq, Since: r.Since, Attempts: r.Attempts, Turn: r.Turn,
			Upload: r.Upload, Have: replication.Have{Number: r.Number, Revision: r.Revision, Gone: r.Gone, ETag: r.ETag,
				Version: r.Version, Accepted: r.Accepted}, Changed: r.Changed.Time, Again: r.Again, Overwrite: r.Overwrite,
			Repair: r.Repair}
	}
	return out, mapError(err)
}

// ReplicaDone is what came to be of a claimed key.
type ReplicaDone struct {
	ReplicaTask
	Have replication.Have // now; Number 0: there is nothing to know of it
	Lag  time.Duration    // that it waited; below 0: it is not counted
	Size int64            // bytes that were sent
}

// ReplicasDone writes down what came to be of claimed keys, and how long they waited.
func (c *Catalog) ReplicasDone(ctx context.Context, target int64, done []ReplicaDone) error {
	n := len(done)
	slices.SortFunc(done, func(a, b ReplicaDone) int { return strings.Compare(a.Key, b.Key) }) // as rows are locked
	keys, turns, seqs, numbers := make([][]byte, n), make([]int64, n), make([]int64, n), make([]int64, n)
	revisions, gone, etags, versions := make([]int32, n), make([]bool, n), make([]string, n), make([]string, n)
	lags, bytes := make([]int32, replication.LagSlots), int64(0)
	for i, d := range done {
		keys[i], turns[i], seqs[i], numbers[i] = []byte(d.Key), d.Turn, d.Seq, d.Have.Number
		revisions[i], gone[i], etags[i], versions[i] = int32(d.Have.Revision), d.Have.Gone, d.Have.ETag, d.Have.Version
		if d.Lag >= 0 {
			lags[replication.LagSlot(d.Lag)]++
		}
		bytes += d.Size
	}
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `select replicas_done($1, $2, $3, $4, $5, $6, $7, $8, $9)`, target, keys, turns,
			seqs,
			numbers, revisions, gone, etags, versions); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `insert into replication_lags as l (target, at, counts, bytes)
			values ($1, date_trunc('minute', clock_timestamp()), $2, $3) on conflict (target, at) do update set
			bytes = l.bytes + excluded.bytes,
			counts = array(select a + b from unnest(l.counts, excluded.counts) x(a, b))`, target, lags, bytes)
		return err
	})
}

// DelayReplica puts a claimed key off that failed, or that waits for something, if the claim
// is still held.
func (c *Catalog) DelayReplica(ctx context.Context, target int64, t ReplicaTask, failed bool, pause time.Duration, code,
	says,
	upload string) error {
	_, err := c.db.ExecContext(ctx, `update replicas set attempts = attempts + case when $8 then 1
		else 0 end, until = null, code = $5, says = $6,
		upload = $7, due = clock_timestamp() + $4::bigint * interval '1 ms' where target = $1 and key = $2
		and turn = $3`, target,
		[]byte(t.Key), t.Turn, pause.Milliseconds(), code, plainText(says), upload, failed)
	return mapError(err)
}

// ReleaseReplicas gives claims back that were not worked on.
func (c *Catalog) ReleaseReplicas(ctx context.Context, target int64, tasks []ReplicaTask) error {
	keys, turns := claimed(tasks)
	_, err := c.db.ExecContext(ctx, `select replicas_held($1, $2, $3, null)`, target, keys, turns)
	return mapError(err)
}

// claimed gives keys with the turns of their claims, in the order of keys, which is that
// in which rows are locked.
func claimed(tasks []ReplicaTask) (keys [][]byte, turns []int64) {
	tasks = slices.SortedFunc(slices.Values(tasks), func(a, b ReplicaTask) int { return strings.Compare(a.Key, b.Key) })
	keys, turns = make([][]byte, len(tasks)), make([]int64, len(tasks))
	for i, t := range tasks {
		keys[i], turns[i] = []byte(t.Key), t.Turn
	}
	return keys, turns
}

// KeepReplicaUpload notes an upload that a claimed key's bytes go into: how many are left to be
// sent, and how many were sent since it was noted last.
func (c *Catalog) KeepReplicaUpload(ctx context.Context, target int64, t ReplicaTask, upload string, left, sent int64,
	lease time.Duration) error {
	held, err := c.changed(ctx, `with k as (
			update replicas set upload = $4, bytes = $6, until = clock_timestamp() + $5::bigint * interval '1 ms'
			where target = $1 and key = $2 and turn = $3 returning 1
		), counted as (
			insert into replication_lags as l (target, at, counts, bytes)
			select $1, date_trunc('minute', clock_timestamp()), array_fill(0, array[$8::integer]), $7::bigint from k where $7::bigint > 0
			on conflict (target, at) do update set bytes = l.bytes + excluded.bytes
		)
		select from k`, target, []byte(t.Key), t.Turn, upload, lease.Milliseconds(), left, sent, replication.LagSlots)
	if err == nil && !held {
		err = leaseLost("task")
	}
	return err
}

// TargetFails notes why a target fails, or with code "" that it does not.
func (c *Catalog) TargetFails(ctx context.Context, target int64, code, says string) error {
	_, err := c.db.ExecContext(ctx, `update replication_targets set since = case when $2 = '' then null
		else coalesce(since, clock_timestamp()) end, code = $2, says = $3 where id = $1 and (code <> $2
		or says <> $3)`, target, code,
		plainText(says))
	return mapError(err)
}

// RenewReplicas has claims last on, those that are still held.
func (c *Catalog) RenewReplicas(ctx context.Context, target int64, tasks []ReplicaTask, lease time.Duration) error {
	keys, turns := claimed(tasks)
	_, err := c.db.ExecContext(ctx, `select replicas_held($1, $2, $3, clock_timestamp() + $4::bigint * interval '1 ms')`,
		target, keys, turns, lease.Milliseconds())
	return mapError(err)
}

// TargetMade gives when the bucket of a target was made, as it said at first, and keeps
// what it says now when nothing is known.
func (c *Catalog) TargetMade(ctx context.Context, target int64, says string) (made string, err error) {
	err = c.db.GetContext(ctx, &made, `update replication_targets set made = case when made = '' then $2 else made end
		where id = $1 returning made`, target, says)
	if errors.Is(err, sql.ErrNoRows) {
		return says, nil
	}
	return made, mapError(err)
}

// How far a backfill is: it looks at what is at the source, then at what is not any more.
const (
	backfillLooks = 1
	BackfillDone  = 2
	backfillGone  = 3
)

// BackfillStep has more of a rule's objects wait at a target whose backfill is under way,
// from its place on, and at the end what was copied there and is no longer at the source;
// more says that there may be others.
func (c *Catalog) BackfillStep(ctx context.Context, r *replication.Rule, target int64, limit int) (more bool,
	err error) {
	err = c.inTx(ctx, func(tx *sqlx.Tx) error {
		var is struct {
			Place    []byte `db:"place"`
			Backfill int    `db:"backfill"`
		}
		err := tx.GetContext(ctx, &is, `select coalesce(place, '') as place, backfill from replication_targets
			where id = $1 and backfill in ($2, $3) for update`, target, backfillLooks, backfillGone)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		var step struct {
			Last  []byte `db:"last"`
			Asked int64  `db:"asked"`
		}
		args := []any{target, r.BucketID, []byte(r.Prefix), is.Place, limit}
		call, next := `select last, asked from backfill_due($1, $2, $3, $4, $5)`, backfillGone
		if is.Backfill == backfillGone {
			call, next = `select last, asked from backfill_gone($1, $2, $3, $4)`, BackfillDone
			args = []any{target, r.BucketID, is.Place, limit}
		}
		if err := tx.GetContext(ctx, &step, call, args...); err != nil {
			return err
		}
		if step.Last != nil {
			next = is.Backfill
		}
		more = next != BackfillDone
		_, err = tx.ExecContext(ctx, `update replication_targets set place = $2, asked = asked + $3, backfill = $4
			where id = $1`, target, step.Last, step.Asked, next)
		return err
	})
	return more, err
}

// Backfilling gives the targets whose backfill is under way and that do not wait for more
// than limit objects already.
func (c *Catalog) Backfilling(ctx context.Context, limit int) (targets []int64, err error) {
	err = c.db.SelectContext(ctx, &targets, `select id from replication_targets t where backfill in (1, 3)
		and $1 > (select count(*)
		from (select 1 from replicas where target = t.id and waiting limit $1) x)`, limit)
	return targets, mapError(err)
}

// HurryReplicas has what waits at a target because the target failed be tried now: it is
// back.
func (c *Catalog) HurryReplicas(ctx context.Context, target int64) error {
	_, err := c.db.ExecContext(ctx, `update replicas r set due = clock_timestamp() from replication_targets t
		where t.id = $1 and r.target = t.id and r.waiting and r.until is null and r.due > clock_timestamp()
		and r.code = t.code and t.code <> ''`, target)
	return mapError(err)
}

// ReplicaOf names a key at a target.
type ReplicaOf struct {
	Target int64
	Key    string
}

// Replica is what is known of a key at a target.
type Replica struct {
	replication.Have
	Confirmed *time.Time
	Waiting   bool
	Since     *time.Time // it waits
	Due       *time.Time
	Attempts  int
	Code      string // why the last attempt failed
	Says      string
	Bytes     int64  // that are left to be sent
	Upload    string // an upload there that goes on
}

type replicaRow struct {
	Target    int64      `db:"target"`
	Key       []byte     `db:"key"`
	Number    int64      `db:"number"`
	Revision  int        `db:"revision"`
	Gone      bool       `db:"gone"`
	ETag      string     `db:"etag"`
	Version   string     `db:"version"`
	Confirmed *time.Time `db:"confirmed"`
	Waiting   bool       `db:"waiting"`
	Since     *time.Time `db:"since"`
	Due       *time.Time `db:"due"`
	Attempts  int        `db:"attempts"`
	Code      string     `db:"code"`
	Says      string     `db:"says"`
	Bytes     int64      `db:"bytes"`
	Upload    string     `db:"upload"`
	Accepted  int64      `db:"accepted"`
}

func (r *replicaRow) replica() *Replica {
	return &Replica{Have: replication.Have{Number: r.Number, Revision: r.Revision, Gone: r.Gone, ETag: r.ETag,
		Version: r.Version, Accepted: r.Accepted}, Confirmed: r.Confirmed, Waiting: r.Waiting, Since: r.Since, Due: r.Due,
		Attempts: r.Attempts, Code: r.Code, Says: r.Says, Bytes: r.Bytes, Upload: r.Upload}
}

const replicaColumns = `target, key, number, revision, gone, etag, version, confirmed, waiting, since, due, attempts,
	code, says, bytes, upload, accepted`

// Replicas gives what is known of keys at targets.
func (c *Catalog) Replicas(ctx context.Context, targets []int64, keys [][]byte) (map[ReplicaOf]*Replica, error) {
	var rows []replicaRow
	err := c.db.SelectContext(ctx, &rows, `select `+replicaColumns+` from replicas
		where target = any($1) and key = any($2)`, targets, keys)
	out := make(map[ReplicaOf]*Replica, len(rows))
	for i := range rows {
		out[ReplicaOf{rows[i].Target, string(rows[i].Key)}] = rows[i].replica()
	}
	return out, mapError(err)
}

// WaitingReplica is a key that waits at a target.
type WaitingReplica struct {
	Key string
	*Replica
}

// WaitingReplicas gives keys that wait at a target after one, in order; with failed those
// that failed at least once.
func (c *Catalog) WaitingReplicas(ctx context.Context, target int64, failed bool, after string,
	limit int) ([]WaitingReplica, error) {
	var rows []replicaRow
	err := c.db.SelectContext(ctx, &rows, `select `+replicaColumns+` from replicas where target = $1 and key > $2
		and waiting
		and (attempts > 0 or not $3) order by key limit $4`, target, []byte(after), failed, limit)
	out := make([]WaitingReplica, len(rows))
	for i := range rows {
		out[i] = WaitingReplica{string(rows[i].Key), rows[i].replica()}
	}
	return out, mapError(err)
}

// TargetStanding is how a target stands.
type TargetStanding struct {
	ID       int64      `db:"id"`
	Waiting  int64      `db:"waiting"`
	Failed   int64      `db:"failed"` // of those that wait
	Older    int64      `db:"older"`  // of those that wait, those that were there before the rule
	Bytes    int64      `db:"bytes"`
	Oldest   *time.Time `db:"oldest"`
	Next     *time.Time `db:"next"`  // try of those that failed
	Since    *time.Time `db:"since"` // it fails
	Code     string     `db:"code"`
	Says     string     `db:"says"`
	Backfill int        `db:"backfill"` // 0 none, 1 under way, 2 done
	Asked    int64      `db:"asked"`
	Verified *time.Time `db:"verified"`
	Verify   []byte     `db:"verify"`
	Unread   bool       `db:"unread"` // changes of the source were not read yet
	Lags     replication.Lags
	Moved    int64         // bytes in the last minutes, at most since the oldest waits
	Over     time.Duration // the time in which they were
}

// Facts are what a standing is told from; see replication.StandingOf.
func (s *TargetStanding) Facts(r *replication.Rule, now time.Time) replication.Facts {
	f := replication.Facts{On: r.On, Unread: s.Unread, Looking: s.Backfill == backfillLooks || s.Backfill == backfillGone,
		Waiting: s.Waiting, Failed: s.Failed, Lag: r.Lag, Lags: s.Lags, Now: now}
	if s.Oldest != nil {
		f.Oldest = *s.Oldest
	}
	if s.Since != nil {
		f.Code, f.Says = s.Code, s.Says
	}
	return f
}

// Standing tells how targets stand, with lags since a moment.
func (c *Catalog) Standing(ctx context.Context, targets []int64, since time.Time) (map[int64]*TargetStanding, error) {
	var rows []*TargetStanding
	if err := c.db.SelectContext(ctx, &rows, `select t.id, t.since, t.code, t.says, t.backfill, t.asked, t.verified,
		t.verify,
		w.waiting, w.failed, w.older, w.bytes, w.oldest, w.next, exists (select 1 from journal j
			join followers f on f.name = $2 where (j.xid, j.seq) > (f.xid, f.seq) and j.bucket = p.bucket
				and j.key is not null) as unread
		from replication_targets t join replications p on p.id = t.rule left join lateral (
			select count(*) as waiting, count(*) filter (where attempts > 0) as failed,
				count(*) filter (where seq = 0) as older, coalesce(sum(bytes), 0)::bigint as bytes,
				min(r.since) as oldest, min(due) filter (where attempts > 0) as next
			from replicas r where r.target = t.id and waiting) w on true where t.id = any($1)`, targets, replicationFollower); err != nil {
		return nil, mapError(err)
	}
	out := map[int64]*TargetStanding{}
	for _, r := range rows {
		out[r.ID] = r
	}
	var lags []struct {
		Target int64 `db:"target"`
		Slot   int   `db:"slot"`
		N      int64 `db:"n"`
	}
	if err := c.db.SelectContext(ctx, &lags, `select target, (ord - 1)::int as slot, sum(n)::bigint as n
		from replication_lags,
		unnest(counts) with ordinality x(n, ord) where target = any($1) and at >= date_trunc('minute', $2::timestamptz)
		group by 1, 2`, targets, since); err != nil {
		return nil, mapError(err)
	}
	for _, l := range lags {
		if r := out[l.Target]; r != nil && l.Slot < replication.LagSlots {
			r.Lags[l.Slot] += l.N
		}
	}
	var moved []struct {
		Target int64   `db:"target"`
		Bytes  int64   `db:"bytes"`
		Over   float64 `db:"over"`
	}
	oldest := make([]*time.Time, len(targets))
	for i, id := range targets {
		if r := out[id]; r != nil {
			oldest[i] = r.Oldest
		}
	}
	err := c.db.SelectContext(ctx, &moved, `with t as (select id, date_trunc('minute', greatest(since,
			clock_timestamp() - interval '5 min')) as since from unnest($1::bigint[], $2::timestamptz[]) t(id, since))
		select target, sum(bytes)::bigint as bytes, extract(epoch from clock_timestamp() - min(at))::float8 as over
		from replication_lags join t on t.id = target and at >= t.since group by 1`, targets, oldest)
	for _, m := range moved {
		if r := out[m.Target]; r != nil {
			r.Moved, r.Over = m.Bytes, time.Duration(m.Over*float64(time.Second))
		}
	}
	return out, mapError(err)
}

// LagPoint is how long changes waited at a target in some minutes, and how many were still
// waiting is not known any more.
type LagPoint struct {
	At    time.Time
	Lags  replication.Lags
	Bytes int64
}

// LagHistory gives lags of a target by minute since a moment.
func (c *Catalog) LagHistory(ctx context.Context, target int64, since time.Time) ([]LagPoint, error) {
	var rows []struct {
		At    time.Time `db:"at"`
		Slot  int       `db:"slot"`
		N     int64     `db:"n"`
		Bytes int64     `db:"bytes"`
	}
	err := c.db.SelectContext(ctx, &rows, `select at, (ord - 1)::int as slot, n, bytes from replication_lags,
		unnest(counts) with ordinality x(n, ord) where target = $1 and at >= $2 order by at, ord`, target, since)
	var out []LagPoint
	for _, r := range rows {
		if len(out) == 0 || !out[len(out)-1].At.Equal(r.At) {
			out = append(out, LagPoint{At: r.At.UTC(), Bytes: r.Bytes})
		}
		if r.Slot < replication.LagSlots {
			out[len(out)-1].Lags[r.Slot] = r.N
		}
	}
	return out, mapError(err)
}

// FaultCount counts why keys that wait at a target failed.
type FaultCount struct {
	Code  string `db:"code"`
	Says  string `db:"says"` // one of their messages
	Count int64  `db:"n"`
}

// Faults counts why keys that wait at a target failed, the most frequent first.
func (c *Catalog) Faults(ctx context.Context, target int64) (out []FaultCount, err error) {
	err = c.db.SelectContext(ctx, &out, `select code, max(says) as says, count(*) as n from replicas
		where target = $1 and waiting and attempts > 0 group by code order by n desc, code limit 20`, target)
	return out, mapError(err)
}

// RetryReplicas has keys that failed at a target be tried now: one, or with "" all. It
// says how many.
func (c *Catalog) RetryReplicas(ctx context.Context, target int64, key string) (int64, error) {
	r, err := c.db.ExecContext(ctx, `update replicas set due = clock_timestamp(), attempts = 0 where target = $1
		and waiting and attempts > 0 and until is null and ($2::bytea = '' or key = $2)`, target, []byte(key))
	if err != nil {
		return 0, mapError(err)
	}
	n, err := r.RowsAffected()
	return n, mapError(err)
}

// SettleReplicas decides about keys that wait at a target because something newer is there:
// one, or with "" all. With overwrite the source replaces what is there; else what is there is
// accepted in its place, until the source changes again. It says how many.
func (c *Catalog) SettleReplicas(ctx context.Context, r *replication.Rule, target int64, key string,
	overwrite bool) (n int64, err error) {
	const these = ` r.target = $1 and r.waiting and r.code = 'newer-there' and r.until is null
		and ($2::bytea = '' or r.key = $2)`
	err = c.inTx(ctx, func(tx *sqlx.Tx) error {
		do := []string{`update replicas r set overwrite = true, due = clock_timestamp(), attempts = 0 where` + these}
		args := []any{target, []byte(key)}
		if !overwrite {
			args = append(args, r.BucketID)
			do = []string{`update replicas r set waiting = false, since = null, attempts = 0, code = '', says = '',
				accepted = h.number from heads h where h.bucket = $3 and h.key = r.key and` + these,
				`delete from replicas r where $3::bigint is not null and` + these}
		}
		for _, q := range do {
			done, err := tx.ExecContext(ctx, q, args...)
			if err != nil {
				return err
			}
			some, err := done.RowsAffected()
			if err != nil {
				return err
			}
			n += some
		}
		return nil
	})
	return n, err
}

// Unsettled counts the keys that wait at a target because something newer is there, one or
// with "" all, and their bytes, and names the first of them.
func (c *Catalog) Unsettled(ctx context.Context, target int64, key string, names int) (objects, bytes int64,
	first []string, err error) {
	const these = ` from replicas where target = $1 and waiting and code = 'newer-there' and ($2::bytea = '' or key = $2)`
	if err = c.db.QueryRowxContext(ctx, `select count(*), coalesce(sum(bytes), 0)::bigint`+these, target,
		[]byte(key)).Scan(&objects, &bytes); err != nil {
		return 0, 0, nil, mapError(err)
	}
	var keys [][]byte
	err = c.db.SelectContext(ctx, &keys, `select key`+these+` order by key limit $3`, target, []byte(key), names)
	for _, k := range keys {
		first = append(first, string(k))
	}
	return objects, bytes, first, mapError(err)
}

// AcceptTarget takes the bucket of a target as it is, although it was made anew: nothing
// of what was known to be there counts any more.
func (c *Catalog) AcceptTarget(ctx context.Context, target int64) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		for _, q := range []string{`update replication_targets set made = '', since = null, code = '', says = ''
			where id = $1`,
			`delete from replicas where target = $1 and not waiting`,
			`update replicas set number = 0, revision = 0, etag = '', version = '' where target = $1`} {
			if _, err := tx.ExecContext(ctx, q, target); err != nil {
				return err
			}
		}
		return nil
	})
}

// StartBackfill has what was there before be copied to a target too, from the beginning.
func (c *Catalog) StartBackfill(ctx context.Context, target int64) error {
	_, err := c.db.ExecContext(ctx, `update replication_targets set backfill = 1, place = null, asked = 0 where id = $1`,
		target)
	return mapError(err)
}

// BackfillNeeds counts the objects of a rule that are not at a target as they are, and
// their bytes: what a backfill would copy, but for tags.
func (c *Catalog) BackfillNeeds(ctx context.Context, r *replication.Rule, target int64) (objects, bytes int64,
	err error) {
	err = c.db.QueryRowxContext(ctx, `select count(*), coalesce(sum(h.size), 0)::bigint from heads h
		where h.bucket = $1 and h.key >= $2 and h.key < $3 and not h.marker
		and ($5::jsonb is null or h.tags @> $5::jsonb)
		and not exists (select 1 from replicas x where x.target = $4 and x.key = h.key and x.number = h.number
			and x.revision = h.revision and not x.gone)`, r.BucketID, []byte(r.Prefix), endOf(r.Prefix), target,
		tagsOrNull(r)).Scan(&objects, &bytes)
	return objects, bytes, mapError(err)
}

func tagsOrNull(r *replication.Rule) any {
	doc, err := documentOrNull(r.Tags)
	if err != nil {
		return nil // tags are texts, which always can be written
	}
	return doc
}
