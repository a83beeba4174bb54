package objects

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"mime"
	"net/http"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"spindle/internal/api"
	"spindle/internal/core/access"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/desk/middle"
	"spindle/internal/remote"
	"spindle/internal/side"
	"spindle/internal/works/crew"
)

func (d *Desk) thereCalls(to *middle.Calls) {
	mine := middle.Rule{Admin: true}
	const topic, base = "endpoints", "/endpoints/{endpoint}/buckets"
	middle.Call(to, mine, "list-buckets-there", "GET "+base, topic, "List the buckets of an endpoint that our key sees",
		d.bucketsThere)
	middle.Call(to, mine, "create-bucket-there", "POST "+base, topic, "Create a bucket at an endpoint", d.createThere,
		middle.Answers(201))
	middle.Call(to, mine, "show-bucket-there", "GET "+base+"/{there}", topic, "Show a bucket at an endpoint", d.showThere)
	middle.Call(to, mine, "change-bucket-there", "PATCH "+base+"/{there}", topic, "Set a bucket at an endpoint", d.changeThere)
	middle.Call(to, mine, "remove-bucket-there", "DELETE "+base+"/{there}", topic, "Remove an empty bucket at an endpoint",
		d.removeThere, middle.Answers(204))
	middle.Call(to, mine, "list-objects-there", "GET "+base+"/{there}/objects", topic, "List objects at an endpoint",
		d.objectsThere)
	middle.Call(to, mine, "show-object-there", "GET "+base+"/{there}/object", topic, "Show an object at an endpoint",
		d.objectThere)
	middle.Call(to, mine, "remove-object-there", "DELETE "+base+"/{there}/object", topic, "Remove an object at an endpoint",
		d.removeObjectThere, middle.Answers(204))
	middle.Call(to, mine, "list-uploads-there", "GET "+base+"/{there}/uploads", topic, "List unfinished uploads at an endpoint",
		d.uploadsThere)
	middle.Call(to, mine, "abandon-uploads-there", "POST "+base+"/{there}/uploads/abandon", topic,
		"Abandon unfinished uploads at an endpoint", d.abandonThere)
}

// TherePath names a bucket at an endpoint.
type TherePath struct {
	middle.EndpointPath
	There string `path:"there" maxLength:"63"`
}

// thereFor is how long what is asked of an endpoint may take, bodies of objects aside.
const thereFor = 30 * time.Second

// asked has f ask an endpoint, for a while at the most. What the endpoint answers is not
// taken for an answer of ours: a refusal there is a conflict here.
func (d *Desk) asked(ctx context.Context, name string, f func(context.Context, *remote.Conn) error) error {
	conn, err := d.Conn(ctx, name)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, thereFor)
	defer cancel()
	err = f(ctx, conn)
	conn.Circuit.Note(err, time.Now())
	return thereError(name, err)
}

func thereError(name string, err error) error {
	if err == nil {
		return nil
	}
	f := *fault.From(err)
	if f.Kind == fault.Internal {
		return err
	}
	if f.Kind == fault.Refused || f.Kind == fault.Unsigned {
		f.Kind = fault.Conflict
		f.Remedy = "look at what the key may do there; spindle endpoint check " + name + " tells more"
	}
	f.Message = "at the endpoint " + name + ": " + strings.TrimSuffix(f.Message, ".")
	return &f
}

func (d *Desk) bucketsThere(ctx context.Context, in *middle.EndpointPath) (out *struct {
	Body struct {
		Buckets []api.BucketThere `json:"buckets"`
	}
}, err error) {
	out = &struct {
		Body struct {
			Buckets []api.BucketThere `json:"buckets"`
		}
	}{}
	out.Body.Buckets = []api.BucketThere{}
	return out, d.asked(ctx, in.Endpoint, func(ctx context.Context, c *remote.Conn) error {
		list, err := c.Client.Buckets(ctx)
		for _, b := range list {
			out.Body.Buckets = append(out.Body.Buckets, api.BucketThere{Name: b.Name, Made: b.Made})
		}
		return err
	})
}

type bucketThereOut struct{ Body api.BucketThere }

