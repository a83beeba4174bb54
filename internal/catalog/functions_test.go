package catalog_test

import (
	"testing"

	"github.com/jmoiron/sqlx"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/harness"
)

// TestFunctionsFollowTheirFiles opens a database in which functions are not what
// their files say: one was changed, one is left over from a file that is gone, and
// a trigger went with its function. All are as they should be afterwards.
func TestFunctionsFollowTheirFiles(t *testing.T) {
	url := harness.EmptyDatabase(t)
	open := func() {
		t.Helper()
		c, err := catalog.Open(harness.Context(t), url)
		if err != nil {
			t.Fatal(err)
		}
		c.Close()
	}
	open()
	db := sqlx.MustOpen("pgx", url)
	defer db.Close()
	db.MustExec(`create or replace function used_bytes(p_bucket bigint) returns bigint language sql as 'select 7::bigint'`)
	db.MustExec(`update functions set digest = 'of another text' where file = 'usage.sql'`)
	db.MustExec(`create function left_over() returns integer language sql as 'select 1'`)
	db.MustExec(`insert into functions (file, digest, makes) values ('gone.sql', '', '{left_over}')`)
	db.MustExec(`drop function mark_changed cascade`)
	db.MustExec(`delete from functions where file = 'marks.sql'`)
	open()
	var used, leftOver, triggers int
	if err := db.QueryRowx(`select used_bytes(1), (select count(*) from pg_proc where proname = 'left_over'),
		(select count(*) from pg_trigger where tgname in ('mark_changed',
			'mark_made'))`).Scan(&used, &leftOver, &triggers); err != nil {
		t.Fatal(err)
	}
	if used != 0 || leftOver != 0 || triggers != 12 {
		t.Errorf("used_bytes gives %d, %d functions are left over, %d triggers", used, leftOver, triggers)
	}

	// The schema of a later version is not touched.
	db.MustExec(`insert into goose_db_version (version_id, is_applied) values (999, true)`)
	if _, err := catalog.Open(harness.Context(t), url); !fault.HasCode(err, "database-newer") {
		t.Errorf("a database of a later version: %v", err)
	}
}
