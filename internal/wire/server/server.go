package server

import (
	"context"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/door"
	"spindle/internal/gate"
	"spindle/internal/keyring"
	"spindle/internal/store"
	"spindle/internal/wire/sign"
)

// Settings of the wire.
type Settings struct {
	Domains      []string // for host style: bucket.DOMAIN
	TLS          bool     // whether it is served over TLS
	StrictRegion bool     // refuse scopes that name another region
	Origins      []string // that browsers may call from; "*" for any
	Observe      func(op string, status int, took time.Duration, in, out int64)
}

// Limits of a request.
const (
	maxHeaderBytes = 8 << 10 // of all header fields, as the dialect has it; the address is not counted

	// What askers may have in memory at a time, in listings that are written and
	// documents that are read.
	heldByEach = 48 << 20
	heldByAll  = 512 << 20
)

// Server answers the dialect.
type Server struct {
	store    *store.Store
	gate     *gate.Gate
	settings Settings
	log      *slog.Logger
	now      func() time.Time
	ids      *door.RequestIDs
	held     *door.Budget
	building chan struct{} // pages of listings that are being read and written down
}

// New makes a server of a store.
func New(s *store.Store, g *gate.Gate, settings Settings, log *slog.Logger) *Server {
	return &Server{store: s, gate: g, settings: settings, log: log, now: time.Now,
		ids: door.NewRequestIDs(), held: door.NewBudget(heldByEach, heldByAll),
		building: make(chan struct{}, 2*runtime.GOMAXPROCS(0))}
}

// freely is the size of documents that nobody has to have room for.
const freely = 64 << 10

// request is one request under way.
type request struct {
	s       *Server
	w       http.ResponseWriter
	r       *http.Request
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
	held    int64      // memory that is reserved for the request
	gives   []func()   // give it back
	builds  bool       // it has its turn at building a page
	in      *door.Body // nil when the request has none
	out     int64
}

func (q *request) ctx() context.Context { return q.r.Context() }

func (q *request) author() catalog.Author {
	host, _, _ := net.SplitHostPort(q.r.RemoteAddr)
	return catalog.Author{Who: q.subject.By(), Source: host}
}

// address parses the key of the request.
func (q *request) address() (catalog.Address, error) {
	k, err := object.ParseKey(q.name)
	return catalog.Address{Bucket: q.bucket, Key: k}, err
}

func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	start := time.Now()
	w = &spelled{ResponseWriter: w}
	q := &request{s: s, w: w, r: r, in: door.BodyOf(r), op: "unknown"}
	q.id = s.ids.Next()
	h := w.Header()
	own := []string{q.id, s.ids.Process(), "Spindle"}
	h["x-amz-request-id"], h["x-amz-id-2"], h["Server"] = own[:1:1], own[1:2:2], own[2:]
	defer func() {
		q.built()
		for _, giveBack := range q.gives {
			giveBack()
		}
		if p := recover(); p != nil {
			if p == http.ErrAbortHandler {
				panic(p)
			}
			s.log.Error("a request broke", "op", q.op, "request", q.id, "panic", p)
			q.fail(fault.New(fault.Internal, "internal", "something went wrong inside the service"))
		}
		if s.settings.Observe != nil {
			s.settings.Observe(q.op, q.status, time.Since(start), q.in.Received(), q.out)
		}
		q.counted()
		if s.log.Enabled(context.Background(), slog.LevelDebug) {
			s.log.Debug("wire", "op", q.op, "method", r.Method, "path", r.URL.EscapedPath(), "status", q.status, "took",
				time.Since(start), "request", q.id)
		}
	}()
	if err := q.serve(); err != nil {
		q.fail(err)
	}
}

// counted has the request counted, when it is known who made it, and of which bucket.
func (q *request) counted() {
	if q.bucket.String() == "" || q.subject.By() == "" {
		return
	}
	kind := catalog.RequestOther
	switch m := q.r.Method; {
	case q.name == "" && (m == http.MethodGet || m == http.MethodHead):
		kind = catalog.RequestList
	case q.name != "" && (m == http.MethodGet || m == http.MethodHead):
		kind = catalog.RequestRead
	case q.name != "" && (m == http.MethodPut || m == http.MethodPost):
		kind = catalog.RequestWrite
	}
	q.s.store.Catalog.CountRequest(catalog.Request{Bucket: q.bucket.String(), Who: q.subject.By(), Kind: kind,
		Failed: q.status >= 400,
		In:     q.in.Received(), Out: q.out})
}

