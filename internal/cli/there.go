package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/sync/errgroup"

	"spindle/internal/api"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/transfer"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

// orThere does something else when an argument is an address at an endpoint.
func orThere(here, there cli.ActionFunc) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		for _, s := range c.Args().Slice() {
			if strings.HasPrefix(s, "@") {
				return there(ctx, c)
			}
		}
		return here(ctx, c)
	}
}

// bucketsThere gives the path of the desk's calls of an endpoint's buckets.
func bucketsThere(a endpoint.Address, rest string) string {
	p := endpointsPath + url.PathEscape(a.Endpoint) + "/buckets"
	if a.Bucket != "" {
		p += "/" + url.PathEscape(a.Bucket)
	}
	return p + rest
}

// there opens the service and reads the one address of a command; with bucket it must
// name one.
func (a *app) there(c *cli.Command, bucket bool) (*desk, endpoint.Address, error) {
	p, s, err := a.one(c)
	if err != nil {
		return nil, endpoint.Address{}, err
	}
	at, err := endpoint.ParseAddress(s)
	if err == nil && bucket && at.Bucket == "" {
		err = wrongUsage("%q names no bucket: give @ENDPOINT/BUCKET", s).see(c)
	}
	return p, at, err
}

// only refuses flags that mean nothing at an endpoint.
func only(c *cli.Command, allowed ...string) error {
	for _, name := range c.LocalFlagNames() {
		ok := name == "yes" || name == "json"
		for _, a := range allowed {
			ok = ok || a == name
		}
		if !ok && c.IsSet(name) {
			return wrongUsage("--%s is not for what is at an endpoint", name).see(c)
		}
	}
	return nil
}

func (a *app) bucketListThere(ctx context.Context, c *cli.Command) error {
	p, at, err := a.there(c, false)
	if err != nil {
		return err
	}
	var out struct{ Buckets []api.BucketThere }
	if err := p.call(ctx, http.MethodGet, bucketsThere(endpoint.Address{Endpoint: at.Endpoint}, ""), nil, nil,
		&out); err != nil {
		return err
	}
	return a.print(out.Buckets, func() error {
		if len(out.Buckets) == 0 {
			a.note("The key sees no bucket at %s.", at.Endpoint)
			return nil
		}
		var rows [][]string
		for _, b := range out.Buckets {
			rows = append(rows, []string{shown("@" + at.Endpoint + "/" + b.Name), shown(b.Made)})
		}
		return a.table([]column{{"BUCKET", false}, {"MADE", false}}, rows)
	})
}

func (a *app) bucketCreateThere(ctx context.Context, c *cli.Command) error {
	p, at, err := a.there(c, true)
	if err == nil {
		err = only(c, "versioning")
	}
	if err != nil {
		return err
	}
	in := api.NewBucketThere{Name: at.Bucket, Versioning: c.String("versioning")}
	var b api.BucketThere
	if err := p.call(ctx, http.MethodPost, bucketsThere(endpoint.Address{Endpoint: at.Endpoint}, ""), nil, in,
		&b); err != nil {
		return err
	}
	return a.print(b, func() error { return a.showBucketThere(at, b) })
}

func (a *app) showBucketThere(at endpoint.Address, b api.BucketThere) error {
	rules := "none, or not told"
	if b.Lifecycle != "" {
		rules = "\n" + strings.TrimSpace(shown(strings.ReplaceAll(b.Lifecycle, "\n", " ")))
	}
	return a.facts([][2]string{{"Bucket", at.String()}, {"Made", orDash(shown(b.Made))},
		{"Versioning", orDash(b.Versioning)}, {"Lifecycle", rules}})
}

func (a *app) bucketShowThere(ctx context.Context, c *cli.Command) error {
	p, at, err := a.there(c, true)
	if err != nil {
		return err
	}
	var b api.BucketThere
	if err := p.call(ctx, http.MethodGet, bucketsThere(at, ""), nil, nil, &b); err != nil {
		return err
	}
	return a.print(b, func() error { return a.showBucketThere(at, b) })
}

func (a *app) bucketChangeThere(ctx context.Context, c *cli.Command) error {
	p, at, err := a.there(c, true)
	if err == nil {
		err = only(c, "versioning", "lifecycle-from")
	}
	if err != nil {
		return err
	}
	in := api.BucketThereChange{Versioning: c.String("versioning")}
	if file := c.String("lifecycle-from"); file == "none" {
		in.Lifecycle = new(string)
	} else if file != "" {
		doc, err := os.ReadFile(file)
		if err != nil {
			return transfer.LocalError(file, err)
		}
		text := string(doc)
		in.Lifecycle = &text
	}
	if in == (api.BucketThereChange{}) {
		return wrongUsage("nothing to change was given").see(c)
	}
	var b api.BucketThere
	if err := p.call(ctx, http.MethodPatch, bucketsThere(at, ""), nil, in, &b); err != nil {
		return err
	}
	return a.print(b, func() error { return a.showBucketThere(at, b) })
}

