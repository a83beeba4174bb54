package catalog

import (
	"context"
	"net"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"golang.org/x/sys/unix"
)

// How long the database is waited for. The server ends a statement after statementFor; what
// the server does not end, as it hangs or the way to it does, this side ends.
const (
	statementFor = 60 * time.Second
	// silentFor is how long a connection may say nothing that is waited for.
	silentFor = statementFor + 10*time.Second
	// unheardFor is how long what was sent may stay without the other machine's word for it.
	unheardFor = 20 * time.Second
	// answerFor is how long a batch of changes or lookups may take.
	answerFor = 20 * time.Second
	// connectFor is how long it may take to connect.
	connectFor = 5 * time.Second
)

// Dial opens a connection to the database's server. Tests put faults behind it.
type Dial func(ctx context.Context, network, address string) (net.Conn, error)

// dial connects with limits: a peer that is gone is found out by the kernel, one that is
// there and says nothing by the connection.
func dial(ctx context.Context, network, address string) (net.Conn, error) {
	d := net.Dialer{Timeout: connectFor, KeepAliveConfig: net.KeepAliveConfig{Enable: true, Idle: 10 * time.Second,
		Interval: 5 * time.Second, Count: 3}}
	if network != "unix" {
		d.Control = func(_, _ string, c syscall.RawConn) (err error) {
			failed := c.Control(func(fd uintptr) {
				err = unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_USER_TIMEOUT, int(unheardFor.Milliseconds()))
			})
			if failed != nil {
				return failed
			}
			return err
		}
	}
	return d.DialContext(ctx, network, address)
}

// impatient gives connections that break off when they say nothing for too long while they
// are read from.
func impatient(d Dial, silence time.Duration) Dial {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		c, err := d(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return &impatientConn{Conn: c, silence: silence}, nil
	}
}

type impatientConn struct {
	net.Conn
	silence time.Duration

	mu    sync.Mutex
	asked time.Time // the deadline that the user set; zero for none
	own   time.Time // that of the read under way
}

func (c *impatientConn) Read(b []byte) (int, error) {
	c.mu.Lock()
	c.own = time.Now().Add(c.silence)
	err := c.Conn.SetReadDeadline(c.sooner())
	c.mu.Unlock()
	if err != nil {
		return 0, err
	}
	return c.Conn.Read(b)
}

// sooner gives the deadline that comes first.
func (c *impatientConn) sooner() time.Time {
	if !c.asked.IsZero() && c.asked.Before(c.own) {
		return c.asked
	}
	return c.own
}

func (c *impatientConn) SetReadDeadline(t time.Time) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.asked = t
	return c.Conn.SetReadDeadline(c.sooner())
}

func (c *impatientConn) SetDeadline(t time.Time) error {
	if err := c.Conn.SetWriteDeadline(t); err != nil {
		return err
	}
	return c.SetReadDeadline(t)
}

// hotConnections is how many connections batches of changes and lookups have for themselves.
const hotConnections = 8

// openHot makes the connections that batches use, with the driver itself: what a put and a
// get wait for.
func openHot(ctx context.Context, cfg *pgx.ConnConfig) (*pgxpool.Pool, error) {
	p, err := pgxpool.ParseConfig("")
	if err != nil {
		return nil, err
	}
	p.ConnConfig = cfg.Copy()
	p.ConnConfig.RuntimeParams["plan_cache_mode"] = "force_generic_plan"
	p.MaxConns, p.MaxConnIdleTime = hotConnections, 5*time.Minute
	p.MinConns = hotReserve // when others take what the server has, requests go on with these
	p.AfterConnect = func(ctx context.Context, conn *pgx.Conn) error {
		if err := knowTypes(ctx, conn); err != nil {
			return err
		}
		var b backend
		err := conn.QueryRow(ctx, `select pid, backend_start from pg_stat_activity where pid = pg_backend_pid()`).
			Scan(&b.pid, &b.born)
		conn.PgConn().CustomData()[backendKey] = b
		return err
	}
	return pgxpool.NewWithConfig(ctx, p)
}