func (q *request) serve() error {
	size := 0
	for name, values := range q.r.Header {
		for _, v := range values {
			size += len(name) + len(v) + 4
		}
	}
	if size > maxHeaderBytes {
		return fault.New(fault.Invalid, "headers-too-large", "the request's header has %d bytes; %d are allowed", size,
			maxHeaderBytes).In("header").Do("send less metadata")
	}
	q.cors()
	if q.r.Method == http.MethodOptions {
		return q.preflight()
	}
	if err := sign.Once(q.r); err != nil {
		return err
	}
	var err error
	if q.query, err = url.ParseQuery(q.r.URL.RawQuery); err != nil {
		return fault.New(fault.Invalid, "query", "the query cannot be read").In("query").Because(err)
	}
	bucketErr := q.target()
	if err := q.authenticate(); err != nil {
		return err
	}
	if err := sign.MovedHeaders(q.r); err != nil {
		return err
	}
	if bucketErr != nil {
		return bucketErr
	}
	n := q.operation()
	if n.do == nil {
		q.op = "unsupported"
		if q.key == nil {
			return unsigned()
		}
		return q.unsupported()
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
	if q.in != nil {
		q.in.Again = q.again
	}
	return n.do(q)
}

func unsigned() error {
	return fault.New(fault.Unsigned, "unsigned", "the request is not signed").In("authorization").
		Do("sign it with an access key; only reading what was opened to anyone needs none")
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
			return fault.New(fault.Invalid, "bucket-name", "the path names no bucket").In("bucket").
				Do("begin the path with the bucket's name")
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
	source := q.author().Source
	if err := q.s.gate.Verify(q.key, source,
		func(secret string) error { return auth.Verify(q.r, secret, q.s.now()) }); err != nil {
		return err
	}
	if err := q.s.gate.Use(q.key, source, time.Now()); err != nil {
		return err
	}
	q.subject = q.key.Subject()
	door.Trust(q.ctx())
	if q.s.settings.StrictRegion && auth.Region != q.s.store.Region {
		return fault.New(fault.Invalid, "region", "the request is signed for the region %q; this is %q", auth.Region,
			q.s.store.Region).In("region").Do("set the client's region to %s", q.s.store.Region)
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

// asker is who counts as one for what is held in memory.
func (q *request) asker() string {
	if q.key != nil {
		return q.key.ID
	}
	return door.Source(q.r.RemoteAddr).String()
}

// hold reserves memory for what is left of the request.
func (q *request) hold(bytes int64) error {
	giveBack, err := q.s.held.Take(q.asker(), bytes)
	if err == nil {
		q.held, q.gives = q.held+bytes, append(q.gives, giveBack)
	}
	return err
}

// build waits for its turn to read and write down a page of a listing, which takes
// memory that nobody can hold for long; it lasts until the page is sent.
func (q *request) build() error {
	select {
	case q.s.building <- struct{}{}:
		q.builds = true
		return nil
	case <-q.ctx().Done():
		return fault.New(fault.Unavailable, "cancelled", "the request was given up").Because(q.ctx().Err())
	}
}

func (q *request) built() {
	if q.builds {
		<-q.s.building
		q.builds = false
	}
}

// xml answers 200 with a document, as large as it is while it is taken.
func (q *request) xml(d *doc) error {
	b := d.bytes()
	q.built()
	if more := int64(cap(b)) - q.held; more > freely {
		if err := q.hold(more); err != nil {
			return err
		}
	}
	q.status = http.StatusOK
	h := q.w.Header()
	h.Set("Content-Type", "application/xml")
	q.out = int64(len(b))
	h.Set("Content-Length", strconv.Itoa(len(b)))
	door.Gather(q.ctx(), int64(len(b)))
	_, err := q.w.Write(b)
	if err != nil {
		q.s.log.Debug("a client left before its answer", "request", q.id, "error", err)
	}
	return nil
}

// exposed are the headers that pages may read.
const exposed = "ETag, Content-Length, Content-Range, Accept-Ranges, Last-Modified, x-amz-request-id, x-amz-id-2, x-amz-version-id, x-amz-delete-marker, " +
	"x-amz-tagging-count, x-amz-mp-parts-count, x-amz-copy-source-version-id, x-amz-checksum-type, " +
	"x-amz-checksum-crc32, x-amz-checksum-crc32c, x-amz-checksum-crc64nvme, x-amz-checksum-sha1, x-amz-checksum-sha256"

func (q *request) cors() {
	origin := q.r.Header.Get("Origin")
	if origin == "" || !q.originAllowed(origin) {
		return
	}
	h := q.w.Header()
	h.Set("Access-Control-Allow-Origin", origin)
	h.Add("Vary", "Origin")
	h.Set("Access-Control-Expose-Headers", exposed)
}

func (q *request) originAllowed(origin string) bool {
	return slices.Contains(q.s.settings.Origins, "*") || slices.Contains(q.s.settings.Origins, origin)
}

// preflight answers a browser that asks what it may send (Fetch, section 4.8).
func (q *request) preflight() error {
	q.op = "Preflight"
	origin := q.r.Header.Get("Origin")
	if origin == "" || q.r.Header.Get("Access-Control-Request-Method") == "" || !q.originAllowed(origin) {
		return fault.New(fault.Refused, "origin", "pages of this origin may not call the service").In("Origin").
			Do("have the operator add the origin to the cross-origin setting")
	}
	h := q.w.Header()
	h.Set("Access-Control-Allow-Methods", "GET, HEAD, PUT, POST, DELETE")
	if v := q.r.Header.Get("Access-Control-Request-Headers"); v != "" {
		h.Set("Access-Control-Allow-Headers", v)
	}
	h.Set("Access-Control-Max-Age", "3600")
	return q.noBody(http.StatusOK)
}

// between gives a function that asks again, before each stretch of an answer,
// whether it may go on.
func (q *request) between() func() {
	return func() {
		if q.again != nil && q.again() != nil {
			panic(http.ErrAbortHandler) // the answer is under way: what is left of it may not be read
		}
	}
}