func (d *Desk) bucketThere(ctx context.Context, name, bucket string) (out *bucketThereOut, err error) {
	out = &bucketThereOut{api.BucketThere{Name: bucket}}
	return out, d.asked(ctx, name, func(ctx context.Context, c *remote.Conn) error {
		is, err := side.LookAt(ctx, c, bucket)
		if err != nil {
			return err
		}
		if out.Body.Made = is.Made; is.Keeps {
			out.Body.Versioning = is.Versioning.String()
		}
		out.Body.Lifecycle, err = c.Client.Lifecycle(ctx, bucket)
		if k := fault.KindOf(err); k == fault.Unfinished || k == fault.NotFound || k == fault.Refused {
			err = nil // it has none, or keeps them to itself
		}
		return err
	})
}

func (d *Desk) showThere(ctx context.Context, in *TherePath) (*bucketThereOut, error) {
	return d.bucketThere(ctx, in.Endpoint, in.There)
}

func (d *Desk) createThere(ctx context.Context, in *struct {
	middle.EndpointPath
	Body api.NewBucketThere
}) (*bucketThereOut, error) {
	if _, err := object.ParseBucketName(in.Body.Name); err != nil {
		return nil, err
	}
	if err := d.asked(ctx, in.Endpoint, func(ctx context.Context, c *remote.Conn) error {
		err := c.Client.CreateBucket(ctx, in.Body.Name)
		if err == nil && in.Body.Versioning == "on" {
			err = c.Client.SetVersioning(ctx, in.Body.Name, true)
		}
		return err
	}); err != nil {
		return nil, err
	}
	return d.bucketThere(ctx, in.Endpoint, in.Body.Name)
}

func (d *Desk) changeThere(ctx context.Context, in *struct {
	TherePath
	Body api.BucketThereChange
}) (*bucketThereOut, error) {
	if err := d.asked(ctx, in.Endpoint, func(ctx context.Context, c *remote.Conn) error {
		if in.Body.Versioning != "" {
			if err := c.Client.SetVersioning(ctx, in.There, in.Body.Versioning == "on"); err != nil {
				return err
			}
		}
		if in.Body.Lifecycle == nil {
			return nil
		}
		return c.Client.SetLifecycle(ctx, in.There, *in.Body.Lifecycle)
	}); err != nil {
		return nil, err
	}
	return d.bucketThere(ctx, in.Endpoint, in.There)
}

func (d *Desk) removeThere(ctx context.Context, in *TherePath) (*struct{}, error) {
	return nil, d.asked(ctx, in.Endpoint, func(ctx context.Context, c *remote.Conn) error {
		return c.Client.RemoveBucket(ctx, in.There)
	})
}

func objectThere(f side.Facts) api.ObjectThere {
	x := api.ObjectThere{Key: f.Key, Size: f.Size, ETag: f.ETag, Modified: f.Modified, Class: f.Class,
		ContentType: f.Headers.ContentType, Version: f.Version, Metadata: f.Metadata, Tags: f.Tags}
	if f.CRC64 != nil {
		x.CRC64 = fmt.Sprintf("%016x", *f.CRC64)
	}
	return x
}

type objectsThereOut struct {
	Body struct {
		Objects  []api.ObjectThere `json:"objects"`
		Prefixes []string          `json:"prefixes" doc:"What the delimiter folds"`
		Next     string            `json:"next,omitempty" doc:"Give it as after for the next page"`
	}
}

