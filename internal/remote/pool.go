package remote

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"spindle/internal/catalog"
	"spindle/internal/core/endpoint"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

// Secrets opens and seals what stands in the catalog.
type Secrets interface {
	OpenSecret(name string, sealed []byte) (string, error)
	SealSecret(name, secret string) ([]byte, error)
}

// Pool has the connections to endpoints.
type Pool struct {
	catalog *catalog.Catalog
	secrets Secrets
	reach   Reach

	mu    sync.Mutex
	known map[int64]knownConn
}

// knownConn is believed while the endpoints' mark is what it was before it was read.
type knownConn struct {
	*Conn
	mark int64
}

// Secrets gives what opens and seals secrets in the catalog.
func (p *Pool) Secrets() Secrets { return p.secrets }

// NewPool makes a pool. Endpoints beside public addresses are reached as reach says.
func NewPool(c *catalog.Catalog, secrets Secrets, reach Reach) *Pool {
	return &Pool{catalog: c, secrets: secrets, reach: reach, known: map[int64]knownConn{}}
}

// Conn is an endpoint that can be asked.
type Conn struct {
	endpoint.Endpoint // as it was when the connection was made
	Client            *client.Client
	Circuit           Circuit
	limit             *rate.Limiter
	catalog           *catalog.Catalog // where uploads that are under way stand; nil: nowhere
}

// OfAccount gives the connection to an endpoint of an account by its name. The error for
// none has the code endpoint-missing.
func (p *Pool) OfAccount(ctx context.Context, account, name string) (*Conn, error) {
	mark, err := p.catalog.Mark(ctx, catalog.MarkEndpoints)
	if err != nil {
		return nil, err
	}
	e, err := p.catalog.Endpoint(ctx, account, name)
	if err != nil {
		return nil, err
	}
	return p.conn(e, mark)
}

// Get gives the connection to an endpoint, as it is known for a second. The error for one
// that is not there has the code endpoint-missing.
func (p *Pool) Get(ctx context.Context, id int64) (*Conn, error) {
	mark, err := p.catalog.Mark(ctx, catalog.MarkEndpoints)
	if err != nil {
		return nil, err
	}
	p.mu.Lock()
	c, ok := p.known[id]
	p.mu.Unlock()
	if ok && c.mark == mark {
		return c.Conn, nil
	}
	e, err := p.catalog.EndpointByID(ctx, id)
	if err != nil {
		return nil, err
	}
	return p.conn(e, mark)
}

// conn gives the connection to an endpoint as it is, the one that is known when nothing
// changed.
func (p *Pool) conn(e *endpoint.Endpoint, mark int64) (*Conn, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	was, ok := p.known[e.ID]
	if ok && was.Revision == e.Revision {
		p.known[e.ID] = knownConn{was.Conn, mark}
		return was.Conn, nil
	}
	secret, err := p.secrets.OpenSecret(catalog.EndpointSecret(e.ID), e.Sealed)
	if err != nil {
		return nil, err
	}
	c := p.open(e, secret)
	c.catalog = p.catalog
	if ok {
		time.AfterFunc(time.Minute, was.close) // who uses it goes on
	}
	p.known[e.ID] = knownConn{c, mark}
	return c, nil
}

func (p *Pool) open(e *endpoint.Endpoint, secret string) *Conn {
	c := &Conn{Endpoint: *e}
	if e.Bandwidth > 0 {
		c.limit = rate.NewLimiter(rate.Limit(e.Bandwidth), int(min(max(e.Bandwidth/4, 16<<10), 1<<20)))
	}
	t := client.Transport()
	t.Proxy = nil                             // what is reached is decided here
	t.ResponseHeaderTimeout = 2 * time.Minute // an upload of many parts takes a while to be put together
	t.DialContext = func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := p.Dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return &limited{conn, c.limit}, nil
	}
	base, err := url.Parse(e.URL)
	if err != nil {
		base = &url.URL{Scheme: "http", Host: "invalid"} // the catalog holds addresses that were read
	}
	c.Client = &client.Client{Base: base, HostStyle: e.Style == endpoint.Host, Region: e.Region,
		Key: sign.Credential{ID: e.KeyID, Secret: secret}, HTTP: &http.Client{Transport: t,
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
	return c
}

func (c *Conn) close() { c.Client.HTTP.CloseIdleConnections() }

// Dial connects to an address that an endpoint may have.
func (p *Pool) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	return (&Dialer{Timeout: 10 * time.Second, Allow: p.reach.Allows}).Dial(ctx, network, address)
}

// limited is a connection whose bytes are counted against a limit, both ways, and that
// does not stall for ever.
type limited struct {
	net.Conn
	limit *rate.Limiter
}

// stall is how long a connection may make no progress.
const stall = time.Minute

func (l *limited) Read(p []byte) (int, error) {
	if err := l.SetReadDeadline(time.Now().Add(10 * stall)); err != nil { // idle connections wait in here too
		return 0, err
	}
	if l.limit != nil {
		p = p[:min(len(p), l.limit.Burst())]
	}
	n, err := l.Conn.Read(p)
	l.wait(n)
	return n, err
}

func (l *limited) Write(p []byte) (n int, err error) {
	for n < len(p) && err == nil {
		piece := p[n:]
		if l.limit != nil {
			piece = piece[:min(len(piece), l.limit.Burst())]
		}
		l.wait(len(piece))
		if err := l.SetWriteDeadline(time.Now().Add(stall)); err != nil {
			return n, err
		}
		var k int
		k, err = l.Conn.Write(piece)
		n += k
	}
	return n, err
}

func (l *limited) wait(n int) {
	if l.limit == nil || n == 0 {
		return
	}
	time.Sleep(l.limit.ReserveN(time.Now(), n).Delay())
}

// ReadFrom keeps io.Copy from going round the limit.
func (l *limited) ReadFrom(r io.Reader) (int64, error) {
	return io.CopyBuffer(struct{ io.Writer }{l}, r, make([]byte, 64<<10))
}

// Reach says which addresses endpoints may have beside public ones.
type Reach struct {
	nets []netip.Prefix
}

var reachNames = map[string][]string{
	"loopback": {"127.0.0.0/8", "::1/128"},
	"private":  {"10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "fc00::/7"}, // RFC 1918, 6598, 4193
}

// ParseReach reads names (loopback, private) and networks such as 10.4.0.0/16. The error
// for what is neither has the code reach.
func ParseReach(names []string) (Reach, error) {
	var r Reach
	for _, name := range names {
		list, ok := reachNames[name]
		if !ok {
			list = []string{name}
		}
		for _, s := range list {
			n, err := netip.ParsePrefix(s)
			if err != nil {
				return r, reachError(name)
			}
			r.nets = append(r.nets, n)
		}
	}
	return r, nil
}

// Allows reports whether an address may be reached.
func (r Reach) Allows(a netip.AddrPort) bool {
	typed, ip := a.Addr().Unmap(), inner(a.Addr())
	for _, n := range r.nets {
		if n.Contains(ip) || n.Contains(typed) {
			return true
		}
	}
	for _, n := range special {
		if n.Contains(ip) {
			return false
		}
	}
	for _, list := range reachNames {
		for _, s := range list {
			if netip.MustParsePrefix(s).Contains(ip) {
				return false
			}
		}
	}
	return ip.IsGlobalUnicast()
}
