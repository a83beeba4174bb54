package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// OrderState says how far an order has come.
type OrderState string

// The states of an order.
const (
	OrderRunning OrderState = "running"
	OrderStopped OrderState = "stopped" // on request; it can go on
	OrderDone    OrderState = "done"
	OrderFailed  OrderState = "failed" // it can go on when the cause is mended
)

// Order is work on a whole prefix that the service does for somebody.
type Order struct {
	ID       int64
	Kind     string // see works.Kinds
	Bucket   object.BucketName
	What     OrderWhat
	State    OrderState
	Progress OrderProgress
	Problem  string // why it failed
	Who      string // as access.Subject.By gives it
	Account  string // that it acts in
	Gone     bool   // its bucket was removed
	Attempts int    // that failed since something was done last
	Source   string
	Created  time.Time
	Changed  time.Time
}

// OrderWhat says what an order is to do.
type OrderWhat struct {
	Prefix   []byte    `json:"prefix"`
	ToBucket string    `json:"toBucket,omitempty"` // of a rename
	ToID     int64     `json:"toID,omitempty"`     // its number: one made again under the name is another
	ToPrefix []byte    `json:"toPrefix,omitempty"`
	Replace  bool      `json:"replace,omitempty"` // what a rename finds at the target
	AsOf     time.Time `json:"asOf,omitzero"`     // of a restore
	Sealed   bool      `json:"sealed,omitempty"`  // of a conversion: what bodies are to be
	Found    *OrderOf  `json:"found,omitempty"`   // of what is done with what is found

	Place *OrderPlace `json:"place,omitempty"`
}

// OrderPlace says which placement a bucket is to have.
type OrderPlace struct {
	Placement string `json:"placement"`
	From      int16  `json:"from,omitempty"` // the tier that the bucket had when it was ordered
	All       bool   `json:"all,omitempty"`  // what was put into other tiers is moved too
}

// OrderOf says what an expression is to find, and what is done with it.
type OrderOf struct {
	Where    string      `json:"where"`
	At       time.Time   `json:"at"`  // ages are counted to then, and what is newer is left alone
	Act      string      `json:"act"` // see query.Act
	Metadata object.Edit `json:"metadata,omitzero"`
	Tags     object.Edit `json:"tags,omitzero"`
	Tier     string      `json:"tier,omitempty"`
	Expect   *int64      `json:"expect,omitempty"` // objects that were agreed to
}

// OrderProgress says how far an order has come.
type OrderProgress struct {
	Cursor []byte           `json:"cursor,omitempty"` // the last key that was dealt with
	Total  int64            `json:"total"`            // keys to deal with, counted at the start
	Counts map[string]int64 `json:"counts,omitempty"` // keys dealt with, by the counters of the order's kind
	Bytes  int64            `json:"bytes"`
	Began  time.Time        `json:"began,omitzero"` // before the first change: a restore is undone as of then
}

// Count adds to a counter, and to the bytes.
func (p *OrderProgress) Count(counter string, n, bytes int64) {
	if counter == "" {
		return
	}
	if p.Counts == nil {
		p.Counts = map[string]int64{}
	}
	p.Counts[counter] += n
	p.Bytes += bytes
}

// Done gives the keys dealt with.
func (p OrderProgress) Done() (n int64) {
	for _, c := range p.Counts {
		n += c
	}
	return n
}

// Clone gives a copy that can be counted on by itself.
func (p OrderProgress) Clone() OrderProgress {
	p.Counts = maps.Clone(p.Counts)
	return p
}

type orderRow struct {
	ID       int64     `db:"id"`
	Kind     string    `db:"kind"`
	Bucket   string    `db:"bucket"`
	What     []byte    `db:"what"`
	State    string    `db:"state"`
	Progress []byte    `db:"progress"`
	Problem  string    `db:"problem"`
	Who      string    `db:"who"`
	Account  string    `db:"account"`
	Gone     bool      `db:"gone"`
	Attempts int       `db:"attempts"`
	Source   string    `db:"source"`
	Created  time.Time `db:"created"`
	Changed  time.Time `db:"changed"`
}

const orderQuery = `select o.id, o.kind, b.name as bucket, o.what, o.state, o.progress, o.problem, o.who, o.account,
	b.removed is not null as gone, o.attempts, o.source, o.created, o.changed from orders o
	join buckets b on b.id = o.bucket `

func (r *orderRow) order() (*Order, error) {
	o := &Order{ID: r.ID, Kind: r.Kind, State: OrderState(r.State), Problem: r.Problem, Who: r.Who, Account: r.Account,
		Gone: r.Gone, Attempts: r.Attempts, Source: r.Source, Created: r.Created.UTC(), Changed: r.Changed.UTC()}
	var err error
	if o.Bucket, err = object.ParseBucketName(r.Bucket); err != nil {
		return nil, err
	}
	if err := json.Unmarshal(r.What, &o.What); err != nil {
		return nil, err
	}
	return o, json.Unmarshal(r.Progress, &o.Progress)
}

