package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/access"
	"spindle/internal/core/charter"
	"spindle/internal/core/fault"
)

// CharterState is how far an enactment is.
type CharterState string

// The states.
const (
	CharterEnacting CharterState = "enacting"
	CharterRetiring CharterState = "retiring"
	CharterEnacted  CharterState = "enacted"
	CharterRetired  CharterState = "retired"
	CharterStopped  CharterState = "stopped"
)

// Enactment is one time that a charter was enacted, or taken back.
type Enactment struct {
	ID      int64           `db:"id"`
	Account string          `db:"account"`
	Name    string          `db:"name"`
	Digest  string          `db:"digest"` // SHA-256 of its files, in hex
	State   CharterState    `db:"state"`
	Says    string          `db:"says"` // why it stopped
	Things  []charter.Thing `db:"-"`    // that it answers for
	Done    int             `db:"done"`
	Steps   int             `db:"steps"`
	At      time.Time       `db:"at"`
	Ended   *time.Time      `db:"ended"`
	Who     string          `db:"who"`
	Source  string          `db:"source"`
}

// charterLease is for how long nobody else enacts when whoever does is not heard of.
const charterLease = 2 * time.Minute

// enactmentColumns tell of what nobody was heard of for so long that it stopped.
const enactmentColumns = `c.id, a.name as account, c.name, c.digest, case
	when c.until < clock_timestamp() then 'stopped' else c.state end as state,
	case when c.until < clock_timestamp() then 'the process that enacted it went away'
	else c.says end as says, c.done, c.steps, c.at, c.ended, c.who, c.source`

// Charters gives the last enactment of each charter of an account, by name.
func (c *Catalog) Charters(ctx context.Context, account string) ([]*Enactment, error) {
	return enactments(ctx, c.db, `where a.name = $1 and c.id = (select max(id) from charters x where x.account = c.account
		and x.name = c.name) order by c.name limit 1000`, account)
}

// Enactments gives what became of a charter of an account, latest first, before an id; 0 for
// all.
func (c *Catalog) Enactments(ctx context.Context, account, name string, before int64, limit int) ([]*Enactment, error) {
	return enactments(ctx, c.db, `where a.name = $1 and c.name = $2 and ($3::bigint = 0 or c.id < $3) order by c.id desc
		limit $4`,
		account, name, before, limit)
}

func enactments(ctx context.Context, q selecting, rest string, args ...any) ([]*Enactment, error) {
	var rows []struct {
		Enactment
		Raw []byte `db:"things"`
	}
	if err := q.SelectContext(ctx, &rows,
		`select `+enactmentColumns+`, c.things from charters c join accounts a on a.id = c.account `+
			rest, args...); err != nil {
		return nil, mapError(err)
	}
	out := make([]*Enactment, len(rows))
	for i := range rows {
		out[i] = &rows[i].Enactment
		out[i].At = out[i].At.UTC()
		if err := json.Unmarshal(rows[i].Raw, &out[i].Things); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// BeginCharter writes down that a charter is being enacted, or taken back. The error when
// another one of the account is has the code charter-busy.
func (c *Catalog) BeginCharter(ctx context.Context, e *Enactment, by Author) error {
	things, err := json.Marshal(e.Things)
	if err != nil {
		return err
	}
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		var account int64
		if err := tx.GetContext(ctx, &account, `select id from accounts where name = $1 for update`, e.Account); err != nil {
			return err
		}
		var other Enactment
		err := tx.GetContext(ctx, &other, `select `+enactmentColumns+` from charters c join accounts a on a.id = c.account
			where c.account = $1 and c.until > clock_timestamp() order by c.id desc limit 1`, account)
		if err == nil {
			return fault.New(fault.Conflict, "charter-busy", "%s is enacting the charter %s, since %s", other.Who, other.Name,
				other.At.UTC().Format("15:04:05 MST")).In("charter").Do("wait until that is done, and compare again")
		}
		if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if err := tx.GetContext(ctx, &e.ID, `insert into charters (account, name, digest, state, things, steps, at, until,
			who, source)
			values ($1, $2, $3, $4, $5::jsonb, $6, $7, clock_timestamp() + $8::bigint * interval '1 ms', $9, $10) returning id`,
			account, e.Name, e.Digest, e.State, string(things), e.Steps, by.At, charterLease.Milliseconds(), by.Who,
			by.Source); err != nil {
			return err
		}
		return trail(ctx, tx, by, access.TrailSetting, e.Account, "charter "+e.Name,
			map[string]any{"charter": string(e.State), "digest": e.Digest,
				"steps": e.Steps})
	})
}

