package server

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/gate"
	"spindle/internal/keyring"
	"spindle/internal/store"
	"spindle/internal/wire/sign"
)

// Settings of the wire.
type Settings struct {
	Domains      []string // for host style: bucket.DOMAIN
	StrictRegion bool     // refuse scopes that name another region
	Origins      []string // that browsers may call from; "*" for any
	SlowAfter    time.Duration
	SlowRate     int64 // bytes a second that a client must move, on average, once SlowAfter has passed
	HeaderWait   time.Duration
	Observe      func(op string, status int, took time.Duration, in, out int64)
}

// Limits of a request.
const (
	maxHeaderBytes  = 8 << 10 // of all header fields, as the dialect has it; the address is not counted
	hardHeaderBytes = 64 << 10
)

// Server answers the dialect.
type Server struct {
	store    *store.Store
	gate     *gate.Gate
	settings Settings
	log      *slog.Logger
	now      func() time.Time
	requests atomic.Uint64
	boot     string
}

// New makes a server of a store.
func New(s *store.Store, g *gate.Gate, settings Settings, log *slog.Logger) *Server {
	if settings.SlowAfter == 0 {
		settings.SlowAfter = 30 * time.Second
	}
	if settings.SlowRate == 0 {
		settings.SlowRate = 1 << 10
	}
	if settings.HeaderWait == 0 {
		settings.HeaderWait = 10 * time.Second
	}
	b := make([]byte, 4)
	_, _ = rand.Read(b)
	return &Server{store: s, gate: g, settings: settings, log: log, now: time.Now, boot: strings.ToUpper(hex.EncodeToString(b))}
}

// HTTP gives an http.Server with the wire's limits.
func (s *Server) HTTP() *http.Server {
	return &http.Server{
		Handler:           s,
		ReadHeaderTimeout: s.settings.HeaderWait,
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    hardHeaderBytes,
		ErrorLog:          slog.NewLogLogger(s.log.Handler(), slog.LevelDebug),
	}
}

// request is one request under way.
type request struct {
	s       *Server
	w       http.ResponseWriter
	r       *http.Request
	rc      *http.ResponseController
	id      string
	op      string
	query   url.Values
	auth    *sign.Auth
	key     *keyring.Key // nil when the request is not signed
	subject access.Subject
	owned   string       // the account that owns the bucket, or else that asks
	again   func() error // asks again whether the transfer may go on
	bucket  object.BucketName
	name    string // the key as it came; "" for a bucket
	isHost  bool
	status  int
	in      *paced
	out     int64
}

func (q *request) ctx() context.Context { return q.r.Context() }

func (q *request) author() catalog.Author {
	host, _, _ := net.SplitHostPort(q.r.RemoteAddr)
	who := "anyone"
	if q.key != nil {
		who = q.key.ID
	}
	return catalog.Author{Who: who, Source: host}
}

// address parses the key of the request.
func (q *request) address() (catalog.Address, error) {
	k, err := object.ParseKey(q.name)
	return catalog.Address{Bucket: q.bucket, Key: k}, err
}

func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	start := time.Now()
	q := &request{s: s, w: w, r: r, rc: http.NewResponseController(w), op: "unknown"}
	q.id = s.boot + strings.ToUpper(hex.EncodeToString(be(s.requests.Add(1))))
	h := w.Header()
	h["X-Amz-Request-Id"] = []string{q.id}
	h["Server"] = []string{"Spindle"}
	q.in = &paced{r: r.Body, rc: q.rc, after: s.settings.SlowAfter, rate: s.settings.SlowRate}
	r.Body = q.in
	defer func() {
		if p := recover(); p != nil {
			if p == http.ErrAbortHandler {
				panic(p)
			}
			s.log.Error("a request broke", "op", q.op, "request", q.id, "panic", p)
			q.fail(fault.New(fault.Internal, "internal", "something went wrong inside the service"))
		}
		if s.settings.Observe != nil {
			s.settings.Observe(q.op, q.status, time.Since(start), q.in.n, q.out)
		}
		if s.log.Enabled(context.Background(), slog.LevelDebug) {
			s.log.Debug("wire", "op", q.op, "method", r.Method, "path", r.URL.EscapedPath(), "status", q.status, "took", time.Since(start), "request", q.id)
		}
	}()
	if err := q.serve(); err != nil {
		q.fail(err)
	}
}