// CreateOrder records an order and gives its number. The same order, if it is
// there and not done, goes on instead.
func (c *Catalog) CreateOrder(ctx context.Context, o *Order, by Author) (int64, error) {
	what, err := json.Marshal(o.What)
	if err != nil {
		return 0, err
	}
	progress, err := json.Marshal(o.Progress)
	if err != nil {
		return 0, err
	}
	var id int64
	err = c.db.GetContext(ctx, &id, `update orders set state = 'running', problem = '', attempts = 0, due = now(),
		changed = $4, who = $5, account = $6, source = $7 where id = (select max(o.id) from orders o
		join buckets b on b.id = o.bucket
		where o.kind = $1 and b.name = $2 and b.removed is null and o.what = $3::jsonb and o.state <> 'done')
			returning id`, o.Kind, o.Bucket.String(), string(what), by.At, by.Who, o.Account, by.Source)
	if !errors.Is(err, sql.ErrNoRows) {
		return id, mapError(err)
	}
	err = c.db.GetContext(ctx, &id, `insert into orders (kind, bucket, what, state, progress, who, source, created,
		changed, account)
		select $1, id, $3::jsonb, $4, $5::jsonb, $6, $7, $8, $8, $9 from buckets where name = $2 and removed is null
			returning id`,
		o.Kind, o.Bucket.String(), string(what), OrderRunning, string(progress), by.Who, by.Source, by.At, o.Account)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, noBucket(o.Bucket)
	}
	return id, mapError(err)
}

// OrderMissing is the error for an order that is not there.
func OrderMissing(id int64) error {
	return fault.New(fault.NotFound, "order-missing", "there is no order %d", id).In("order")
}

// Order gives an order. The error for none has the code order-missing.
func (c *Catalog) Order(ctx context.Context, id int64) (*Order, error) {
	var r orderRow
	err := c.db.GetContext(ctx, &r, orderQuery+`where o.id = $1`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, OrderMissing(id)
	}
	if err != nil {
		return nil, mapError(err)
	}
	return r.order()
}

// Orders gives orders before a number (0: from the latest), latest first; only
// those in a state unless it is "".
func (c *Catalog) Orders(ctx context.Context, account string, before int64, state OrderState, limit int) ([]*Order,
	error) {
	var rows []orderRow
	q := where().when(before != 0, `o.id < ?`, before).when(state != "", `o.state = ?`, string(state)).
		when(account != "", `o.bucket in (select k.id from buckets k join accounts a on a.id = k.account where a.name = ?
			and k.removed is null)`, account)
	if err := c.db.SelectContext(ctx, &rows, orderQuery+`where `+q.String()+` order by o.id desc limit `+q.arg(limit),
		q.args...); err != nil {
		return nil, mapError(err)
	}
	out := make([]*Order, len(rows))
	for i := range rows {
		var err error
		if out[i], err = rows[i].order(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// OrderWork gives the name of the work that an order is.
func OrderWork(id int64) string { return fmt.Sprintf("order %d", id) }

// OrdersDue gives the numbers of orders of a kind that are due and that nobody works
// on, longest due first.
func (c *Catalog) OrdersDue(ctx context.Context, kind string, limit int) (ids []int64, err error) {
	err = c.db.SelectContext(ctx, &ids, `select o.id from orders o where o.kind = $1 and o.state = 'running'
		and o.due <= clock_timestamp()
		and not exists (select 1 from works w where w.name = 'order ' || o.id and w.lease >= clock_timestamp())
			order by o.due, o.id limit $2`, kind, limit)
	return ids, mapError(err)
}

// FailUnknownOrders ends orders of kinds that are not known here.
func (c *Catalog) FailUnknownOrders(ctx context.Context, known []string) error {
	_, err := c.changed(ctx,
		`update orders set state = 'failed', problem = 'this version of the service does not know the kind of order ' || kind,
			changed = now() where state = 'running' and not kind = any($1)`, known)
	return err
}

// EndOrder ends an order that runs, with the row of its work, if the lease of ctx is
// held.
func (c *Catalog) EndOrder(ctx context.Context, id int64, to OrderState, problem string) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx,
			`update orders set state = $2, problem = $3, changed = now() where id = $1 and (state = 'running'
				or state = 'stopped' and $2 = 'done')`, id, string(to), problem); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `delete from works where name = $1`, OrderWork(id))
		return err
	})
}

// DelayOrder puts an order off that failed for a reason that may pass, and says why.
func (c *Catalog) DelayOrder(ctx context.Context, id int64, pause time.Duration, problem string) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx,
			`update orders set attempts = attempts + 1, problem = $3, due = clock_timestamp() + $2::bigint * interval '1 ms'
				where id = $1 and state = 'running'`, id, pause.Milliseconds(), problem)
		return err
	})
}

