package objects

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"mime"
	"net/http"
	"path"
	"strconv"
	"strings"

	"github.com/go-chi/chi/v5"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/desk/middle"
	"spindle/internal/store"
)

// Download sends an object's bytes to the console. Nothing of it is shown by
// the browser: the bytes are anybody's.
func (d *Desk) Download(w http.ResponseWriter, r *http.Request) error {
	query := r.URL.Query()
	a, err := middle.Address(chi.URLParam(r, "bucket"), query.Get("key"))
	if err == nil {
		err = d.May(r.Context(), access.Read, a)
	}
	if err != nil {
		return err
	}
	v, a, err := d.findVersion(r.Context(), chi.URLParam(r, "bucket"), query.Get("key"), query.Get("version"),
		query.Get("asOf"))
	if err == nil && v.Marker {
		err = fault.New(fault.Conflict, "version-marker", "this version is a delete marker: it has no content").In("version").
			Do("name another version; the key's history lists them")
	}
	if err != nil {
		return err
	}
	body, v, err := d.Store.Open(r.Context(), a, v)
	if err != nil {
		return err
	}
	defer body.Close()
	name := path.Base(v.Key.String())
	h := w.Header()
	h.Set("Content-Type", "application/octet-stream")
	h.Set("Content-Disposition", mime.FormatMediaType("attachment",
		map[string]string{"filename": strings.Map(printable, name)}))
	h.Set("Content-Length", strconv.FormatInt(v.Size, 10))
	h.Set("Cache-Control", "private, no-store")
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	if err := body.Prepare(r.Context(), 0, v.Size); err != nil {
		return err
	}
	w.WriteHeader(http.StatusOK)
	again := d.Again(r.Context(), access.Read, a)
	if err := body.Send(w, 0, v.Size, func() {
		if again() != nil {
			panic(http.ErrAbortHandler) // what is left of it may not be read any more
		}
	}); err != nil {
		d.Log.Debug("a download broke off", "error", err)
		panic(http.ErrAbortHandler)
	}
	return nil
}

func printable(r rune) rune {
	if r < ' ' || r == 0x7f || r == '/' || r == '\\' || r == '"' {
		return '_'
	}
	return r
}

// Upload takes an object's bytes from the console, or of a length that nobody
// knows yet from the command line.
func (d *Desk) Upload(w http.ResponseWriter, r *http.Request) error {
	a, err := d.written(r)
	if err != nil {
		return err
	}
	ifAbsent := r.URL.Query().Get("ifAbsent") == "true"
	if ifAbsent {
		if err := d.MayAskOf(r.Context(), a); err != nil {
			return err
		}
	}
	meta, tags, err := uploadFields(r)
	if err != nil {
		return err
	}
	put := store.Put{Address: a, Author: middle.Author(r.Context()), Size: r.ContentLength,
		Headers: object.Headers{ContentType: r.Header.Get("Content-Type")},
		Body:    d.guarded(r, access.Write, a), IfAbsent: ifAbsent, Metadata: meta, Tags: tags}
	v, err := d.Store.Put(r.Context(), put)
	if err != nil {
		return err
	}
	middle.WriteJSON(w, http.StatusCreated, d.objectInfo(r.Context(), a.Bucket, v))
	return nil
}

// written gives the address that a call writes bytes to, which must be allowed.
func (d *Desk) written(r *http.Request) (catalog.Address, error) {
	a, err := middle.Address(chi.URLParam(r, "bucket"), r.URL.Query().Get("key"))
	if err != nil {
		return a, err
	}
	return a, d.May(r.Context(), access.Write, a)
}

// guarded gives the body of a call for as long as it may still be written. It has
// to arrive at the least rate of the door.
func (d *Desk) guarded(r *http.Request, do access.Rights, a catalog.Address) io.Reader {
	return again{r.Body, d.Again(r.Context(), do, a)}
}

// again asks before each read whether it may go on.
type again struct {
	r   io.Reader
	may func() error
}

func (a again) Read(b []byte) (int, error) {
	if err := a.may(); err != nil {
		return 0, err
	}
	n, err := a.r.Read(b)
	if errors.Is(err, io.ErrUnexpectedEOF) {
		err = fault.New(fault.Invalid, "size-mismatch", "the body ended before the length that was declared").In("body").
			Do("send the whole body").Because(err)
	}
	return n, err
}

func uploadFields(r *http.Request) (object.Metadata, object.Tags, error) {
	v := r.Header.Get(api.FieldsHeader)
	if v == "" {
		return nil, nil, nil
	}
	var in struct{ Metadata, Tags map[string]string }
	raw, err := base64.StdEncoding.DecodeString(v)
	if err == nil {
		err = json.Unmarshal(raw, &in)
	}
	if err != nil {
		return nil, nil, fault.New(fault.Invalid, "upload-fields", "the header is no JSON object in base64").In(api.FieldsHeader).
			Because(err)
	}
	meta, err := object.NewMetadata(in.Metadata)
	if err != nil {
		return nil, nil, err
	}
	tags, err := object.NewTags(in.Tags, object.MaxTags)
	return meta, tags, err
}
