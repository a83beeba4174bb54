package catalog

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
)

// hotReserve is how many connections of batches stay open, whatever others do.
const hotReserve = 2

// openMost is how many connections there are at the most beside those of batches.
const openMost = 24

// crowdedFor is for how long no further connection is asked for after the server had none left.
const crowdedFor = 10 * time.Second

// crowd makes connections, and has those that are open be shared while the server has no further one: whoever asks
// waits for one of them rather than fail.
type crowd struct {
	driver.Connector
	db    atomic.Pointer[sql.DB]
	until atomic.Int64
}

// Connect opens a connection. While the server has none left and others of ours are open, it has the pool wait for
// one of those.
func (c *crowd) Connect(ctx context.Context) (driver.Conn, error) {
	conn, err := c.Connector.Connect(ctx)
	db := c.db.Load()
	if err == nil || !noneLeft(err) || db == nil {
		return conn, err
	}
	open := db.Stats().OpenConnections - 1 // this one counts already
	if open < 1 {
		return nil, err
	}
	db.SetMaxOpenConns(open)
	until := time.Now().Add(crowdedFor)
	c.until.Store(until.UnixNano())
	time.AfterFunc(crowdedFor, func() {
		if c.until.Load() == until.UnixNano() {
			db.SetMaxOpenConns(openMost)
		}
	})
	return nil, driver.ErrBadConn // the pool asks again, and waits
}

// shared tries again while the server has no further connection: one of ours comes to be free.
func shared(ctx context.Context, f func() error) error {
	for {
		err := f()
		if err == nil || !noneLeft(err) {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// noneLeft reports whether others have all connections of the server.
func noneLeft(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == "53300"
}
