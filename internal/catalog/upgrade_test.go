package catalog_test

import (
	"database/sql"
	"os"
	"testing"

	"github.com/pressly/goose/v3"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/object"
	"spindle/internal/harness"
)

// before brings an empty database to a version of the schema and fills it as a
// service of that time would have.
func before(t *testing.T, url string, version int64, statements ...string) {
	t.Helper()
	db, err := sql.Open("pgx", url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	p, err := goose.NewProvider(goose.DialectPostgres, db, os.DirFS("migrations"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.UpTo(t.Context(), version); err != nil {
		t.Fatal(err)
	}
	for _, s := range statements {
		if _, err := db.ExecContext(t.Context(), s); err != nil {
			t.Fatalf("%s: %v", s, err)
		}
	}
}

// TestAccessComesToAnOlderDatabase upgrades one with keys, a session, a bucket, an
// object and an unfinished upload: all of it works as before, the first key's
// account operates, and nobody else gained anything.
func TestAccessComesToAnOlderDatabase(t *testing.T) {
	url := harness.EmptyDatabase(t)
	before(t, url, 4,
		`insert into accounts (name, created) values ('herbarium', now() - interval '3 years'), ('seed-lab', now())`,
		`insert into access_keys (id, account, name, sealed, active, created) select 'FIRST', id, 'owner', '\x01', true, now() - interval '3 years' from accounts where name = 'herbarium'`,
		`insert into access_keys (id, account, name, sealed, active) select 'SECOND', id, 'mill-writer', '\x02', false from accounts where name = 'seed-lab'`,
		`insert into sessions (token, key, forgery, created, expires) values ('\x0a', 'FIRST', 'f', now(), now() + interval '1 day')`,
		`insert into buckets (name, account, region, created, created_by) select 'plates', id, 'fenn', now(), 'FIRST' from accounts where name = 'herbarium'`,
		`insert into heads (bucket, key, created, size, md5, crc64, body_file, body_offset, written_by) select id, 'a', now(), 3, decode(repeat('00', 16), 'hex'), 7, 99, -1, 'FIRST' from buckets`,
		`insert into uploads (id, bucket, key, created, who) select 'up', id, 'b', now(), 'FIRST' from buckets`,
		// Functions of that time, which migrations made then.
		`create function commit_changes(p_kind smallint[]) returns void language sql as ''`,
		`create function roll_up_usage(p_limit integer) returns integer language sql as 'select 1'`,
	)
	c, err := catalog.Open(harness.Context(t), url)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	ctx := t.Context()
	first, err := c.Key(ctx, "FIRST")
	if err != nil || first == nil || !first.Operator || first.Role != access.Administrator || len(first.Limits) != 0 ||
		first.Expires != nil || !first.Active {
		t.Errorf("the first key: %+v, %v", first, err)
	}
	second, err := c.Key(ctx, "SECOND")
	if err != nil || second == nil || second.Operator || second.Active || second.Role != access.Administrator {
		t.Errorf("a key of another account: %+v, %v", second, err)
	}
	for name, operates := range map[string]bool{"herbarium": true, "seed-lab": false} {
		if a, err := c.Account(ctx, name); err != nil || a.Operator != operates || a.Quota != nil || a.MaxBuckets != nil {
			t.Errorf("%s: %+v, %v", name, a, err)
		}
	}
	if list, err := c.Sessions(ctx, "", 0, 10); err != nil || len(list) != 0 {
		t.Errorf("sessions of before: %+v, %v", list, err)
	}
	b, err := c.Bucket(ctx, plates)
	if err != nil || b.Sealing || b.Account != "herbarium" {
		t.Errorf("%+v, %v", b, err)
	}
	f, err := c.Lookup(ctx, catalog.Address{Bucket: plates, Key: object.MustKey("a")})
	if v := f.Version; err != nil || v == nil || v.Size != 3 || v.Body.Sealed() {
		t.Errorf("an object of before: %+v, %v", f, err)
	}
	u, err := c.Upload(ctx, b.ID, object.MustKey("b"), "up")
	if err != nil || u.Sealed {
		t.Errorf("an upload of before: %+v, %v", u, err)
	}
	if all, err := c.AllGrants(ctx); err != nil || len(all) != 0 {
		t.Errorf("grants: %+v, %v", all, err)
	}
	if n, sealed, err := c.BodyKey(ctx, 0); n != 0 || sealed != nil || err != nil {
		t.Errorf("a body key: %d, %v", n, err)
	}
	// A second start finds nothing to do.
	again, err := catalog.Open(harness.Context(t), url)
	if err != nil {
		t.Fatal(err)
	}
	again.Close()
}

// Metadata that was kept as it travels is text afterwards, in whichever encoded words (RFC 2047),
// and what only looks like them stays.
func TestMetadataBecomesText(t *testing.T) {
	url := harness.EmptyDatabase(t)
	before(t, url, 31,
		`insert into accounts (name, created) values ('herbarium', now())`,
		`insert into buckets (name, account, region, created, created_by) select 'plates', id, 'fenn', now(), 'FIRST' from accounts`,
		`insert into heads (bucket, key, created, size, md5, crc64, body_file, body_offset, written_by, metadata)
			select id, 'a', now(), 3, decode(repeat('00', 16), 'hex'), 7, 99, -1, 'FIRST', '{"place": "=?utf-8?b?w5ZkbWFyaw==?=",
			"long": "=?utf-8?b?w5ZkbWFyaw==?= =?utf-8?b?w5ZkbWFyaw==?=", "among": "at =?UTF-8?Q?=C3=96d_mark?= then",
			"none": "=?utf-8?b?not base64?=", "latin": "=?iso-8859-1?q?=D6?=", "plain": "Calluna"}' from buckets`)
	c, err := catalog.Open(harness.Context(t), url)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	f, err := c.Lookup(t.Context(), catalog.Address{Bucket: plates, Key: object.MustKey("a")})
	if err != nil || f.Version == nil {
		t.Fatalf("%+v, %v", f, err)
	}
	for name, want := range map[string]string{"place": "Ödmark", "long": "ÖdmarkÖdmark", "among": "at Öd mark then",
		"none": "=?utf-8?b?not base64?=", "latin": "=?iso-8859-1?q?=D6?=", "plain": "Calluna"} {
		if got := f.Version.Metadata[name]; got != want {
			t.Errorf("%s is %q, want %q", name, got, want)
		}
	}
}
