package catalog

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/posting"
)

const behindMost = 100_000 // entries that are counted behind a post

type postRow struct {
	ID       int64      `db:"id"`
	Account  string     `db:"account"`
	Name     string     `db:"name"`
	URL      string     `db:"url"`
	On       bool       `db:"active"`
	Bucket   string     `db:"bucket"`
	Prefix   string     `db:"prefix"`
	Kinds    []byte     `db:"kinds"`
	Secret   []byte     `db:"secret"`
	Revision int        `db:"revision"`
	Created  time.Time  `db:"created"`
	Who      string     `db:"who"`
	Place    string     `db:"place"`
	Behind   int64      `db:"behind"`
	Failed   int        `db:"failed"`
	Problem  string     `db:"problem"`
	Posted   *time.Time `db:"posted"`
	Sent     int64      `db:"sent"`
	Since    string     `db:"since"`
}

func posts(ctx context.Context, q selecting, rest string, args ...any) ([]*posting.Post, error) {
	var rows []postRow
	if err := q.SelectContext(ctx, &rows, `select p.id, a.name as account, p.name, p.url, p.active, p.bucket, p.prefix,
		to_json(p.kinds)::text as kinds, p.secret, p.revision, p.created, p.who, f.xid::text || '.' || f.seq as place,
		p.failed, p.problem,
		p.posted, p.sent, p.since::text as since,
		(select count(*) from (select 1 from journal j join buckets b on b.id = j.bucket and b.account = p.account
			where (j.xid, j.seq) > (f.xid, f.seq) limit `+fmt.Sprint(behindMost)+`) x) as behind
		from posts p join accounts a on a.id = p.account
		join followers f on f.name = 'post ' || p.id `+rest, args...); err != nil {
		return nil, mapError(err)
	}
	out := make([]*posting.Post, len(rows))
	for i, r := range rows {
		out[i] = &posting.Post{ID: r.ID, Account: r.Account, Name: r.Name, URL: r.URL, On: r.On, Bucket: r.Bucket,
			Prefix: r.Prefix,
			Secret: r.Secret, Revision: r.Revision, Created: r.Created.UTC(), Who: r.Who, Place: r.Place, Behind: r.Behind,
			Failed:  r.Failed,
			Problem: r.Problem, Posted: r.Posted, Sent: r.Sent, Since: r.Since}
		if err := json.Unmarshal(r.Kinds, &out[i].Kinds); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Posts gives the posts of an account after a name, by name.
func (c *Catalog) Posts(ctx context.Context, account, after string, limit int) ([]*posting.Post, error) {
	return posts(ctx, c.db, `where a.name = $1 and p.name > $2 order by p.name limit $3`, account, after, limit)
}

// Post gives a post of an account. The error for none has the code post-missing.
func (c *Catalog) Post(ctx context.Context, account, name string) (*posting.Post, error) {
	list, err := posts(ctx, c.db, `where a.name = $1 and p.name = $2`, account, name)
	if err == nil && len(list) == 0 {
		err = fault.New(fault.NotFound, "post-missing", "there is no post %q",
			name).In("post").Do("spindle journal post list names those there are")
	}
	if err != nil {
		return nil, err
	}
	return list[0], nil
}

// PostsToSend gives the numbers of the posts that are on and have not posted all of the journal.
func (c *Catalog) PostsToSend(ctx context.Context) (ids []int64, err error) {
	err = c.db.SelectContext(ctx, &ids, `select p.id from posts p join followers f on f.name = 'post ' || p.id
		where p.active and exists (select 1 from journal j where (j.xid, j.seq) > (f.xid, f.seq)) order by p.id`)
	return ids, mapError(err)
}

// PostToSend gives a post as it stands now, nil when it is off or was removed. Read it under
// its lease: before that, another process may move it.
func (c *Catalog) PostToSend(ctx context.Context, id int64) (*posting.Post, error) {
	list, err := posts(ctx, c.db, `where p.active and p.id = $1`, id)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return list[0], nil
}

// PostSecret names what a post is signed with.
func PostSecret(account, name string) string { return "post " + account + "/" + name }

// AddPost writes a new post down: it posts what changes from now on. The error for a name
// that is taken has the code post-exists.
func (c *Catalog) AddPost(ctx context.Context, p *posting.Post, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		err := tx.GetContext(ctx, &p.ID, `insert into posts (account, name, url, active, bucket, prefix, kinds, secret,
			created, who, since)
			select id, $2, $3, $4, $5, $6, $7::text[], $8, $9, $10, journal_known() from accounts where name = $1
			returning id`, p.Account, p.Name, p.URL, p.On,
			p.Bucket, p.Prefix, append([]string{}, p.Kinds...), p.Secret, by.At, by.Who)
		if unique(err) {
			return fault.New(fault.Conflict, "post-exists", "there is a post named %q already",
				p.Name).In("name").Do("choose another name")
		}
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx,
			`insert into followers (name, xid, seq, upto) values ($1, journal_horizon(), 0, now())`,
			fmt.Sprintf("post %d", p.ID)); err != nil {
			return err
		}
		return trail(ctx, tx, by, access.TrailSetting, p.Account, "post "+p.Name, map[string]any{"post added": p.Name,
			"url": p.URL})
	})
}

// TurnPost switches a post on or off; on, it goes on where it was.
func (c *Catalog) TurnPost(ctx context.Context, p *posting.Post, on bool, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `update posts set active = $2, revision = revision + 1, failed = 0 where id = $1`,
			p.ID, on); err != nil {
			return err
		}
		return trail(ctx, tx, by, access.TrailSetting, p.Account, "post "+p.Name, map[string]any{"post on": on})
	})
}

// RemovePost takes a post away.
func (c *Catalog) RemovePost(ctx context.Context, p *posting.Post, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `delete from followers where name = $1`, fmt.Sprintf("post %d", p.ID)); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `delete from posts where id = $1`, p.ID); err != nil {
			return err
		}
		return trail(ctx, tx, by, access.TrailSetting, p.Account, "post "+p.Name, map[string]any{"post removed": p.Name})
	})
}

// PostMoved writes down, under a lease, how far a post is after some events arrived.
func (c *Catalog) PostMoved(ctx context.Context, id int64, place string, events int, now time.Time) error {
	xid, seq, err := ParsePosition(place)
	if err != nil {
		return err
	}
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `update followers set xid = $2::xid8, seq = $3, moved = now() where name = $1`,
			fmt.Sprintf("post %d", id),
			xid, seq); err != nil || events == 0 {
			return err
		}
		_, err := tx.ExecContext(ctx, `update posts set failed = 0, problem = '', posted = $2, sent = sent + $3
			where id = $1`, id, now, events)
		return err
	})
}

// PostFailed writes down, under a lease, that events did not arrive.
func (c *Catalog) PostFailed(ctx context.Context, id int64, problem string) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `update posts set failed = failed + 1, problem = $2 where id = $1`, id, problem)
		return err
	})
}