// CharterStep notes that another step of an enactment is done, or is worked on still. The
// error when it has been taken over has the code charter-lost.
func (c *Catalog) CharterStep(ctx context.Context, id int64, done int) error {
	r, err := c.db.ExecContext(ctx, `update charters
		set done = $2, until = clock_timestamp() + $3::bigint * interval '1 ms'
		where id = $1 and until > clock_timestamp()`, id, done, charterLease.Milliseconds())
	if err != nil {
		return mapError(err)
	}
	if n, err := r.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, fault.New(fault.Conflict, "charter-lost",
			"the charter took so long that somebody else may enact by now").
			In("charter").Do("compare again"))
	}
	return nil
}

// EndCharter notes what became of an enactment, and what it answers for.
func (c *Catalog) EndCharter(ctx context.Context, e *Enactment) error {
	things, err := json.Marshal(e.Things)
	if err != nil {
		return err
	}
	_, err = c.db.ExecContext(ctx, `update charters set state = $2, says = $3, done = $4, things = $5::jsonb,
		ended = clock_timestamp(),
		until = null where id = $1`, e.ID, e.State, plainText(e.Says), e.Done, string(things))
	return mapError(err)
}

// TrailOf is what the trail calls a thing, and the account in whose trail it stands.
type TrailOf struct {
	Account string `db:"account"`
	Subject string `db:"subject"`
}

// TrailMark is who changed a setting of a thing last, and when.
type TrailMark struct {
	TrailOf
	Setting string    `db:"setting"` // as settingsChanged names it, or TrailMade; "" for the thing, whatever changed
	Who     string    `db:"who"`
	At      time.Time `db:"at"`
}

// TrailMade stands for all settings of a thing: they came with it when it was made.
const TrailMade = "*"

// trailMade holds of entries that tell that something was made.
const trailMade = `(t.kind like '% created' or exists (select 1 from jsonb_object_keys(t.detail) k
	where k like '% added' or k = 'bucket created'))`

// trailThing is the subject of an entry as charters name what it is about: keys by their names,
// grants by what they open and to whom.
const trailThing = `case when t.kind like 'key %' then 'key ' || coalesce(t.detail->>'name', '')
	when t.kind like 'grant %' then 'grant ' || t.subject || ' ' || coalesce(t.detail->>'to', '') else t.subject end`

// TrailLast says who changed things last since a moment, and each of their settings.
func (c *Catalog) TrailLast(ctx context.Context, things []TrailOf, since time.Time) ([]TrailMark, error) {
	accounts, subjects := make([]string, len(things)), make([]string, len(things))
	for i, t := range things {
		accounts[i], subjects[i] = t.Account, t.Subject
	}
	var out []TrailMark
	err := c.db.SelectContext(ctx, &out, `with entries as (
			select t.account, w.subject, t.who, t.at, t.id, case when `+trailMade+` then '["`+TrailMade+`"]'
				else coalesce(t.detail->'`+changedIn+`', '[]') end as changed
			from unnest($1::text[], $2::text[]) as w(account, subject)
			join trail t on t.account = w.account and `+trailThing+` = w.subject where t.at > $3)
		(select distinct on (account, subject) account, subject, '' as setting, who, at from entries
			order by account, subject, at desc, id desc)
		union all
		(select distinct on (account, subject, s) account, subject, s as setting, who, at
			from entries, jsonb_array_elements_text(changed) s
			order by account, subject, s, at desc, id desc)`, accounts, subjects, since)
	return out, mapError(err)
}
