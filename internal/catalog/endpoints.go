package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"strconv"
	"time"

	"github.com/jmoiron/sqlx"

	"spindle/internal/core/access"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
)

// MarkEndpoints is the mark of the endpoints, but for how they stand.
const MarkEndpoints Mark = "endpoints"

type endpointRow struct {
	ID        int64      `db:"id"`
	Account   string     `db:"account"`
	Name      string     `db:"name"`
	URL       string     `db:"url"`
	Region    string     `db:"region"`
	Style     string     `db:"style"`
	KeyID     string     `db:"key_id"`
	Sealed    []byte     `db:"sealed"`
	Note      string     `db:"note"`
	Bandwidth int64      `db:"bandwidth"`
	Probe     string     `db:"probe"`
	Revision  int        `db:"revision"`
	Created   time.Time  `db:"created"`
	CreatedBy string     `db:"created_by"`
	State     string     `db:"state"`
	Since     time.Time  `db:"since"`
	Checked   *time.Time `db:"checked"`
	Latency   int64      `db:"latency"`
	Field     string     `db:"field"`
	Says      string     `db:"says"`
	Remedy    string     `db:"remedy"`
	Abilities []byte     `db:"abilities"`
}

func (r *endpointRow) endpoint() (*endpoint.Endpoint, error) {
	e := &endpoint.Endpoint{ID: r.ID, Account: r.Account, Name: r.Name, URL: r.URL, Region: r.Region,
		Style: endpoint.Style(r.Style), KeyID: r.KeyID, Sealed: r.Sealed, Note: r.Note, Bandwidth: r.Bandwidth,
		Probe: r.Probe, Revision: r.Revision, Created: r.Created.UTC(), By: r.CreatedBy,
		Health: endpoint.Health{State: endpoint.State(r.State), Since: r.Since.UTC(), Field: r.Field, Says: r.Says,
			Remedy: r.Remedy, Latency: time.Duration(r.Latency) * time.Microsecond}}
	if r.Checked != nil && r.Checked.Unix() > 0 {
		e.Health.Checked = r.Checked.UTC()
	}
	return e, json.Unmarshal(r.Abilities, &e.Health.Abilities)
}

const endpointQuery = `select e.id, a.name as account, e.name, url, region, style, key_id, sealed, e.note, bandwidth,
	probe,
	e.revision, e.created, created_by, state, since, checked, latency, field, says, remedy, abilities
	from endpoints e join accounts a on a.id = e.account `

// selecting is what reads rows: the database, or a transaction.
type selecting interface {
	SelectContext(ctx context.Context, dest any, query string, args ...any) error
}

func endpoints(ctx context.Context, q selecting, rest string, args ...any) ([]*endpoint.Endpoint, error) {
	var rows []endpointRow
	if err := q.SelectContext(ctx, &rows, endpointQuery+rest, args...); err != nil {
		return nil, mapError(err)
	}
	out := make([]*endpoint.Endpoint, len(rows))
	for i := range rows {
		var err error
		if out[i], err = rows[i].endpoint(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Endpoints gives the endpoints of an account after a name, by name.
func (c *Catalog) Endpoints(ctx context.Context, account, after string, limit int) ([]*endpoint.Endpoint, error) {
	return endpoints(ctx, c.db, `where a.name = $1 and e.name > $2 order by e.name limit $3`, account, after, limit)
}

// Endpoint gives an endpoint of an account. The error for none has the code
// endpoint-missing.
func (c *Catalog) Endpoint(ctx context.Context, account, name string) (*endpoint.Endpoint, error) {
	return oneEndpoint(ctx, c.db, name, `where a.name = $1 and e.name = $2`, account, name)
}

func oneEndpoint(ctx context.Context, q selecting, name, rest string, args ...any) (*endpoint.Endpoint, error) {
	all, err := endpoints(ctx, q, rest, args...)
	if err == nil && len(all) == 0 {
		err = fault.New(fault.NotFound, "endpoint-missing", "there is no endpoint %q", name).In("endpoint").
			Do("spindle endpoint list names those there are")
	}
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

// EndpointByID gives an endpoint by its number. The error for none has the code
// endpoint-missing.
func (c *Catalog) EndpointByID(ctx context.Context, id int64) (*endpoint.Endpoint, error) {
	return oneEndpoint(ctx, c.db, strconv.FormatInt(id, 10), `where e.id = $1`, id)
}

// EndpointsUnchecked gives endpoints whose last check was before a moment, the oldest
// first.
func (c *Catalog) EndpointsUnchecked(ctx context.Context, before time.Time, limit int) ([]*endpoint.Endpoint, error) {
	return endpoints(ctx, c.db, `where coalesce(checked, 'epoch') < $1 order by checked nulls first limit $2`, before,
		limit)
}

// AddEndpoint writes a new endpoint down; seal seals its secret for a name. The error for
// a name that is taken has the code endpoint-exists.
func (c *Catalog) AddEndpoint(ctx context.Context, e *endpoint.Endpoint, by Author,
	seal func(name string) ([]byte, error)) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := tx.GetContext(ctx, &e.ID, `select nextval(pg_get_serial_sequence('endpoints', 'id'))`); err != nil {
			return err
		}
		sealed, err := seal(EndpointSecret(e.ID))
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `insert into endpoints (id, account, name, url, region, style, key_id, sealed, note,
			bandwidth, probe, created, created_by) overriding system value select $1, id, $3, $4, $5, $6, $7, $8, $9, $10, $11,
			$12, $13 from accounts where name = $2`, e.ID, e.Account, e.Name, e.URL, e.Region, string(e.Style), e.KeyID, sealed,
			e.Note, e.Bandwidth, e.Probe, by.At, by.Who)
		if unique(err) {
			return fault.New(fault.Conflict, "endpoint-exists", "there is an endpoint named %q already", e.Name).In("name").
				Do("choose another name")
		}
		if err != nil {
			return err
		}
		if err := keepHealth(ctx, tx, e.ID, e.Health); err != nil {
			return err
		}
		return trail(ctx, tx, by, access.TrailSetting, e.Account, "endpoint "+e.Name,
			map[string]any{"endpoint added": e.Name, "url": e.URL, "key": e.KeyID})
	})
}

