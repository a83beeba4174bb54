package wire

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"spindle/internal/standin/hold"
)

// Server answers requests on a hold.
type Server struct {
	Hold   *hold.Hold
	Moods  *Moods
	Region string                   // that signatures must be for; "" for any
	Keys   map[string]string        // secrets by keys
	Heard  func(bucket, key string) // hears of each object once it is put; nil: nobody does

	mu     sync.Mutex
	counts map[string]int64
}

// problem is an answer that is an error.
type problem struct {
	status  int
	code    string
	message string
}

func (p problem) Error() string { return p.code + ": " + p.message }

var problems = map[error]problem{
	hold.ErrNoBucket:  {http.StatusNotFound, "NoSuchBucket", "The bucket does not exist."},
	hold.ErrBucket:    {http.StatusConflict, "BucketAlreadyOwnedByYou", "The bucket is there already."},
	hold.ErrNotEmpty:  {http.StatusConflict, "BucketNotEmpty", "The bucket is not empty."},
	hold.ErrNoKey:     {http.StatusNotFound, "NoSuchKey", "The key does not exist."},
	hold.ErrNoVersion: {http.StatusNotFound, "NoSuchVersion", "The version does not exist."},
	hold.ErrNoUpload:  {http.StatusNotFound, "NoSuchUpload", "The upload does not exist."},
	hold.ErrCondition: {http.StatusPreconditionFailed, "PreconditionFailed", "The condition does not hold."},
}

var notImplemented = problem{http.StatusNotImplemented, "NotImplemented", "This is not done here."}

// call is one request.
type call struct {
	*Server
	w           http.ResponseWriter
	r           *http.Request
	q           url.Values
	bucket, key string
	faults      Faults
	now         time.Time
	signed      *signature
	name        string // of the operation
}

// Counts gives how often each operation was answered, and bytes of bodies: "in", "out".
func (s *Server) Counts() map[string]int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make(map[string]int64, len(s.counts))
	for k, v := range s.counts {
		out[k] = v
	}
	return out
}

func (s *Server) count(what string, n int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.counts == nil {
		s.counts = map[string]int64{}
	}
	s.counts[what] += n
}

// ServeHTTP answers a request, as well as the moment's faults let it.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	c := &call{Server: s, w: w, r: r, q: r.URL.Query(), faults: s.Moods.Now()}
	c.now = time.Now().Add(time.Duration(c.faults.Clock) * time.Second)
	if s.Moods.away() {
		s.count("away", 1)
		panic(http.ErrAbortHandler)
	}
	if c.faults.Latency > 0 {
		time.Sleep(time.Duration(c.faults.Latency) * time.Millisecond)
	}
	w.Header().Set("Date", c.now.UTC().Format(http.TimeFormat))
	w.Header().Set("X-Amz-Request-Id", strconv.FormatInt(c.now.UnixNano(), 36))
	r.Body = io.NopCloser(&passing{r.Body, s})
	if err := c.answer(); err != nil {
		c.fail(err)
	}
}

type passing struct {
	io.Reader
	s *Server
}

func (p *passing) Read(b []byte) (int, error) {
	n, err := p.Reader.Read(b)
	p.s.Moods.pass(n)
	p.s.count("in", int64(n))
	return n, err
}

// problemOf gives how an error is told.
func problemOf(err error) problem {
	var p problem
	if errors.As(err, &p) {
		return p
	}
	for e, as := range problems {
		if errors.Is(err, e) {
			return as
		}
	}
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return problem{http.StatusBadRequest, "IncompleteBody", "The body ended too early."}
	}
	return problem{http.StatusInternalServerError, "InternalError", err.Error()}
}

type errorDocument struct {
	XMLName       xml.Name `xml:"Error"`
	Code, Message string
	Region        string `xml:",omitempty"`
}

func (c *call) fail(err error) {
	p := problemOf(err)
	c.count("errors", 1)
	if p.status == http.StatusServiceUnavailable && c.faults.RetryAfter > 0 {
		c.w.Header().Set("Retry-After", strconv.Itoa(c.faults.RetryAfter))
	}
	c.w.Header().Set("Content-Type", "application/xml")
	c.w.WriteHeader(p.status)
	if c.r.Method != http.MethodHead {
		doc := errorDocument{Code: p.code, Message: p.message}
		if p.code == "AuthorizationHeaderMalformed" {
			doc.Region = c.Region
		}
		_ = c.document(doc) // who went away hears nothing
	}
}

