package catalog

import (
	"context"
	"sync"
	"time"
)

// Request is a request of the wire, as it is counted.
type Request struct {
	Bucket, Who string
	Kind        RequestKind
	Failed      bool
	In, Out     int64 // bytes of bodies
}

// RequestKind is what a request is counted as.
type RequestKind int

// Kinds of requests.
const (
	RequestRead RequestKind = iota
	RequestWrite
	RequestList
	RequestOther
)

// Traffic is requests by kind, with their bytes.
type Traffic struct {
	Reads  int64 `db:"reads"`
	Writes int64 `db:"writes"`
	Lists  int64 `db:"lists"`
	Others int64 `db:"others"`
	Failed int64 `db:"failed"`
	In     int64 `db:"bytes_in"`
	Out    int64 `db:"bytes_out"`
}

type trafficKey struct {
	bucket, who string
	day         time.Time
}

const trafficMost = 10_000 // buckets and keys that are counted apart between two writings

// traffic gathers requests until they are written down.
type traffic struct {
	mu   sync.Mutex
	sums map[trafficKey]*Traffic
}

// CountRequest counts a request; it is written down by KeepTraffic.
func (c *Catalog) CountRequest(r Request) {
	k := trafficKey{r.Bucket, r.Who, c.Now().UTC().Truncate(24 * time.Hour)}
	c.traffic.mu.Lock()
	defer c.traffic.mu.Unlock()
	t := c.traffic.sums[k]
	if t == nil {
		if len(c.traffic.sums) >= trafficMost {
			return // somebody makes names up
		}
		if c.traffic.sums == nil {
			c.traffic.sums = map[trafficKey]*Traffic{}
		}
		t = &Traffic{}
		c.traffic.sums[k] = t
	}
	*[]*int64{&t.Reads, &t.Writes, &t.Lists, &t.Others}[r.Kind]++
	if r.Failed {
		t.Failed++
	}
	t.In, t.Out = t.In+r.In, t.Out+r.Out
}

// KeepTraffic writes down what was counted; what cannot be written is counted on.
func (c *Catalog) KeepTraffic(ctx context.Context) error {
	c.traffic.mu.Lock()
	sums := c.traffic.sums
	c.traffic.sums = nil
	c.traffic.mu.Unlock()
	if len(sums) == 0 {
		return nil
	}
	var buckets, who []string
	var days []time.Time
	numbers := make([][]int64, 7)
	for k, t := range sums {
		buckets, who, days = append(buckets, k.bucket), append(who, k.who), append(days, k.day)
		for i, n := range []int64{t.Reads, t.Writes, t.Lists, t.Others, t.Failed, t.In, t.Out} {
			numbers[i] = append(numbers[i], n)
		}
	}
	_, err := c.changed(ctx, `insert into traffic_days as t (bucket, day, who, reads, writes, lists, others, failed,
		bytes_in, bytes_out)
		select b.id, (x.day at time zone 'UTC')::date, x.who, x.r, x.w, x.l, x.o, x.f, x.i, x.s
		from unnest($1::text[], $2::timestamptz[], $3::text[], $4::bigint[], $5::bigint[], $6::bigint[], $7::bigint[],
		$8::bigint[], $9::bigint[],
			$10::bigint[]) x(bucket, day, who, r, w, l, o, f, i, s) join buckets b on b.name = x.bucket and b.removed is null
			order by 1, 2, 3
		on conflict (bucket, day, who) do update set reads = t.reads + excluded.reads, writes = t.writes + excluded.writes,
			lists = t.lists + excluded.lists, others = t.others + excluded.others, failed = t.failed + excluded.failed,
			bytes_in = t.bytes_in + excluded.bytes_in,
			bytes_out = t.bytes_out + excluded.bytes_out`, buckets, days, who, numbers[0], numbers[1],
		numbers[2], numbers[3], numbers[4], numbers[5], numbers[6])
	if err == nil {
		return nil
	}
	c.traffic.mu.Lock()
	defer c.traffic.mu.Unlock()
	for k, t := range sums {
		if now := c.traffic.sums[k]; now != nil {
			t = &Traffic{t.Reads + now.Reads, t.Writes + now.Writes, t.Lists + now.Lists, t.Others + now.Others, t.Failed +
				now.Failed,
				t.In + now.In, t.Out + now.Out}
		}
		if c.traffic.sums == nil {
			c.traffic.sums = map[trafficKey]*Traffic{}
		}
		c.traffic.sums[k] = t
	}
	return err
}