func be(n uint64) []byte {
	return []byte{byte(n >> 40), byte(n >> 32), byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)}
}

func (q *request) serve() error {
	size := 0
	for name, values := range q.r.Header {
		for _, v := range values {
			size += len(name) + len(v) + 4
		}
	}
	if size > maxHeaderBytes {
		return fault.New(fault.Invalid, "headers-too-large", "the request's header has %d bytes; %d are allowed", size, maxHeaderBytes).In("header").Do("send less metadata")
	}
	q.cors()
	if q.r.Method == http.MethodOptions {
		return q.preflight()
	}
	var err error
	if q.query, err = url.ParseQuery(q.r.URL.RawQuery); err != nil {
		return fault.New(fault.Invalid, "query", "the query cannot be read").In("query").Because(err)
	}
	bucketErr := q.target()
	if err := q.authenticate(); err != nil {
		return err
	}
	if bucketErr != nil {
		return bucketErr
	}
	n := q.operation()
	if n.op == nil {
		q.op = "unsupported"
		if q.key == nil {
			return unsigned()
		}
		return notImplemented("this operation")
	}
	if err := q.allowed(n.need); err != nil {
		return err
	}
	q.owned = q.subject.Account
	if !q.bucket.IsZero() && !n.need.admin {
		if q.owned, err = q.s.store.Owner(q.ctx(), q.bucket); err != nil {
			return err
		}
	}
	q.in.again = q.again
	return n.op(q)
}

func unsigned() error {
	return fault.New(fault.Unsigned, "unsigned", "the request is not signed").In("authorization").Do("sign it with an access key; only reading what was opened to anyone needs none")
}

// target finds bucket and key in host and path. The path is not cleaned: "..",
// empty parts and trailing slashes belong to the key.
func (q *request) target() error {
	path := strings.TrimPrefix(q.r.URL.Path, "/")
	host := q.r.Host
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	bucket := ""
	for _, d := range q.s.settings.Domains {
		if b, ok := strings.CutSuffix(strings.ToLower(host), "."+d); ok {
			bucket, q.name, q.isHost = b, path, true
			break
		}
	}
	if !q.isHost {
		bucket, q.name, _ = strings.Cut(path, "/")
	}
	if bucket == "" {
		if q.name != "" {
			return fault.New(fault.Invalid, "bucket-name", "the path names no bucket").In("bucket").Do("begin the path with the bucket's name")
		}
		return nil
	}
	var err error
	q.bucket, err = object.ParseBucketName(bucket)
	return err
}

func (q *request) authenticate() error {
	auth, err := sign.Parse(q.r)
	if err != nil {
		return err
	}
	if auth == nil {
		q.auth = &sign.Auth{Payload: sign.Unsigned}
		return nil
	}
	if q.key, err = q.s.gate.Key(q.ctx(), auth.KeyID); err != nil {
		return err
	}
	if err := auth.Verify(q.r, q.key.Secret, q.s.now()); err != nil {
		return err
	}
	if err := q.s.gate.Use(q.key, q.author().Source, time.Now()); err != nil {
		return err
	}
	q.subject = q.key.Subject()
	if q.s.settings.StrictRegion && auth.Region != q.s.store.Region {
		return fault.New(fault.Invalid, "region", "the request is signed for the region %q; this is %q", auth.Region, q.s.store.Region).In("region").Do("set the client's region to %s", q.s.store.Region)
	}
	q.auth = auth
	return nil
}

// noBody answers with a status and no body.
func (q *request) noBody(status int) error {
	q.status = status
	q.w.WriteHeader(status)
	return nil
}