// answer finds out what is asked for, whether it is let in, and does it.
func (c *call) answer() error {
	c.split()
	var err error
	if c.signed, err = c.verify(c.r, c.now); err != nil {
		return err
	}
	if c.Moods.fails() {
		return problem{http.StatusInternalServerError, "InternalError", "Something went wrong inside."}
	}
	if c.Moods.happens(c.faults.Throttle) {
		return problem{http.StatusServiceUnavailable, "SlowDown", "Come again later."}
	}
	do, err := c.operation()
	if err != nil {
		return err
	}
	if c.faults.ReadOnly && c.r.Method != http.MethodGet && c.r.Method != http.MethodHead {
		return problem{http.StatusForbidden, "AccessDenied", "The key may not write."}
	}
	c.count(c.name, 1)
	return do()
}

// split finds bucket and key, in the path or in a host beneath localhost.
func (c *call) split() {
	host, _, _ := strings.Cut(c.r.Host, ":")
	path := strings.TrimPrefix(c.r.URL.Path, "/")
	if b, ok := strings.CutSuffix(host, ".localhost"); ok {
		c.bucket, c.key = b, path
		return
	}
	c.bucket, c.key, _ = strings.Cut(path, "/")
}

func (c *call) operation() (func() error, error) {
	is := func(name string) bool { return c.q.Has(name) }
	type op struct {
		name, lack string
		do         func() error
	}
	var o op
	switch m := c.r.Method; {
	case c.bucket == "" && m == http.MethodGet:
		o = op{"ListBuckets", "", c.listBuckets}
	case c.bucket == "":
	case c.key == "":
		switch {
		case is("versioning") && m == http.MethodGet:
			o = op{"GetVersioning", "", c.getVersioning}
		case is("versioning") && m == http.MethodPut:
			o = op{"PutVersioning", "versioning", c.putVersioning}
		case is("lifecycle") && m == http.MethodGet:
			o = op{"GetLifecycle", "lifecycle", c.getLifecycle}
		case is("lifecycle") && m == http.MethodPut:
			o = op{"PutLifecycle", "lifecycle", c.putLifecycle}
		case is("lifecycle") && m == http.MethodDelete:
			o = op{"DeleteLifecycle", "lifecycle", c.deleteLifecycle}
		case is("location") && m == http.MethodGet:
			o = op{"GetLocation", "", c.getLocation}
		case is("versions") && m == http.MethodGet:
			o = op{"ListVersions", "versioning", c.listVersions}
		case is("uploads") && m == http.MethodGet:
			o = op{"ListUploads", "multipart", c.listUploads}
		case is("delete") && m == http.MethodPost:
			o = op{"RemoveMany", "", c.removeMany}
		case m == http.MethodGet:
			o = op{"List", "", c.list}
		case m == http.MethodHead:
			o = op{"HeadBucket", "", c.headBucket}
		case m == http.MethodPut && len(c.q) == 0:
			o = op{"MakeBucket", "", c.makeBucket}
		case m == http.MethodDelete && len(c.q) == 0:
			o = op{"RemoveBucket", "", c.removeBucket}
		}
	case is("tagging"):
		o = op{"Tags", "tags", map[string]func() error{http.MethodGet: c.getTags, http.MethodPut: c.putTags,
			http.MethodDelete: c.putTags}[m]}
	case is("uploads") && m == http.MethodPost:
		o = op{"StartUpload", "multipart", c.startUpload}
	case is("uploadId"):
		switch m {
		case http.MethodPut:
			o = op{"PutPart", "multipart", c.putPart}
		case http.MethodGet:
			o = op{"ListParts", "multipart", c.listParts}
		case http.MethodPost:
			o = op{"CompleteUpload", "multipart", c.completeUpload}
		case http.MethodDelete:
			o = op{"AbandonUpload", "multipart", c.abandonUpload}
		}
	case m == http.MethodPut && c.r.Header.Get("X-Amz-Copy-Source") != "":
		o = op{"Copy", "copy", c.copy}
	case m == http.MethodPut:
		o = op{"Put", "", c.put}
	case m == http.MethodGet:
		o = op{"Get", "", c.get}
	case m == http.MethodHead:
		o = op{"Head", "", c.get}
	case m == http.MethodDelete:
		o = op{"Remove", "", c.remove}
	}
	if o.do == nil || o.lack != "" && c.faults.lacks(o.lack) {
		return nil, notImplemented
	}
	c.name = o.name
	return o.do, nil
}

// document writes an answer that is a document.
func (c *call) document(doc any) error {
	raw, err := xml.Marshal(doc)
	if err != nil {
		return err
	}
	c.w.Header().Set("Content-Type", "application/xml")
	_, _ = fmt.Fprintf(c.w, "%s%s", xml.Header, raw) // who went away hears nothing
	return nil
}

// read reads a document that was sent.
func (c *call) read(into any) error {
	raw, err := c.readAll()
	if err != nil {
		return err
	}
	if err := xml.Unmarshal(raw, into); err != nil {
		return problem{http.StatusBadRequest, "MalformedXML", "The document cannot be read."}
	}
	return nil
}

func (c *call) readAll() ([]byte, error) {
	b, _, err := body(c.r, c.signed)
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(b, 4<<20))
}