// TrafficOf is the traffic of a bucket, or of who made requests, or of a day.
type TrafficOf struct {
	Of string `db:"of"`
	Traffic
}

// TrafficBy sums requests of an account's buckets between two days, both included, by
// bucket, by who made them, or by day; of one bucket when it is named. The most bytes come
// first, days in their order.
func (c *Catalog) TrafficBy(ctx context.Context, by, account, bucket string, from, to time.Time,
	limit int) (list []TrafficOf, err error) {
	of, order := map[string]string{"bucket": "b.name", "who": "t.who", "day": "t.day::text"}[by],
		"sum(t.bytes_in + t.bytes_out) desc, 1"
	if by == "day" {
		order = "1"
	}
	q := where().and(`t.day >= ?::date`, from.Format(time.DateOnly)).and(`t.day <= ?::date`, to.Format(time.DateOnly)).
		when(account != "", `a.name = ?`, account).when(bucket != "", `b.name = ?`, bucket)
	err = c.db.SelectContext(ctx, &list, `select `+of+` as of, sum(t.reads)::bigint as reads,
		sum(t.writes)::bigint as writes,
		sum(t.lists)::bigint as lists, sum(t.others)::bigint as others, sum(t.failed)::bigint as failed,
		sum(t.bytes_in)::bigint as bytes_in,
		sum(t.bytes_out)::bigint as bytes_out from traffic_days t join buckets b on b.id = t.bucket and b.removed is null
		join accounts a on a.id = b.account where `+q.String()+` group by 1
		order by `+order+` limit `+q.arg(limit), q.args...)
	return list, mapError(err)
}

// Unfinished gives the bytes of unfinished uploads by bucket and tier.
func (c *Catalog) Unfinished(ctx context.Context, account string) (map[string]map[int16]int64, error) {
	var rows []struct {
		Bucket string `db:"name"`
		Tier   int16  `db:"tier"`
		Bytes  int64  `db:"bytes"`
	}
	err := c.db.SelectContext(ctx, &rows, `select b.name, p.tier, coalesce(sum(p.size), 0)::bigint as bytes from uploads u
		join buckets b on b.id = u.bucket
		and b.removed is null join accounts a on a.id = b.account join parts p on p.upload = u.seq where u.state = 0
		and ($1::text = '' or a.name = $1) group by 1, 2`, account)
	out := map[string]map[int16]int64{}
	for _, r := range rows {
		if out[r.Bucket] == nil {
			out[r.Bucket] = map[int16]int64{}
		}
		out[r.Bucket][r.Tier] = r.Bytes
	}
	return out, mapError(err)
}

// TierUsages gives the bytes of an account's buckets in each tier but the first, as far as
// the usage follower has read.
func (c *Catalog) TierUsages(ctx context.Context, account string) (map[string]map[int16]int64, error) {
	var rows []struct {
		Bucket string `db:"name"`
		Tier   int16  `db:"tier"`
		Bytes  int64  `db:"bytes"`
	}
	err := c.db.SelectContext(ctx, &rows, `select b.name, u.tier, u.bytes from usage_tiers u
		join buckets b on b.id = u.bucket
		and b.removed is null join accounts a on a.id = b.account where u.bytes <> 0 and ($1::text = ''
		or a.name = $1)`, account)
	out := map[string]map[int16]int64{}
	for _, r := range rows {
		if out[r.Bucket] == nil {
			out[r.Bucket] = map[int16]int64{}
		}
		out[r.Bucket][r.Tier] = r.Bytes
	}
	return out, mapError(err)
}