// EndpointSecret names the secret of an endpoint where it is sealed.
func EndpointSecret(id int64) string { return "endpoint " + strconv.FormatInt(id, 10) }

// ChangeEndpoint writes an endpoint as it is given, whose revision is still the one it
// says. The error otherwise has the code revision.
func (c *Catalog) ChangeEndpoint(ctx context.Context, e *endpoint.Endpoint, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		before, err := oneEndpoint(ctx, tx, e.Name, `where e.id = $1 for update of e`, e.ID)
		if err != nil {
			return err
		}
		r, err := tx.ExecContext(ctx, `update endpoints set url = $3, region = $4, style = $5, key_id = $6, sealed = $7,
			note = $8, bandwidth = $9, probe = $10, revision = revision + 1 where id = $1 and revision = $2`, e.ID, e.Revision,
			e.URL, e.Region, string(e.Style), e.KeyID, e.Sealed, e.Note, e.Bandwidth, e.Probe)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fault.New(fault.Precondition, "revision", "the endpoint was changed or removed meanwhile").
				In("revision").Do("read it again and repeat the change on what is there now"))
		}
		if !e.Health.Checked.IsZero() {
			if err := keepHealth(ctx, tx, e.ID, e.Health); err != nil {
				return err
			}
		}
		return trail(ctx, tx, by, access.TrailSetting, e.Account, "endpoint "+e.Name,
			map[string]any{"endpoint changed": e.Name, "url": e.URL, "key": e.KeyID,
				changedIn: settingsChanged(*before, *e)})
	})
}

// RemoveEndpoint takes an endpoint away that no rule names, and at which no tier is. The error otherwise has the
// code endpoint-used.
func (c *Catalog) RemoveEndpoint(ctx context.Context, account, name string, by Author) error {
	return c.inTx(ctx, func(tx *sqlx.Tx) error {
		e, err := oneEndpoint(ctx, tx, name, `where a.name = $1 and e.name = $2 for update of e`, account, name)
		if err != nil {
			return err
		}
		var kept string
		err = tx.GetContext(ctx, &kept,
			`select t.name from volumes v join tiers t on t.id = v.tier where v.endpoint = $1 limit 1`,
			e.ID)
		if err == nil {
			return fault.New(fault.Conflict, "endpoint-used", "the tier %s keeps its bodies at the endpoint %s", kept, name).
				In("endpoint").Do("move what is in the tier elsewhere, and remove it, first")
		}
		if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		var rule string
		err = tx.GetContext(ctx, &rule, `select r.name from replication_targets t join replications r on r.id = t.rule
			where t.endpoint = $1 order by 1 limit 1`, e.ID)
		if err == nil {
			return fault.New(fault.Conflict, "endpoint-used", "the replication rule %s copies to the endpoint %s", rule, name).
				In("endpoint").Do("remove the rule, or change its targets, first")
		}
		if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if _, err := tx.ExecContext(ctx, `delete from endpoints where id = $1`, e.ID); err != nil {
			return err
		}
		return trail(ctx, tx, by, access.TrailSetting, account, "endpoint "+name, map[string]any{"endpoint removed": name})
	})
}

// KeepHealth writes down how an endpoint stood at a check.
func (c *Catalog) KeepHealth(ctx context.Context, id int64, h endpoint.Health) error {
	return mapError(keepHealth(ctx, c.db, id, h))
}

func keepHealth(ctx context.Context, q sqlx.ExecerContext, id int64, h endpoint.Health) error {
	if h.Checked.IsZero() {
		return nil
	}
	abilities, err := json.Marshal(h.Abilities)
	if err != nil {
		return err
	}
	// What a check did not look at stays as it was known; the state is since it came to be.
	_, err = q.ExecContext(ctx, `update endpoints set since = case when state = $2 then since else $3 end, state = $2,
		checked = $3, latency = $4, field = $5, says = $6, remedy = $7,
		abilities = abilities || case when $8::jsonb = 'null' then '{}' else $8::jsonb end
		where id = $1`, id, string(h.State),
		h.Checked, h.Latency.Microseconds(), h.Field, h.Says, h.Remedy, string(abilities))
	return err
}

// CheckSoon has an endpoint be checked as soon as somebody looks.
func (c *Catalog) CheckSoon(ctx context.Context, id int64) error {
	_, err := c.db.ExecContext(ctx, `update endpoints set checked = 'epoch' where id = $1`, id)
	return mapError(err)
}

// AllEndpoints gives every endpoint there is, for the operators' figures.
func (c *Catalog) AllEndpoints(ctx context.Context) ([]*endpoint.Endpoint, error) {
	return endpoints(ctx, c.db, `order by e.id`)
}