// xml answers 200 with a document.
func (q *request) xml(d *doc) error {
	q.status = http.StatusOK
	h := q.w.Header()
	h.Set("Content-Type", "application/xml")
	b := d.bytes()
	q.out = int64(len(b))
	h.Set("Content-Length", strconv.Itoa(len(b)))
	_, err := q.w.Write(b)
	if err != nil {
		q.s.log.Debug("a client left before its answer", "request", q.id, "error", err)
	}
	return nil
}

func (q *request) cors() {
	origin := q.r.Header.Get("Origin")
	if origin == "" || !q.originAllowed(origin) {
		return
	}
	h := q.w.Header()
	h.Set("Access-Control-Allow-Origin", origin)
	h.Add("Vary", "Origin")
	h.Set("Access-Control-Expose-Headers", "ETag, Content-Length, Content-Range, Accept-Ranges, Last-Modified, x-amz-request-id, x-amz-version-id, x-amz-delete-marker, x-amz-tagging-count, x-amz-checksum-crc64nvme, x-amz-checksum-sha256")
}

func (q *request) originAllowed(origin string) bool {
	return slices.Contains(q.s.settings.Origins, "*") || slices.Contains(q.s.settings.Origins, origin)
}

// preflight answers a browser that asks what it may send (Fetch, section 4.8).
func (q *request) preflight() error {
	q.op = "Preflight"
	origin := q.r.Header.Get("Origin")
	if origin == "" || q.r.Header.Get("Access-Control-Request-Method") == "" || !q.originAllowed(origin) {
		return fault.New(fault.Refused, "origin", "pages of this origin may not call the service").In("Origin").Do("have the operator add the origin to the cross-origin setting")
	}
	h := q.w.Header()
	h.Set("Access-Control-Allow-Methods", "GET, HEAD, PUT, POST, DELETE")
	if v := q.r.Header.Get("Access-Control-Request-Headers"); v != "" {
		h.Set("Access-Control-Allow-Headers", v)
	}
	h.Set("Access-Control-Max-Age", "3600")
	return q.noBody(http.StatusOK)
}

// paced reads a request's body and gives up on a client that sends too slowly.
type paced struct {
	r     io.ReadCloser
	rc    *http.ResponseController
	after time.Duration
	rate  int64
	n     int64
	begun time.Time
	set   time.Time
	again func() error // nil until it is known who asks
}

func (p *paced) Read(b []byte) (int, error) {
	now := time.Now()
	if p.begun.IsZero() {
		p.begun = now
	}
	// The client has earned time with what it sent: it may be quiet until then.
	allowed := p.begun.Add(p.after + time.Duration(float64(p.n)/float64(p.rate)*float64(time.Second)))
	if most := now.Add(p.after); allowed.After(most) {
		allowed = most
	}
	if now.After(allowed) {
		return 0, slow(nil)
	}
	if now.Sub(p.set) > p.after/8 {
		p.set = now
		_ = p.rc.SetReadDeadline(allowed) // without deadlines there is only the average
	}
	if p.again != nil {
		if err := p.again(); err != nil {
			return 0, err
		}
	}
	n, err := p.r.Read(b)
	p.n += int64(n)
	if ne, ok := err.(net.Error); ok && ne.Timeout() {
		err = slow(err)
	}
	return n, err
}

func (p *paced) Close() error { return p.r.Close() }

func slow(err error) error {
	return fault.New(fault.Slow, "slow", "the body did not arrive in time").In("body").Do("send it again; the connection is too slow or was idle").Because(err)
}

// between gives a function that lets each stretch of an answer take its time,
// and no longer.
func (q *request) between() func() {
	return func() {
		_ = q.rc.SetWriteDeadline(time.Now().Add(4 * q.s.settings.SlowAfter))
		if q.again != nil && q.again() != nil {
			panic(http.ErrAbortHandler) // the answer is under way: what is left of it may not be read
		}
	}
}