func (a *app) bucketRemoveThere(ctx context.Context, c *cli.Command) error {
	p, at, err := a.there(c, true)
	if err == nil {
		err = only(c)
	}
	if err != nil {
		return err
	}
	if err := a.confirm(c, fmt.Sprintf("The bucket %s goes, if nothing is in it.", at), at.Bucket); err != nil {
		return err
	}
	if err := p.call(ctx, http.MethodDelete, bucketsThere(at, ""), nil, nil, nil); err != nil {
		return err
	}
	return a.print(map[string]string{"removed": at.String()}, func() error {
		_, err := fmt.Fprintf(a.Out, "Removed bucket %s.\n", at)
		return err
	})
}

// eachThere calls f for every object beneath a prefix of a bucket at an endpoint.
func (p *desk) eachThere(ctx context.Context, at endpoint.Address, f func(api.ObjectThere) error) error {
	for after := ""; ; {
		var page struct {
			Objects []api.ObjectThere
			Next    string
		}
		if err := p.call(ctx, http.MethodGet, bucketsThere(at, "/objects"), url.Values{"prefix": {at.Key}, "after": {after},
			"limit": {"1000"}}, nil, &page); err != nil {
			return err
		}
		for _, o := range page.Objects {
			if err := f(o); err != nil {
				return err
			}
		}
		if after = page.Next; after == "" {
			return nil
		}
	}
}

func (a *app) objectListThere(ctx context.Context, c *cli.Command) error {
	p, at, err := a.there(c, true)
	if err == nil {
		err = only(c, "flat", "limit", "after")
	}
	if err != nil {
		return err
	}
	q := url.Values{"prefix": {at.Key}, "delimiter": {"/"}, "after": {c.String("after")}}
	if c.Bool("flat") {
		q.Set("delimiter", "")
	}
	var rows [][]string
	limit, err := a.limit(c)
	if err != nil {
		return err
	}
	n := 0
	var bytes int64
	for {
		q.Set("limit", fmt.Sprint(max(1, min(1000, limit-n))))
		var page struct {
			Objects  []api.ObjectThere
			Prefixes []string
			Next     string
		}
		if err := p.call(ctx, http.MethodGet, bucketsThere(at, "/objects"), q, nil, &page); err != nil {
			return err
		}
		for _, f := range page.Prefixes {
			if n++; !a.json {
				rows = append(rows, []string{"", "", shown(f)})
			} else if err := a.print(map[string]string{"prefix": f}, nil); err != nil {
				return err
			}
		}
		for _, o := range page.Objects {
			bytes += o.Size
			if n++; !a.json {
				rows = append(rows, []string{size(o.Size), when(o.Modified), shown(o.Key)})
			} else if err := a.print(o, nil); err != nil {
				return err
			}
		}
		if q.Set("after", page.Next); page.Next == "" || n >= limit {
			break
		}
	}
	if a.json {
		return a.cut(n, q.Get("after"))
	}
	if n == 0 {
		a.note("Nothing lies beneath %s.", shown(at.String()))
		return exitOnly(ExitNotFound)
	}
	return a.listed(rows, bytes, q.Get("after"))
}

func (a *app) objectShowThere(ctx context.Context, c *cli.Command) error {
	p, at, err := a.there(c, true)
	if err == nil {
		err = only(c)
	}
	if err != nil {
		return err
	}
	var o api.ObjectThere
	if err := p.call(ctx, http.MethodGet, bucketsThere(at, "/object"), url.Values{"key": {at.Key}}, nil, &o); err != nil {
		return err
	}
	return a.print(o, func() error {
		facts := [][2]string{{"Object", shown(at.String())}, {"Size", fmt.Sprintf("%s (%s bytes)", size(o.Size),
			count(o.Size))},
			{"Type", orDash(shown(o.ContentType))}, {"Changed", when(o.Modified)}, {"ETag", o.ETag},
			{"CRC-64/NVME", orDash(o.CRC64)}, {"Version", orDash(o.Version)}, {"Storage class", orDash(shown(o.Class))}}
		for name, v := range o.Metadata {
			facts = append(facts, [2]string{"  " + shown(name), shown(v)})
		}
		for name, v := range o.Tags {
			facts = append(facts, [2]string{"  tag " + shown(name), shown(v)})
		}
		return a.facts(facts)
	})
}

func (a *app) objectRemoveThere(ctx context.Context, c *cli.Command) error {
	p, at, err := a.there(c, true)
	if err == nil {
		err = only(c)
	}
	if err != nil {
		return err
	}
	if at.Key == "" || strings.HasSuffix(at.Key, "/") {
		return wrongUsage("at an endpoint objects are removed one by one: name the whole key").see(c)
	}
	if err := a.confirm(c, fmt.Sprintf("The object %s goes.", shown(at.String())), path.Base(at.Key)); err != nil {
		return err
	}
	if err := p.call(ctx, http.MethodDelete, bucketsThere(at, "/object"), url.Values{"key": {at.Key}}, nil,
		nil); err != nil {
		return err
	}
	return a.print(map[string]string{"removed": at.String()}, func() error {
		_, err := fmt.Fprintf(a.Out, "Removed %s.\n", shown(at.String()))
		return err
	})
}

