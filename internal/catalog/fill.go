package catalog

import (
	"context"
	"database/sql"
	"fmt"
	"net/url"
	"regexp"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"

	"spindle/internal/core/fault"
)

// Filling is an empty database with the schema of this program, into which somebody else's data
// are written: by a role that may do nothing else.
type Filling struct {
	URL    string          // of the role
	Tables map[string]bool // that it may write to

	db *sql.DB
}

// filler is the role that data are written by.
const filler = "spindle_filler"

var journalPart = regexp.MustCompile(`^journal_(\d{4}_\d{2})$`)

// Fill brings an empty database, whose role may make roles, to a version of the schema, with
// parts of the journal of some names. What is written to it later brings no functions, triggers
// or defaults: those are the program's.
func Fill(ctx context.Context, address string, version int64, parts []string) (*Filling, error) {
	cfg, err := pgx.ParseConfig(address)
	if err != nil {
		return nil, err
	}
	f := &Filling{Tables: map[string]bool{}, db: stdlib.OpenDB(*cfg)}
	if err := f.prepare(ctx, version, parts); err != nil {
		f.db.Close()
		return nil, mapError(err)
	}
	u, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	u.User = url.User(filler)
	f.URL = u.String()
	return f, nil
}

func (f *Filling) prepare(ctx context.Context, version int64, parts []string) error {
	p, err := schema(f.db)
	if err != nil {
		return err
	}
	sources := p.ListSources()
	if err := refuseNewer(version, sources[len(sources)-1].Version); err != nil {
		return err
	}
	if _, err := p.UpTo(ctx, version); err != nil {
		return err
	}
	for _, name := range parts {
		m := journalPart.FindStringSubmatch(name)
		if m == nil {
			continue
		}
		from, err := time.Parse("2006_01", m[1])
		if err != nil {
			return fault.New(fault.Damaged, "backup-dump", "%q is no part of the journal", name).In("backup").Because(err)
		}
		if _, err := f.db.ExecContext(ctx, fmt.Sprintf(`create table if not exists %s partition of journal
			for values from ('%s') to ('%s')`, name, from.Format(time.RFC3339), from.AddDate(0, 1, 0).Format(time.RFC3339))); err != nil {
			return err
		}
	}
	if err := f.list(ctx); err != nil {
		return err
	}
	var names []string
	for name := range f.Tables {
		names = append(names, pgx.Identifier{name}.Sanitize())
	}
	// Nothing is checked against other tables while they are filled one by one; triggers are the program's, and
	// made later.
	_, err = f.db.ExecContext(ctx, `truncate `+strings.Join(names, ", ")+`;
		create role `+filler+` login nosuperuser nocreatedb nocreaterole noreplication;
		alter role `+filler+` set session_replication_role = replica;
		revoke create, temporary on database `+currentDatabase(ctx, f.db)+` from public;
		revoke create on schema public from public;
		grant usage on schema public to `+filler+`;
		grant insert on `+strings.Join(names, ", ")+` to `+filler+`;
		grant update on all sequences in schema public to `+filler)
	return err
}

func currentDatabase(ctx context.Context, db *sql.DB) string {
	name := "postgres"
	if err := db.QueryRowContext(ctx, `select current_database()`).Scan(&name); err != nil {
		return "postgres" // what follows fails with the reason
	}
	return pgx.Identifier{name}.Sanitize()
}

// list notes the tables, without those that tell of the schema itself.
func (f *Filling) list(ctx context.Context) error {
	rows, err := f.db.QueryContext(ctx, `select relname from pg_class where relnamespace = 'public'::regnamespace
		and relkind in ('r', 'p') and relname <> all($1)`, []string{"goose_db_version", "functions"})
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return err
		}
		f.Tables[name] = true
	}
	return rows.Err()
}

// Done takes the role away.
func (f *Filling) Done(ctx context.Context) error {
	defer f.db.Close()
	_, err := f.db.ExecContext(ctx, `drop owned by `+filler+`; drop role `+filler+`; analyze`)
	return mapError(err)
}
