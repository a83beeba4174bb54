package wire

import (
	"encoding/xml"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"spindle/internal/standin/hold"
)

const timeForm = "2006-01-02T15:04:05.000Z"

func when(t time.Time) string { return t.UTC().Format(timeForm) }

func (c *call) listBuckets() error {
	type entry struct{ Name, CreationDate string }
	var doc struct {
		XMLName xml.Name `xml:"ListAllMyBucketsResult"`
		Owner   struct{ ID string }
		Buckets []entry `xml:"Buckets>Bucket"`
	}
	doc.Owner.ID = c.signed.key
	for _, b := range c.Hold.Buckets() {
		doc.Buckets = append(doc.Buckets, entry{b.Name, when(b.Created)})
	}
	return c.document(doc)
}

var bucketName = regexp.MustCompile(`^[a-z0-9][a-z0-9.-]{1,61}[a-z0-9]$`)

func (c *call) makeBucket() error {
	if !bucketName.MatchString(c.bucket) {
		return problem{http.StatusBadRequest, "InvalidBucketName", "The name is not valid."}
	}
	return c.Hold.Make(c.bucket, c.now)
}

func (c *call) removeBucket() error {
	if err := c.Hold.Drop(c.bucket); err != nil {
		return err
	}
	c.w.WriteHeader(http.StatusNoContent)
	return nil
}

func (c *call) headBucket() error {
	_, err := c.Hold.Bucket(c.bucket)
	return err
}

func (c *call) getLocation() error {
	if err := c.headBucket(); err != nil {
		return err
	}
	return c.document(struct {
		XMLName xml.Name `xml:"LocationConstraint"`
		Region  string   `xml:",chardata"`
	}{Region: c.Region})
}

type versioningDocument struct {
	XMLName xml.Name `xml:"VersioningConfiguration"`
	Status  string   `xml:",omitempty"`
}

func (c *call) getVersioning() error {
	b, err := c.Hold.Bucket(c.bucket)
	if err != nil {
		return err
	}
	return c.document(versioningDocument{Status: map[hold.Versioning]string{hold.On: "Enabled",
		hold.Paused: "Suspended"}[b.Versioning]})
}

func (c *call) putVersioning() error {
	var d versioningDocument
	if err := c.read(&d); err != nil {
		return err
	}
	to, ok := map[string]hold.Versioning{"Enabled": hold.On, "Suspended": hold.Paused}[d.Status]
	if !ok {
		return problem{http.StatusBadRequest, "MalformedXML", "The status is none."}
	}
	return c.Hold.Set(c.bucket, func(b *hold.Bucket) { b.Versioning = to })
}

func (c *call) getLifecycle() error {
	b, err := c.Hold.Bucket(c.bucket)
	if err != nil {
		return err
	}
	if len(b.Document) == 0 {
		return problem{http.StatusNotFound, "NoSuchLifecycleConfiguration", "There are no rules."}
	}
	c.w.Header().Set("Content-Type", "application/xml")
	_, _ = c.w.Write(b.Document) // who went away hears nothing
	return nil
}

func (c *call) putLifecycle() error {
	raw, err := c.readAll()
	if err != nil {
		return err
	}
	var d struct {
		XMLName xml.Name `xml:"LifecycleConfiguration"`
		Rule    []struct{ Status string }
	}
	if xml.Unmarshal(raw, &d) != nil || len(d.Rule) == 0 {
		return problem{http.StatusBadRequest, "MalformedXML", "The document cannot be read."}
	}
	return c.Hold.Set(c.bucket, func(b *hold.Bucket) { b.Document = raw })
}

func (c *call) deleteLifecycle() error {
	if err := c.Hold.Set(c.bucket, func(b *hold.Bucket) { b.Document = nil }); err != nil {
		return err
	}
	c.w.WriteHeader(http.StatusNoContent)
	return nil
}

// asked is what a listing is asked for.
type asked struct {
	prefix, delimiter, after string
	most                     int
	name                     func(string) string
}

func (c *call) asked(after string) (asked, error) {
	a := asked{prefix: c.q.Get("prefix"), delimiter: c.q.Get("delimiter"), after: after, most: 1000,
		name: func(s string) string { return s }}
	if s := c.q.Get("max-keys"); s != "" {
		n, err := strconv.Atoi(s)
		if err != nil || n < 0 {
			return a, problem{http.StatusBadRequest, "InvalidArgument", "max-keys is not valid."}
		}
		a.most = min(n, 1000)
	}
	if c.q.Get("encoding-type") == "url" {
		a.name = url.QueryEscape // a space is a plus, as some services write it
	}
	return a, nil
}

// folded gives the common prefix that a key is folded into, "" for none.
func (a asked) folded(key string) string {
	if a.delimiter == "" {
		return ""
	}
	if i := strings.Index(key[len(a.prefix):], a.delimiter); i >= 0 {
		return key[:len(a.prefix)+i+len(a.delimiter)]
	}
	return ""
}

// beyond gives the first key after all that begin with a folded prefix; its last byte is
// one of a delimiter's, which is text, and so not the last there is.
func beyond(folded string) string {
	b := []byte(folded)
	b[len(b)-1]++
	return string(b)
}