func (a *app) objectGetThere(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 1, 2)
	if err == nil {
		err = only(c, "parallel", "replace")
	}
	if err != nil {
		return err
	}
	at, err := endpoint.ParseAddress(in[0])
	if err != nil {
		return err
	}
	if at.Key == "" || strings.HasSuffix(at.Key, "/") {
		return wrongUsage("name one object; many go by: spindle object copy %s BUCKET/PREFIX/", in[0]).see(c)
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	resp, err := p.open(ctx, http.MethodGet, bucketsThere(at, "/body"), url.Values{"key": {at.Key}}, nil, sign.EmptyHash,
		"")
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	dest := path.Base(at.Key)
	if len(in) == 2 {
		dest = in[1]
	}
	if dest == "-" {
		if _, err := io.Copy(a.raw.Out, resp.Body); err != nil {
			return brokeOff(at, client.Unreachable(err))
		}
		return nil
	}
	if st, err := os.Stat(dest); err == nil && st.IsDir() {
		name, err := object.SafePath(path.Base(at.Key))
		if err != nil {
			return err
		}
		dest = filepath.Join(dest, name)
	}
	m := a.meter(1, resp.ContentLength)
	r, done := m.Begin(dest, resp.ContentLength, resp.Body)
	err = transfer.Fill(dest, r, c.Bool("replace"))
	done()
	m.stop()
	if err != nil {
		return brokeOff(at, err)
	}
	if resp.Header.Get(api.DigestHeader) != "compared" {
		a.note("The endpoint tells no digest of this object, so its bytes could not be compared.")
	}
	_, err = fmt.Fprintf(a.Out, "Got %s, %s.\n", shown(dest), size(resp.ContentLength))
	return err
}

// brokeOff is the error for a body from an endpoint that did not come to its end.
func brokeOff(at endpoint.Address, err error) error {
	f := fault.From(err)
	if f.Kind != fault.Unavailable {
		return err
	}
	return fault.New(fault.Unavailable, "broke-off", "%s did not come whole: the line broke, or its bytes are not those "+
		"that its digest is of", at).In("source").Do("repeat the command; if it fails again, look at the object there").Because(err)
}

func (a *app) objectPutThere(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 2, -1)
	if err == nil {
		err = only(c, "metadata", "content-type", "tier", "parallel")
	}
	if err != nil {
		return err
	}
	at, err := endpoint.ParseAddress(in[len(in)-1])
	if err != nil {
		return err
	}
	if at.Bucket == "" {
		return wrongUsage("%q names no bucket: give @ENDPOINT/BUCKET/KEY", in[len(in)-1]).see(c)
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	files, _, err := a.gather(in[:len(in)-1], at.Bucket, at.Key, at.Key == "" || strings.HasSuffix(at.Key, "/"))
	if err != nil {
		return err
	}
	var bytes int64
	for _, f := range files {
		bytes += f.Size
	}
	m := a.meter(len(files), bytes)
	t := &tally{a: a, started: time.Now()}
	var g errgroup.Group
	g.SetLimit(max(1, c.Int("parallel")))
	for _, f := range files {
		g.Go(func() error {
			to := at
			to.Key = f.Key
			x := transferred{Local: f.Path, Bucket: "@" + at.Endpoint + "/" + at.Bucket, Key: f.Key, Size: f.Size, State: "put"}
			t.note(x, p.putThere(ctx, c, f, to, m))
			return nil
		})
	}
	_ = g.Wait() // errors are in the tally
	m.stop()
	return t.end("Put")
}

// putThere sends a file through the service to an endpoint.
func (p *desk) putThere(ctx context.Context, c *cli.Command, f transfer.File, to endpoint.Address, m *meter) error {
	file, err := os.Open(f.Path)
	if err != nil {
		return transfer.LocalError(f.Path, err)
	}
	defer file.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, file); err != nil {
		return transfer.LocalError(f.Path, err)
	}
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return transfer.LocalError(f.Path, err)
	}
	kind := c.String("content-type")
	if kind == "" {
		kind = mime.TypeByExtension(path.Ext(f.Key))
	}
	q := url.Values{"key": {to.Key}, "type": {kind}, "class": {c.String("tier")}, "metadata": c.StringSlice("metadata")}
	r, done := m.Begin(f.Path, f.Size, file)
	defer done()
	resp, err := p.openSized(ctx, http.MethodPut, bucketsThere(to, "/body"), q, r, f.Size,
		hex.EncodeToString(sum.Sum(nil)))
	if err != nil {
		return err
	}
	return resp.Body.Close()
}
