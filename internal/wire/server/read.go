package server

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"
	"unicode"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/door"
	"spindle/internal/store"
)

// overrides are query parameters that replace headers of an answer.
var overrides = map[string]string{
	"response-content-type":        "Content-Type",
	"response-content-language":    "Content-Language",
	"response-expires":             "Expires",
	"response-cache-control":       "Cache-Control",
	"response-content-disposition": "Content-Disposition",
	"response-content-encoding":    "Content-Encoding",
}

// What browsers are told of objects, which are anybody's: to take them for what
// they are, and as pages to run nothing, send nothing and be of no origin.
var (
	inBytes = []string{"bytes"}
	nosniff = []string{"nosniff"}
	sandbox = []string{"sandbox; default-src 'none'; style-src 'unsafe-inline'; img-src 'self' data:; media-src 'self'; form-action 'none'; frame-ancestors 'none'"}
)

func (q *request) getObject() error {
	if err := q.checkOverrides(); err != nil {
		return err
	}
	a, v, err := q.version()
	if err != nil {
		return err
	}
	h := q.w.Header()
	switch q.conditions().Read(v) {
	case object.NotModified:
		h.Set("ETag", `"`+v.ETag.String()+`"`)
		h.Set("Last-Modified", v.Created.Format(http.TimeFormat))
		return q.noBody(http.StatusNotModified)
	case object.Failed:
		return fault.New(fault.Precondition, "mismatch", "At least one of the pre-conditions you specified did not hold").
			In("condition")
	}
	from, length, part, err := q.stretch(v)
	if err != nil {
		return err
	}
	var body *store.Body
	if q.r.Method != http.MethodHead {
		tag := v.ETag
		if body, v, err = q.s.store.Open(q.ctx(), a, v); err != nil {
			return err
		}
		defer body.Close()
		if v.ETag != tag { // replaced between the look and the opening
			if from, length, part, err = q.wanted(v); err != nil {
				return err
			}
		}
	}
	if err := q.saySealed(v); err != nil {
		return err
	}
	if err := q.sayClass(v); err != nil {
		return err
	}
	if err := q.sayReplica(v); err != nil {
		return err
	}
	if err := q.sayVerdict(a); err != nil {
		return err
	}
	h["Content-Length"] = []string{strconv.FormatInt(length, 10)}
	q.describe(v)
	status := http.StatusOK
	if part {
		status = http.StatusPartialContent
		h["Content-Range"] = []string{fmt.Sprintf("bytes %d-%d/%d", from, from+length-1, v.Size)}
	} else if strings.EqualFold(q.r.Header.Get("x-amz-checksum-mode"), "ENABLED") {
		setChecksums(h, v)
	}
	if body == nil {
		return q.noBody(status)
	}
	if err := body.Prepare(q.ctx(), from, length); err != nil {
		return err
	}
	q.status, q.out = status, length
	if body.Held() {
		door.Gather(q.ctx(), length)
	}
	q.w.WriteHeader(status)
	return body.Send(q.w, from, length, q.between())
}

// checkOverrides refuses values that a request wants in the answer's header and that
// no header may have.
func (q *request) checkOverrides() error {
	if len(q.query) == 0 {
		return nil
	}
	for param := range overrides {
		if strings.ContainsFunc(q.query.Get(param), unicode.IsControl) {
			return fault.New(fault.Invalid, "override", "the value has a control character, which no header may have").In(param).
				Do("leave it out")
		}
	}
	return nil
}

// stretch gives what of a version is wanted, by a range or a part's number; part says
// that it is not all of it.
func (q *request) stretch(v *object.Version) (from, length int64, part bool, err error) {
	n := q.query.Get("partNumber")
	if from, length, part, err = q.wanted(v); err != nil || n == "" {
		if err != nil {
			q.w.Header().Set("Content-Range", fmt.Sprintf("bytes */%d", v.Size))
		}
		return from, length, part, err
	}
	if part {
		return 0, 0, false, fault.New(fault.Invalid, "part-and-range",
			"Cannot specify both Range header and partNumber query parameter").In("partNumber")
	}
	number, perr := strconv.Atoi(n)
	if perr != nil {
		number = 0
	}
	if err := store.CheckPartNumber(number); err != nil {
		return 0, 0, false, err
	}
	if from, length, err = q.partRange(v, number); err != nil {
		return 0, 0, false, err
	}
	q.w.Header().Set("x-amz-mp-parts-count", strconv.Itoa(max(1, v.ETag.Parts)))
	return from, length, v.Size > 0, nil
}

