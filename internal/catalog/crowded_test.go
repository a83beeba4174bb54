package catalog_test

import (
	"context"
	"database/sql"
	"fmt"
	"net/url"
	"testing"
	"time"

	"golang.org/x/sync/errgroup"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/harness"
)

// Others take all connections that the server has left: what asks shares those that are open, nothing fails, and the
// catalog says that it is well; a catalog that has none open says so.
func TestConnectionsAreTaken(t *testing.T) {
	address := harness.EmptyDatabase(t)
	admin, err := sql.Open("pgx", address)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { admin.Close() })
	u, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	role, name := fmt.Sprint("crowd_", u.Path[1:]), u.Path[1:]
	for _, q := range []string{"create role " + role + " login connection limit 16", "grant pg_read_all_stats to " + role,
		"alter database " + name + " owner to " + role, "alter schema public owner to " + role} {
		if _, err := admin.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
	q := u.Query()
	if q.Get("user") != "" {
		q.Set("user", role)
		u.RawQuery = q.Encode()
	} else {
		u.User = url.User(role)
	}
	c, err := catalog.Open(harness.Context(t), u.String())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		c.Close()
		for _, q := range []string{"drop database if exists " + name + " with (force)", "drop role " + role} {
			_, _ = admin.Exec(q) // the database goes by itself, too
		}
	})
	var others []*sql.DB
	for range 20 {
		db, err := sql.Open("pgx", u.String())
		if err != nil {
			t.Fatal(err)
		}
		db.SetMaxOpenConns(1)
		if err := db.Ping(); err != nil {
			db.Close()
			break
		}
		others = append(others, db)
	}
	if len(others) == 0 || len(others) == 20 {
		t.Fatalf("others have %d connections", len(others))
	}
	var all errgroup.Group
	all.SetLimit(40)
	for i := range 400 {
		all.Go(func() error {
			ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
			defer stop()
			if i%20 == 0 {
				return c.Try(ctx)
			}
			if i%2 == 0 {
				_, err := c.Accounts(ctx, "", 10)
				return err
			}
			b, err := object.ParseBucketName(fmt.Sprint("bucket-", i))
			if err == nil {
				_, err = c.Bucket(ctx, b)
			}
			if fault.KindOf(err) == fault.NotFound {
				err = nil
			}
			return err
		})
	}
	if err := all.Wait(); err != nil {
		t.Error(err)
	}
	for _, db := range others {
		db.Close()
	}
}
