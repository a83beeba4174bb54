package catalog

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"strings"

	"spindle/internal/core/fault"
)

//go:embed functions/*.sql
var functionFiles embed.FS

var functionMade = regexp.MustCompile(`(?m)^create function (\w+)`)

// applyFunctions makes the functions of each file anew whose text changed since
// they were made last, and removes those that no file makes any more. The caller
// holds the migrations' lock.
func applyFunctions(ctx context.Context, conn *sql.Conn) error {
	tx, err := conn.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	entries, err := fs.ReadDir(functionFiles, "functions")
	if err != nil {
		return err
	}
	var files []string
	for _, e := range entries {
		if err := applyFunctionFile(ctx, tx, e.Name()); err != nil {
			return fmt.Errorf("functions of %s: %w", e.Name(), err)
		}
		files = append(files, e.Name())
	}
	if err := dropFunctions(ctx, tx, `select unnest(makes) from functions where file <> all($1)`, files); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `delete from functions where file <> all($1)`, files); err != nil {
		return err
	}
	return tx.Commit()
}

func applyFunctionFile(ctx context.Context, tx *sql.Tx, file string) error {
	raw, err := functionFiles.ReadFile("functions/" + file)
	if err != nil {
		return err
	}
	text := named(string(raw))
	digest := sha256.Sum256([]byte(text))
	var before []byte
	err = tx.QueryRowContext(ctx, `select digest from functions where file = $1`, file).Scan(&before)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	if bytes.Equal(before, digest[:]) {
		return nil
	}
	var makes []string
	for _, m := range functionMade.FindAllStringSubmatch(text, -1) {
		makes = append(makes, m[1])
	}
	// Those that the file made before and does not make now go too.
	if err := dropFunctions(ctx, tx, `select unnest(makes || $1) from functions where file = $2
		union select unnest($1::text[])`, makes, file); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, text); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `insert into functions (file, digest, makes) values ($1, $2, $3)
		on conflict (file) do update set digest = excluded.digest, makes = excluded.makes`, file, digest[:], makes)
	return err
}

// dropFunctions drops the functions whose names a query gives, whatever their
// arguments, and the triggers that call them.
func dropFunctions(ctx context.Context, tx *sql.Tx, names string, args ...any) error {
	rows, err := tx.QueryContext(ctx, `select oid::regprocedure::text from pg_proc
		where pronamespace = current_schema()::regnamespace and proname in (`+names+`)`, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	var drop strings.Builder
	for rows.Next() {
		var f string
		if err := rows.Scan(&f); err != nil {
			return err
		}
		fmt.Fprintf(&drop, "drop function %s cascade;\n", f)
	}
	if err := rows.Err(); err != nil || drop.Len() == 0 {
		return err
	}
	_, err = tx.ExecContext(ctx, drop.String())
	return err
}

// refuseNewer fails when the database was brought up to date by a later version of
// the service, whose tables this one does not know.
func refuseNewer(there, known int64) error {
	if there <= known {
		return nil
	}
	return fault.New(fault.Conflict, "database-newer",
		"the database's schema is number %d; this version of the service knows %d",
		there, known).In("database").Do("start the version of the service that ran last, or a later one")
}