func (d *Desk) objectsThere(ctx context.Context, in *struct {
	TherePath
	Prefix    string `query:"prefix" maxLength:"1024"`
	Delimiter string `query:"delimiter" maxLength:"8"`
	After     string `query:"after" maxLength:"4096" doc:"The next of the page before"`
	Limit     int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*objectsThereOut, error) {
	out := &objectsThereOut{}
	out.Body.Objects, out.Body.Prefixes = []api.ObjectThere{}, []string{}
	return out, d.asked(ctx, in.Endpoint, func(ctx context.Context, c *remote.Conn) error {
		p, err := c.Client.List(ctx, in.There, in.Prefix, in.Delimiter, in.After, in.Limit)
		for _, o := range p.Objects {
			out.Body.Objects = append(out.Body.Objects, api.ObjectThere{Key: o.Key, Size: o.Size, ETag: o.ETag,
				Modified: o.Modified,
				Class:    o.Class})
		}
		out.Body.Prefixes, out.Body.Next = append(out.Body.Prefixes, p.Prefixes...), p.Next
		return err
	})
}

type keyThere struct {
	TherePath
	Key string `query:"key" required:"true" maxLength:"1024"`
}

func (d *Desk) objectThere(ctx context.Context, in *keyThere) (out *struct{ Body api.ObjectThere }, err error) {
	out = &struct{ Body api.ObjectThere }{}
	return out, d.asked(ctx, in.Endpoint, func(ctx context.Context, c *remote.Conn) error {
		f, err := (&side.There{Conn: c, Bucket: in.There}).Stat(ctx, in.Key)
		out.Body = objectThere(f)
		return err
	})
}

func (d *Desk) removeObjectThere(ctx context.Context, in *keyThere) (*struct{}, error) {
	return nil, d.asked(ctx, in.Endpoint, func(ctx context.Context, c *remote.Conn) error {
		return c.Client.Remove(ctx, in.There, in.Key)
	})
}

// thereOf gives the side and key that a raw call is about.
func (d *Desk) thereOf(r *http.Request, do string) (*side.There, string, error) {
	ctx := r.Context()
	if err := d.Administers(ctx, middle.Who(ctx).Subject.Account, do); err != nil {
		return nil, "", err
	}
	conn, err := d.Conn(ctx, chi.URLParam(r, "endpoint"))
	if err != nil {
		return nil, "", err
	}
	key := r.URL.Query().Get("key")
	if _, err := object.ParseKey(key); err != nil {
		return nil, "", err
	}
	return &side.There{Conn: conn, Bucket: chi.URLParam(r, "there")}, key, nil
}

// stillAdminister is stillMay for what administrators of the account alone may do.
func (d *Desk) stillAdminister(ctx context.Context, do string) (context.Context, context.CancelFunc) {
	return d.StillMay(ctx, func(ctx context.Context) error { return d.Administers(ctx, middle.Who(ctx).Subject.Account, do) })
}

// DownloadThere sends an object at an endpoint through, and breaks off before the end when it is
// not what the endpoint's digest says.
func (d *Desk) DownloadThere(w http.ResponseWriter, r *http.Request) error {
	t, key, err := d.thereOf(r, "Read an object at an endpoint")
	if err != nil {
		return err
	}
	ctx, end := d.stillAdminister(r.Context(), "Read an object at an endpoint")
	defer end()
	r = r.WithContext(ctx)
	o, err := t.Conn.Client.Get(r.Context(), t.Bucket, key, r.URL.Query().Get("version"), 0, "")
	if err != nil {
		return thereError(t.Conn.Name, err)
	}
	defer o.Body.Close()
	if o.Size < 0 {
		return fault.New(fault.Unavailable, "foreign", "the endpoint %s does not say how many bytes the object has",
			t.Conn.Name).In("endpoint").Do("check that the address is that of an object store")
	}
	told := side.FactsThere(key, o.Info)
	body := bufio.NewReaderSize(side.Checked(io.NopCloser(io.LimitReader(o.Body, o.Size)), told), 64<<10)
	// What is wrong with the first bytes, all of a small object, is said in words.
	if _, err := body.Peek(int(min(o.Size, 64<<10))); err != nil && err != io.EOF {
		return thereError(t.Conn.Name, err)
	}
	h := w.Header()
	h.Set("Content-Type", "application/octet-stream")
	h.Set("Content-Disposition", mime.FormatMediaType("attachment",
		map[string]string{"filename": strings.Map(printable, path.Base(key))}))
	h.Set("Content-Length", strconv.FormatInt(o.Size, 10))
	h.Set("Cache-Control", "private, no-store")
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	h.Set(api.DigestHeader, map[bool]string{true: "compared", false: "none"}[told.Tells()])
	if _, err := io.Copy(w, body); err != nil {
		if fault.HasCode(err, "source-damaged") {
			d.Log.Warn("an object at an endpoint is not what its digest says", "endpoint", t.Conn.Name, "bucket", t.Bucket)
		}
		panic(http.ErrAbortHandler) // what is damaged, or a part, is not to be taken for the whole
	}
	return nil
}

// UploadThere sends an object through to an endpoint, whose size is known.
func (d *Desk) UploadThere(w http.ResponseWriter, r *http.Request) error {
	t, key, err := d.thereOf(r, "Write an object at an endpoint")
	if err != nil {
		return err
	}
	if r.ContentLength < 0 {
		return fault.New(fault.Invalid, "length-missing", "the length of the body is not given").In("Content-Length").
			Do("send its length")
	}
	ctx, end := d.stillAdminister(r.Context(), "Write an object at an endpoint")
	defer end()
	body := again{r.Body, func() error { return crew.RefusedOf(ctx) }}
	i, err := t.Conn.Client.Put(ctx, t.Bucket, key, body, r.ContentLength, putThere(r))
	if refused := crew.RefusedOf(ctx); refused != nil {
		return refused
	}
	if err != nil {
		return thereError(t.Conn.Name, err)
	}
	middle.WriteJSON(w, http.StatusOK, api.ObjectThere{Key: key, Size: i.Size, ETag: i.ETag, Version: i.Version})
	return nil
}

// CopyBetween copies an object between places and tells how far it is.
func (d *Desk) CopyBetween(w http.ResponseWriter, r *http.Request) error {
	ctx := r.Context()
	var in api.CopyBetween
	if err := middle.ReadDocument(w, r, &in); err != nil {
		return err
	}
	from, fromKey, err := d.placed(ctx, in.From, access.Read)
	if err != nil {
		return err
	}
	to, toKey, err := d.placed(ctx, in.To, access.Write)
	if err != nil {
		return err
	}
	f, err := from.Stat(ctx, fromKey)
	if err != nil {
		return err
	}
	ctx, end := d.StillMay(ctx, func(ctx context.Context) error {
		_, _, err := d.placed(ctx, in.From, access.Read)
		if err == nil {
			_, _, err = d.placed(ctx, in.To, access.Write)
		}
		return err
	})
	defer end()
	tell := middle.Lines[api.CopyStep](w)
	var moved int64
	told := time.Now()
	out, err := d.copied(ctx, from, f, to, toKey, in.Class, func(n int64) {
		if moved += n; time.Since(told) > 200*time.Millisecond {
			told = time.Now()
			tell(api.CopyStep{Moved: moved, Size: f.Size})
		}
	})
	if refused := crew.RefusedOf(ctx); refused != nil {
		err = refused
	}
	if err != nil {
		tell(api.CopyStep{Problem: d.Problem(ctx, err)})
		return nil
	}
	tell(api.CopyStep{Moved: f.Size, Size: f.Size, ETag: out.ETag, Done: true})
	return nil
}

// copied copies an object from one side to another. The digest of the content must be
// known to prove it: one that the source does not tell is made of the bytes first.
func (d *Desk) copied(ctx context.Context, from side.Side, f side.Facts, to side.Side, key, class string,
	moved func(int64)) (side.Facts, error) {
	body := side.Read(from, f)
	if h, ok := from.(*side.Here); ok {
		a, v, err := h.Found(ctx, f.Key)
		if err != nil {
			return side.Facts{}, err
		}
		body = h.Version(a, v)
	}
	if f.CRC64 == nil {
		sum, err := side.Sum(ctx, body, f.Size)
		if err != nil {
			return side.Facts{}, err
		}
		f.CRC64 = &sum
	}
	f.Class, f.Origin = class, ""
	return to.Write(ctx, key, body, side.Write{Facts: f, Moved: counted(moved)})
}

// placed gives the side and key of an address, when who asks may do that there.
func (d *Desk) placed(ctx context.Context, address string, do access.Rights) (side.Side, string, error) {
	a, err := endpoint.ParseAddress(address)
	if err != nil {
		return nil, "", err
	}
	key, err := object.ParseKey(a.Key)
	if err != nil {
		return nil, "", err
	}
	if a.Endpoint != "" {
		if err := d.Administers(ctx, middle.Who(ctx).Subject.Account, "Use an endpoint"); err != nil {
			return nil, "", err
		}
		conn, err := d.Conn(ctx, a.Endpoint)
		return &side.There{Conn: conn, Bucket: a.Bucket}, a.Key, err
	}
	name, err := object.ParseBucketName(a.Bucket)
	if err == nil {
		err = d.MayAt(ctx, do, name, key.String())
	}
	return &side.Here{Store: d.Store, Bucket: name, By: middle.Author(ctx)}, a.Key, err
}
