package client

import (
	"context"
	"encoding/xml"
	"errors"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// Page of a listing.
type Page struct {
	Objects  []Listed
	Prefixes []string
	Next     string // "" at the end
}

// Listed is an object in a page.
type Listed struct {
	Key      string
	Size     int64
	ETag     string
	Modified time.Time
	Class    string // the class it is stored in, in the service's words; "" when it tells none
	Owner    string // the account that owns it, when the service tells
}

type listedEntry struct {
	Key, ETag, StorageClass string
	Size                    int64
	LastModified            time.Time
	Owner                   struct{ ID string }
}

func (e listedEntry) listed() (Listed, error) {
	key, err := unescaped(e.Key)
	return Listed{Key: key, Size: e.Size, ETag: strings.Trim(e.ETag, `"`), Modified: e.LastModified, Class: e.StorageClass,
		Owner: e.Owner.ID}, err
}

// unescaped reads a key as listings write it: a space may be a plus there, or %20.
func unescaped(s string) (string, error) {
	key, err := url.QueryUnescape(s)
	if err != nil {
		return "", fault.New(fault.Unavailable, "foreign", "a name in the listing cannot be decoded").In("address").
			Because(err)
	}
	return key, nil
}

func listQuery(prefix, delimiter string, most int) url.Values {
	q := url.Values{"encoding-type": {"url"}, "prefix": {prefix}, "max-keys": {strconv.Itoa(most)}}
	if delimiter != "" {
		q.Set("delimiter", delimiter)
	}
	return q
}

// List gives a page of a bucket, at most so many entries; next is the page before's
// Next.
func (c *Client) List(ctx context.Context, bucket, prefix, delimiter, next string, most int) (Page, error) {
	return c.list(ctx, bucket, prefix, delimiter, "continuation-token", next, most)
}

func (c *Client) list(ctx context.Context, bucket, prefix, delimiter, by, place string, most int) (Page, error) {
	q := listQuery(prefix, delimiter, most)
	q.Set("list-type", "2")
	q.Set("fetch-owner", "true")
	if place != "" {
		q.Set(by, place)
	}
	var p Page
	if _, err := c.document(ctx, http.MethodGet, bucket, "", q, nil, "", &p); err != nil {
		return Page{}, err
	}
	return p, nil
}

// read reads the document of a listing. It goes through the tokens by itself: most of what
// comparing sides costs is reading these documents, and this takes half of what the general
// way does.
func (p *Page) read(d *xml.Decoder) error {
	var path []string // of the element that is read
	var text []byte
	var o Listed
	rooted := false
	for {
		t, err := d.RawToken()
		if errors.Is(err, io.EOF) && len(path) == 0 && rooted {
			return nil
		}
		if err != nil {
			return err
		}
		switch t := t.(type) {
		case xml.StartElement:
			path = append(path, t.Name.Local)
			// What is no listing must not be taken for an empty one: something may be removed by it.
			if rooted = rooted || t.Name.Local == "ListBucketResult"; !rooted || len(path) > maxListDepth {
				return errListing
			}
			text = text[:0]
		case xml.CharData:
			text = append(text, t...)
		case xml.EndElement:
			if len(path) == 0 || path[len(path)-1] != t.Name.Local {
				return errListing
			}
			if err := p.element(path, string(text), &o); err != nil {
				return err
			}
			path, text = path[:len(path)-1], text[:0]
		}
	}
}

const maxListDepth = 8 // of elements

var errListing = errors.New("it is no listing, or its elements are not closed as they were opened")

// element takes what an element of a listing says.
func (p *Page) element(path []string, text string, o *Listed) (err error) {
	switch len(path) {
	case 2:
		switch path[1] {
		case "NextContinuationToken":
			p.Next = text
		case "Contents":
			p.Objects = append(p.Objects, *o)
			*o = Listed{}
		}
	case 3:
		switch path[1] + "/" + path[2] {
		case "CommonPrefixes/Prefix":
			text, err = unescaped(text)
			p.Prefixes = append(p.Prefixes, text)
		case "Contents/Key":
			o.Key, err = unescaped(text)
		case "Contents/Size":
			o.Size, err = strconv.ParseInt(strings.TrimSpace(text), 10, 64)
		case "Contents/ETag":
			o.ETag = strings.Trim(text, `"`)
		case "Contents/LastModified":
			o.Modified, err = time.Parse(time.RFC3339, text)
		case "Contents/StorageClass":
			o.Class = text
		}
	case 4:
		if path[1] == "Contents" && path[2] == "Owner" && path[3] == "ID" {
			o.Owner = text
		}
	}
	return err
}

// ListAfter gives a page of the keys after one, in order, whatever pages came before.
func (c *Client) ListAfter(ctx context.Context, bucket, prefix, after string, most int) (Page, error) {
	return c.list(ctx, bucket, prefix, "", "start-after", after, most)
}

// VersionPage is a page of a listing of versions.
type VersionPage struct {
	Versions []ListedVersion
	Next     VersionPlace // zero at the end
}

// VersionPlace is where a page of versions begins: after this one.
type VersionPlace struct{ Key, Version string }

// ListedVersion is a version or delete marker in a page.
type ListedVersion struct {
	Listed
	Version string
	Latest  bool
	Marker  bool
}

// ListVersions gives a page of the versions and delete markers of a bucket's keys; keys
// in byte order, of each key the newest first.
func (c *Client) ListVersions(ctx context.Context, bucket, prefix string, after VersionPlace, most int) (VersionPage,
	error) {
	q := listQuery(prefix, "", most)
	q.Set("versions", "")
	if after.Key != "" {
		q.Set("key-marker", after.Key)
		q.Set("version-id-marker", after.Version)
	}
	type entry struct {
		listedEntry
		VersionId string
		IsLatest  bool
	}
	var d struct {
		XMLName                            xml.Name `xml:"ListVersionsResult"`
		NextKeyMarker, NextVersionIdMarker string
		Version, DeleteMarker              []entry
	}
	if _, err := c.document(ctx, http.MethodGet, bucket, "", q, nil, "", &d); err != nil {
		return VersionPage{}, err
	}
	p := VersionPage{Next: VersionPlace{Version: d.NextVersionIdMarker}}
	var err error
	if p.Next.Key, err = unescaped(d.NextKeyMarker); err != nil {
		return p, err
	}
	for i, list := range [][]entry{d.Version, d.DeleteMarker} {
		for _, e := range list {
			o, err := e.listed()
			if err != nil {
				return p, err
			}
			p.Versions = append(p.Versions, ListedVersion{Listed: o, Version: e.VersionId, Latest: e.IsLatest, Marker: i == 1})
		}
	}
	return p, nil
}

// Tags gives an object's tags.
func (c *Client) Tags(ctx context.Context, bucket, key string) (object.Tags, error) {
	var d struct {
		TagSet struct {
			Tag []struct{ Key, Value string }
		}
	}
	if _, err := c.document(ctx, http.MethodGet, bucket, key, url.Values{"tagging": {""}}, nil, "", &d); err != nil {
		return nil, err
	}
	tags := object.Tags{}
	for _, t := range d.TagSet.Tag {
		tags[t.Key] = t.Value
	}
	return tags, nil
}