// walk visits the keys of a listing, or what they are folded into, in order. What was removed folds
// into nothing.
func (c *call) walk(a asked, visit func(key string, vs []*hold.Version, folded string) bool) error {
	return c.Hold.Walk(c.bucket, max(a.prefix, a.after), func(key string, vs []*hold.Version) (string, bool) {
		if !strings.HasPrefix(key, a.prefix) {
			return "", key < a.prefix
		}
		f := a.folded(key)
		if key == a.after || f != "" && f == a.after {
			if f != "" {
				return beyond(f), true
			}
			return "", true
		}
		if vs[0].Marker {
			return "", true
		}
		if !visit(key, vs, f) {
			return "", false
		}
		if f != "" {
			return beyond(f), true
		}
		return "", true
	})
}

type listedEntry struct {
	Key, LastModified, ETag string
	Size                    int64
	StorageClass            string
}

func (a asked) entry(key string, v *hold.Version) listedEntry {
	class := v.Class
	if class == "" {
		class = "STANDARD"
	}
	return listedEntry{a.name(key), when(v.Modified), `"` + v.ETag + `"`, v.Size, class}
}

type folder struct{ Prefix string }

// list answers both forms of the plain listing.
func (c *call) list() error {
	two := c.q.Get("list-type") == "2"
	after := c.q.Get("marker")
	if two {
		after = max(c.q.Get("start-after"), c.q.Get("continuation-token"))
	}
	a, err := c.asked(after)
	if err != nil {
		return err
	}
	var doc struct {
		XMLName                                  xml.Name `xml:"ListBucketResult"`
		Name, Prefix, Delimiter                  string
		KeyCount, MaxKeys                        int
		IsTruncated                              bool
		NextContinuationToken, NextMarker, Token string `xml:",omitempty"`
		Contents                                 []listedEntry
		CommonPrefixes                           []folder
	}
	doc.Name, doc.Prefix, doc.Delimiter, doc.MaxKeys = c.bucket, a.name(a.prefix), a.name(a.delimiter), a.most
	last := ""
	err = c.walk(a, func(key string, vs []*hold.Version, folded string) bool {
		if doc.KeyCount == a.most {
			doc.IsTruncated = true
			return false
		}
		doc.KeyCount++
		if folded != "" {
			doc.CommonPrefixes, last = append(doc.CommonPrefixes, folder{a.name(folded)}), folded
		} else {
			doc.Contents, last = append(doc.Contents, a.entry(key, vs[0])), key
		}
		return true
	})
	if doc.IsTruncated && two {
		doc.NextContinuationToken = last
	} else if doc.IsTruncated {
		doc.NextMarker = a.name(last)
	}
	if err != nil {
		return err
	}
	return c.document(doc)
}

func (c *call) listVersions() error {
	a, err := c.asked("")
	if err != nil {
		return err
	}
	type entry struct {
		XMLName   xml.Name
		VersionId string
		IsLatest  bool
		listedEntry
	}
	var doc struct {
		XMLName                            xml.Name `xml:"ListVersionsResult"`
		Name, Prefix                       string
		MaxKeys                            int
		IsTruncated                        bool
		NextKeyMarker, NextVersionIdMarker string `xml:",omitempty"`
		Entries                            []entry
		CommonPrefixes                     []folder
	}
	doc.Name, doc.Prefix, doc.MaxKeys = c.bucket, a.name(a.prefix), a.most
	fromKey, fromID := c.q.Get("key-marker"), c.q.Get("version-id-marker")
	a.after = fromKey
	if fromID != "" { // the key itself may have more
		a.after = ""
	}
	passed := fromID == ""
	n := 0
	visit := func(key string, vs []*hold.Version, folded string) bool {
		if key < fromKey {
			return true
		}
		if folded != "" {
			doc.CommonPrefixes, n = append(doc.CommonPrefixes, folder{a.name(folded)}), n+1
			return n < a.most
		}
		for i, v := range vs {
			if key == fromKey && !passed {
				passed = v.ID == fromID
				continue
			}
			if n == a.most {
				doc.IsTruncated = true
				return false
			}
			n++
			kind := "Version"
			if v.Marker {
				kind = "DeleteMarker"
			}
			doc.Entries = append(doc.Entries, entry{xml.Name{Local: kind}, v.ID, i == 0, a.entry(key, v)})
			doc.NextKeyMarker, doc.NextVersionIdMarker = a.name(key), v.ID
		}
		passed = true
		return true
	}
	err = c.Hold.Walk(c.bucket, max(a.prefix, fromKey), func(key string, vs []*hold.Version) (string, bool) {
		if !strings.HasPrefix(key, a.prefix) {
			return "", key < a.prefix
		}
		if key == a.after {
			return "", true
		}
		return "", visit(key, vs, a.folded(key))
	})
	if err != nil {
		return err
	}
	if !doc.IsTruncated {
		doc.NextKeyMarker, doc.NextVersionIdMarker = "", ""
	}
	return c.document(doc)
}
