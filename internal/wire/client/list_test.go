package client

import (
	"encoding/xml"
	"fmt"
	"reflect"
	"strings"
	"testing"
)

// Listings are read as the general way reads them, with entities, comments and elements
// that nobody knows; what is not well formed is refused.
func TestListingsAreReadAsTheGeneralWayDoes(t *testing.T) {
	entry := func(key string) string {
		return `<Contents><Key>` + key +
			`</Key><LastModified>2026-11-27T01:02:03.004Z</LastModified><ETag>&quot;abc&#45;2&quot;</ETag>` +
			`<ChecksumType>FULL</ChecksumType><Size> 42 </Size><Owner><DisplayName>x</DisplayName><ID>herb</ID></Owner>` +
			`<StorageClass>COLD</StorageClass></Contents>`
	}
	for _, doc := range []string{
		`<ListBucketResult></ListBucketResult>`,
		`<ListBucketResult><Name>b</Name><Prefix>no</Prefix><NextContinuationToken>a&lt;b</NextContinuationToken></ListBucketResult>`,
		`<?xml version="1.0"?><!-- c --><ListBucketResult xmlns="urn:x">` + entry("a%2Fb+c") + "\n " +
			entry("<![CDATA[d]]>e") + `</ListBucketResult>`,
		`<ListBucketResult><CommonPrefixes><Prefix>a/</Prefix></CommonPrefixes><CommonPrefixes><Prefix>b%20c/</Prefix></CommonPrefixes>` +
			`<Contents><Key>only</Key><Size>0</Size><LastModified>2026-11-27T01:02:03Z</LastModified><Owner/></Contents></ListBucketResult>`,
	} {
		var d struct {
			NextContinuationToken string
			Contents              []listedEntry
			CommonPrefixes        []struct{ Prefix string }
		}
		if err := xml.Unmarshal([]byte(doc), &d); err != nil {
			t.Fatal(err)
		}
		want := Page{Next: d.NextContinuationToken}
		for _, e := range d.Contents {
			o, err := e.listed()
			if err != nil {
				t.Fatal(err)
			}
			want.Objects = append(want.Objects, o)
		}
		for _, f := range d.CommonPrefixes {
			p, err := unescaped(f.Prefix)
			if err != nil {
				t.Fatal(err)
			}
			want.Prefixes = append(want.Prefixes, p)
		}
		var got Page
		if err := got.read(xml.NewDecoder(strings.NewReader(doc))); err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s\n got %+v, %v\nwant %+v", doc, got, err, want)
		}
	}
	for _, doc := range []string{`<ListBucketResult>`, `<ListBucketResult><Contents></ListBucketResult>`,
		`<ListBucketResult></Q>`, `<ListBucketResult><Contents><Size>many</Size></Contents></ListBucketResult>`, `no`, ``,
		`<html><body>sign in</body></html>`, `<R`,
		`<ListBucketResult><Contents><Key>%zz</Key></Contents></ListBucketResult>`, strings.Repeat("<a>", 100) +
			strings.Repeat("</a>", 100),
		`<ListBucketResult><Contents><LastModified>yesterday</LastModified></Contents></ListBucketResult>`,
		fmt.Sprintf("<ListBucketResult>%s", entry("a"))} {
		var p Page
		if err := p.read(xml.NewDecoder(strings.NewReader(doc))); err == nil {
			t.Errorf("%.80s is read as %+v", doc, p)
		}
	}
}