// describe puts what is known of a version into the answer's header, and what the
// request wants there instead.
func (q *request) describe(v *object.Version) {
	h := q.w.Header()
	ct := v.Headers.ContentType
	if ct == "" {
		ct = "binary/octet-stream"
	}
	h["Accept-Ranges"], h["X-Content-Type-Options"], h["Content-Security-Policy"] = inBytes, nosniff, sandbox
	own := []string{v.Created.Format(http.TimeFormat), `"` + v.ETag.String() + `"`, ct}
	h["Last-Modified"], h["ETag"], h["Content-Type"] = own[:1:1], own[1:2:2], own[2:]
	for _, of := range [...]struct{ name, value string }{{"Cache-Control", v.Headers.CacheControl},
		{"Content-Disposition", v.Headers.ContentDisposition}, {"Content-Encoding", v.Headers.ContentEncoding},
		{"Content-Language", v.Headers.ContentLanguage}, {"Expires", v.Headers.Expires}} {
		if of.value != "" {
			h[of.name] = []string{of.value}
		}
	}
	for name, value := range v.Metadata {
		h["x-amz-meta-"+name] = []string{object.ToWire(value)}
	}
	if len(v.Tags) > 0 {
		h.Set("x-amz-tagging-count", strconv.Itoa(len(v.Tags)))
	}
	if len(q.query) > 0 {
		for param, name := range overrides {
			if value := q.query.Get(param); value != "" {
				h.Set(name, value)
			}
		}
	}
}

// wanted gives the stretch of a version that the request asks for. Its Range counts
// unless If-Range names another version: by an entity tag that compares strongly, or
// by the exact date (RFC 9110, section 13.1.5).
func (q *request) wanted(v *object.Version) (from, length int64, part bool, err error) {
	if still := q.r.Header.Get("If-Range"); still != "" {
		at, err := http.ParseTime(still)
		if still != `"`+v.ETag.String()+`"` && (err != nil || !at.Equal(v.Created.Truncate(time.Second))) {
			return 0, v.Size, false, nil
		}
	}
	return parseRange(q.r.Header.Get("Range"), v.Size)
}

// parseRange reads a Range header (RFC 9110, section 14.1.2). One range is
// supported; what is malformed or names several is ignored, as the RFC allows.
func parseRange(header string, size int64) (from, length int64, part bool, err error) {
	spec, ok := strings.CutPrefix(header, "bytes=")
	if !ok || strings.Contains(spec, ",") {
		return 0, size, false, nil
	}
	a, b, ok := strings.Cut(strings.TrimSpace(spec), "-")
	unsatisfied := fault.New(fault.Invalid, "range", "The requested range is not satisfiable: the object has %d bytes",
		size).In("Range")
	if a == "" {
		n, perr := strconv.ParseInt(b, 10, 64)
		if !ok || perr != nil || n < 0 {
			return 0, size, false, nil
		}
		if n == 0 || size == 0 {
			return 0, 0, false, unsatisfied
		}
		n = min(n, size)
		return size - n, n, true, nil
	}
	from, perr := strconv.ParseInt(a, 10, 64)
	if !ok || perr != nil || from < 0 {
		return 0, size, false, nil
	}
	to := size - 1
	if b != "" {
		to, perr = strconv.ParseInt(b, 10, 64)
		if perr != nil || to < from {
			return 0, size, false, nil
		}
		to = min(to, size-1)
	}
	if from >= size {
		return 0, 0, false, unsatisfied
	}
	return from, to - from + 1, true, nil
}