// TurnOrder brings an order from one of some states into another. It reports
// false when it was in none of them.
func (c *Catalog) TurnOrder(ctx context.Context, id int64, to OrderState, problem string, from ...OrderState) (bool,
	error) {
	names := make([]string, len(from))
	for i, s := range from {
		names[i] = string(s)
	}
	res, err := c.db.ExecContext(ctx,
		`update orders set state = $2, problem = $3, attempts = 0, due = now(), changed = now() where id = $1
			and state = any($4)`, id, string(to), problem, names)
	if err != nil {
		return false, mapError(err)
	}
	n, err := res.RowsAffected()
	return n > 0, mapError(err)
}

// DueNow has an order tried again at once.
func (c *Catalog) DueNow(ctx context.Context, id int64) error {
	_, err := c.changed(ctx, `update orders set due = now() where id = $1`, id)
	return err
}

// AdoptOrder makes somebody the giver of an order that does not run.
func (c *Catalog) AdoptOrder(ctx context.Context, id int64, by, account, source string) error {
	_, err := c.db.ExecContext(ctx,
		`update orders set who = $2, account = $3, source = $4 where id = $1 and state <> 'running'`, id, by, account, source)
	return mapError(err)
}

// SaveOrder keeps how far an order has come, if the lease of ctx is held, and gives
// its state, which somebody may have changed. When the step went well, failures before
// it are forgotten.
func (c *Catalog) SaveOrder(ctx context.Context, id int64, p OrderProgress, went bool) (OrderState, error) {
	b, err := json.Marshal(p)
	if err != nil {
		return "", err
	}
	var state string
	err = c.inTx(ctx, func(tx *sqlx.Tx) error {
		return tx.GetContext(ctx, &state, `update orders set progress = $2::jsonb, attempts = case
			when $3 then 0 else attempts end, problem = case when $3 and state = 'running' then '' else problem end,
			changed = now() where id = $1 returning state`, id, string(b), went)
	})
	return OrderState(state), err
}

// Difference is how a key stands now against a moment.
type Difference struct {
	Key   string
	Now   bool // it has an object now
	Then  bool // it had one then
	Same  bool // with the same content and metadata
	Size  int64
	Bytes int64 // of the object then

	Version int64 // the number of the version then
	Current bool  // which is the current one still
}

// Differences compares keys beneath a prefix, after a key, with how they stood
// at a moment; at most limit, fewer only at the end.
func (c *Catalog) Differences(ctx context.Context, bucket int64, prefix, after string, at time.Time,
	limit int) ([]Difference, error) {
	until := endOf(prefix)
	rows, err := c.db.QueryContext(ctx, `select h.key, not h.marker, coalesce(not o.marker, false), h.size,
		coalesce(o.size, 0), coalesce(o.number, 0), coalesce(o.number = h.number, false),
			coalesce(not h.marker and not o.marker and h.md5 = o.md5 and h.parts = o.parts and h.size = o.size
			and h.content_type = coalesce(r.content_type, o.content_type)
			and nullif(h.headers - 'changed', '{}') is not distinct from
				nullif(case when r.content_type is null then o.headers else r.headers end - 'changed', '{}')
			and h.metadata is not distinct from case when r.content_type is null then o.metadata else r.metadata end
			and h.tags is not distinct from case when r.content_type is null then o.tags else r.tags end, false)
		from (select * from heads where bucket = $1 and key >= $2 and key > $3 and key < $4
			order by key limit $6) h
		left join lateral (select * from (
			select h.number, h.revision, h.marker, h.md5, h.parts, h.size, h.content_type, h.headers, h.metadata, h.tags
				where h.created <= $5
			union all (select y.number, y.revision, y.marker, y.md5, y.parts, y.size, y.content_type, y.headers, y.metadata,
				y.tags from history y
				where h.created > $5 and y.bucket = $1 and y.key = h.key and y.created <= $5
					order by y.number desc limit 1)) x limit 1) o on true
		left join lateral (select * from revisions v where v.bucket = $1 and v.key = h.key and v.number = o.number
			and v.until > $5 order by v.revision limit 1) r on true
		order by h.key`, bucket, []byte(prefix), []byte(after), until, at, limit)
	if err != nil {
		return nil, mapError(err)
	}
	defer rows.Close()
	var out []Difference
	for rows.Next() {
		var d Difference
		var key []byte
		if err := rows.Scan(&key, &d.Now, &d.Then, &d.Size, &d.Bytes, &d.Version, &d.Current, &d.Same); err != nil {
			return nil, mapError(err)
		}
		d.Key = string(key)
		out = append(out, d)
	}
	return out, mapError(rows.Err())
}
