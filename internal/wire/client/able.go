package client

import (
	"context"
	"crypto/md5"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/wire/sign"
)

// able finds out what the service can do, on a bucket: what can be told by reading, and
// when writing was asked for, what needs a small object. What refuses us is not known.
func (c *checking) able(ctx context.Context, cl *Client) {
	c.abilities = endpoint.Abilities{}
	know := func(a endpoint.Ability, err error) {
		switch {
		case fault.KindOf(err) == fault.Unfinished:
			c.abilities[a] = false
		case err == nil, fault.KindOf(err) == fault.NotFound:
			c.abilities[a] = true
		}
	}
	_, err := cl.Versioning(ctx, c.s.Bucket)
	if err == nil {
		_, err = cl.ListVersions(ctx, c.s.Bucket, "", VersionPlace{}, 1)
	}
	know(endpoint.Versioning, err)
	_, err = cl.Lifecycle(ctx, c.s.Bucket)
	know(endpoint.Lifecycle, err)
	if c.s.Write {
		c.ableToWrite(ctx, cl, know)
	}
	var can, not []string
	for _, a := range endpoint.AllAbilities {
		if there, known := c.abilities[a]; there {
			can = append(can, string(a))
		} else if known {
			not = append(not, string(a))
		}
	}
	says := "it can: " + strings.Join(can, ", ")
	if len(not) > 0 {
		says += "; it cannot: " + strings.Join(not, ", ")
	}
	c.good("abilities", "%s", says)
}

// ableToWrite tries what changes something, on an object of its own, and takes it away.
func (c *checking) ableToWrite(ctx context.Context, cl *Client, know func(endpoint.Ability, error)) {
	b, key := c.s.Bucket, "spindle-check-"+rand.Text()
	var traces []string
	put := func(p Put) (Info, error) {
		i, err := cl.Put(ctx, b, key, strings.NewReader("x"), 1, p)
		if err == nil && !slices.Contains(traces, i.Version) {
			traces = append(traces, i.Version)
		}
		return i, err
	}
	first, err := put(Put{})
	if err != nil {
		return
	}
	c.abilities[endpoint.Checksums] = first.CRC64 != ""
	_, err = put(Put{IfAbsent: true})
	c.abilities[endpoint.Conditions] = fault.KindOf(err) == fault.Precondition
	know(endpoint.Tags, cl.SetTags(ctx, b, key, object.Tags{"spindle": "check"}))
	err = cl.SetMetadata(ctx, b, key, first.ETag, Put{Metadata: object.Metadata{"spindle": "check"}})
	know(endpoint.Copies, err)
	if i, herr := cl.Head(ctx, b, key); err == nil && herr == nil && i.Version != "" {
		traces = append(traces, i.Version)
	}
	_, err = put(Put{Class: "SPINDLE_NONE"}) // whoever has classes refuses one that there is not
	c.abilities[endpoint.Classes] = err != nil
	id, err := cl.StartUpload(ctx, b, key, Put{})
	know(endpoint.Multipart, err)
	if err == nil {
		err = cl.AbandonUpload(ctx, b, key, id)
	}
	for _, version := range traces {
		if rerr := removeTrace(ctx, cl, b, key, version); rerr != nil {
			err = rerr
		}
	}
	if err != nil && fault.KindOf(err) != fault.Unfinished {
		c.found["there-and-back"] = endpoint.Finding{Result: endpoint.Agrees,
			Seen: fmt.Sprintf("what was tried could not all be removed: the object %s may be left in the bucket", key)}
	}
}

// Bucket is a bucket of a service.
type Bucket struct {
	Name string
	Made string // when, in the service's words
}

// Buckets gives the buckets that the key sees.
func (c *Client) Buckets(ctx context.Context) ([]Bucket, error) {
	var d struct {
		Buckets struct {
			Bucket []struct{ Name, CreationDate string }
		}
	}
	if _, err := c.document(ctx, http.MethodGet, "", "", nil, nil, "", &d); err != nil {
		return nil, err
	}
	out := make([]Bucket, len(d.Buckets.Bucket))
	for i, b := range d.Buckets.Bucket {
		out[i] = Bucket{b.Name, b.CreationDate}
	}
	return out, nil
}

// RemoveBucket removes a bucket with nothing in it.
func (c *Client) RemoveBucket(ctx context.Context, bucket string) error {
	return c.plain(ctx, http.MethodDelete, bucket, "")
}

// Versioning tells of a bucket whether versioning is on, paused or off.
func (c *Client) Versioning(ctx context.Context, bucket string) (object.Versioning, error) {
	var d struct{ Status string }
	if _, err := c.document(ctx, http.MethodGet, bucket, "", url.Values{"versioning": {""}}, nil, "", &d); err != nil {
		return object.Off, err
	}
	return map[string]object.Versioning{"Enabled": object.On, "Suspended": object.Paused}[d.Status], nil
}

// Lifecycle gives the lifecycle document of a bucket as the service has it. The error for
// none has the code rules-missing.
func (c *Client) Lifecycle(ctx context.Context, bucket string) (string, error) {
	r, err := c.request(ctx, http.MethodGet, bucket, "", url.Values{"lifecycle": {""}}, nil)
	if err != nil {
		return "", err
	}
	resp, err := c.do(r, sign.EmptyHash)
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	return string(raw), err
}

// SetLifecycle replaces the lifecycle document of a bucket; "" takes it away.
func (c *Client) SetLifecycle(ctx context.Context, bucket, doc string) error {
	method := http.MethodPut
	h := http.Header{}
	if doc == "" {
		method = http.MethodDelete
	} else {
		sum := md5.Sum([]byte(doc)) // some services ask for it
		h.Set("Content-Md5", base64.StdEncoding.EncodeToString(sum[:]))
	}
	_, err := c.document(ctx, method, bucket, "", url.Values{"lifecycle": {""}}, h, doc, nil)
	return err
}

// tagsIn gives tags as a header has them.
func tagsIn(tags object.Tags) string {
	q := url.Values{}
	for _, name := range slices.Sorted(maps.Keys(tags)) {
		q.Set(name, tags[name])
	}
	return q.Encode()
}
