package server_test

import (
	"encoding/xml"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"spindle/internal/harness"
)

func setVersioning(t *testing.T, s *harness.Running, status string) {
	t.Helper()
	st, _, b := s.Do("PUT", "/plates?versioning=", nil,
		`<VersioningConfiguration xmlns="http://s3.amazonaws.com/doc/2006-03-01/"><Status>`+status+
			`</Status></VersioningConfiguration>`, true)
	want(t, "versioning "+status, st, b, 200)
}

func TestVersionsOnTheWire(t *testing.T) {
	s := harness.Service(t, nil)
	if err := s.Client().CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	put := func(key, body string) string {
		t.Helper()
		st, h, b := s.Do("PUT", "/plates/"+key, nil, body, true)
		want(t, "put", st, b, 200)
		return h.Get("x-amz-version-id")
	}
	if id := put("k", "before"); id != "" {
		t.Errorf("without versioning a put names version %q", id)
	}
	setVersioning(t, s, "Enabled")
	st, _, b := s.Do("GET", "/plates?versioning=", nil, "", true)
	want(t, "versioning", st, b, 200, "<Status>Enabled</Status>")
	one, two := put("k", "one"), put("k", "two!")
	if one == "" || one == two || one == "null" {
		t.Errorf("versions %q and %q", one, two)
	}
	for id, body := range map[string]string{"null": "before", one: "one", two: "two!"} {
		st, h, b := s.Do("GET", "/plates/k?versionId="+id, nil, "", true)
		if st != 200 || b != body || h.Get("x-amz-version-id") != id {
			t.Errorf("version %s: %d %q, named %q", id, st, b, h.Get("x-amz-version-id"))
		}
	}
	// A copy of a version makes it current again.
	st, h, b := s.Do("PUT", "/plates/k", map[string]string{"x-amz-copy-source": "/plates/k?versionId=" + one}, "", true)
	want(t, "copying a version", st, b, 200)
	three := h.Get("x-amz-version-id")
	if h.Get("x-amz-copy-source-version-id") != one || three == "" {
		t.Errorf("the copy: %v", h)
	}
	// Deleting leaves a marker, that says so.
	st, h, b = s.Do("DELETE", "/plates/k", nil, "", true)
	want(t, "delete", st, b, 204)
	marker := h.Get("x-amz-version-id")
	if h.Get("x-amz-delete-marker") != "true" || marker == "" {
		t.Errorf("a delete: %v", h)
	}
	st, h, b = s.Do("GET", "/plates/k", nil, "", true)
	want(t, "get what is deleted", st, b, 404, "NoSuchKey")
	if h.Get("x-amz-delete-marker") != "true" || h.Get("x-amz-version-id") != marker {
		t.Errorf("get what is deleted: %v", h)
	}
	st, h, b = s.Do("GET", "/plates/k?versionId="+marker, nil, "", true)
	want(t, "get a marker", st, b, 405, "MethodNotAllowed")
	if h.Get("Allow") != "DELETE" || h.Get("x-amz-delete-marker") != "true" {
		t.Errorf("get a marker: %v", h)
	}
	st, _, b = s.Do("PUT", "/plates/other", map[string]string{"x-amz-copy-source": "/plates/k?versionId=" + marker}, "",
		true)
	want(t, "copying a marker", st, b, 400, "InvalidRequest")
	st, _, b = s.Do("GET", "/plates?list-type=2", nil, "", true)
	want(t, "a listing", st, b, 200, "<KeyCount>0</KeyCount>")
	put("other", "x")
	st, _, b = s.Do("GET", "/plates/other?versionId="+one, nil, "", true)
	want(t, "a version of another key", st, b, 404, "NoSuchVersion")
	// Removing the marker brings it back.
	st, h, b = s.Do("DELETE", "/plates/k?versionId="+marker, nil, "", true)
	want(t, "removing the marker", st, b, 204)
	if h.Get("x-amz-delete-marker") != "true" || h.Get("x-amz-version-id") != marker {
		t.Errorf("removing the marker: %v", h)
	}
	st, h, b = s.Do("GET", "/plates/k", nil, "", true)
	if st != 200 || b != "one" || h.Get("x-amz-version-id") != three {
		t.Errorf("brought back: %d %q %v", st, b, h)
	}
	st, _, b = s.Do("DELETE", "/plates/k?versionId=00000001", nil, "", true)
	want(t, "removing no version", st, b, 204)
	st, _, b = s.Do("DELETE", "/plates/k?versionId=x", nil, "", true)
	want(t, "removing what is no version", st, b, 400, "InvalidArgument")
	st, _, b = s.Do("DELETE", "/plates", nil, "", true)
	want(t, "removing a bucket with versions", st, b, 409, "BucketNotEmpty")
	// Many at once, by version, of one key too.
	doc := "<Delete>"
	for _, id := range []string{one, two, three, "null"} {
		doc += "<Object><Key>k</Key><VersionId>" + id + "</VersionId></Object>"
	}
	st, _, b = s.Do("POST", "/plates?delete=", nil, doc+"<Object><Key>other</Key></Object></Delete>", true)
	want(t, "removing many", st, b, 200, "<VersionId>"+one+"</VersionId>",
		"<Key>other</Key><DeleteMarker>true</DeleteMarker><DeleteMarkerVersionId>")
	st, h, b = s.Do("GET", "/plates/k", nil, "", true)
	want(t, "of what nothing is left", st, b, 404, "NoSuchKey")
	if h.Get("x-amz-delete-marker") != "" {
		t.Errorf("of what nothing is left: %v", h)
	}
	// Paused: one plain version that changes replace; the numbered ones stay.
	four := put("p", "four")
	setVersioning(t, s, "Suspended")
	for range 2 {
		if id := put("p", "plain"); id != "null" {
			t.Errorf("while paused a put names version %q", id)
		}
	}
	st, h, b = s.Do("DELETE", "/plates/p", nil, "", true)
	want(t, "delete while paused", st, b, 204)
	if h.Get("x-amz-version-id") != "null" {
		t.Errorf("delete while paused: %v", h)
	}
	st, _, b = s.Do("GET", "/plates?versions=&prefix=p", nil, "", true)
	want(t, "what is left", st, b, 200, "<VersionId>"+four+"</VersionId><IsLatest>false</IsLatest>",
		"<DeleteMarker><Key>p</Key><VersionId>null</VersionId><IsLatest>true</IsLatest>")
	if strings.Count(b, "<Version>") != 1 {
		t.Errorf("what is left: %s", b)
	}
	st, h, _ = s.Do("HEAD", "/plates/p?versionId="+four, nil, "", true)
	if st != 200 || h.Get("Content-Length") != "4" {
		t.Errorf("head of a version: %d %v", st, h)
	}
}

func TestListingVersionsInPages(t *testing.T) {
	s := harness.Service(t, nil)
	if err := s.Client().CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	s.Do("PUT", "/plates/a%20b", nil, "plain", true)
	setVersioning(t, s, "Enabled")
	for i := range 4 {
		for _, key := range []string{"a%20b", "d/x", "d/y", "e"} {
			s.Do("PUT", "/plates/"+key, nil, fmt.Sprint(i), true)
		}
	}
	s.Do("DELETE", "/plates/e", nil, "", true)
	for limit := 1; limit <= 7; limit += 2 {
		for _, fold := range []string{"", "&delimiter=%2F"} {
			var got []string
			marker := ""
			for range 40 {
				st, _, b := s.Do("GET", fmt.Sprintf("/plates?versions=&encoding-type=url&max-keys=%d%s%s", limit, fold, marker),
					nil, "", true)
				var d struct {
					IsTruncated                        bool
					NextKeyMarker, NextVersionIdMarker string
					Version, DeleteMarker              []struct{ Key, VersionId string }
					CommonPrefixes                     []struct{ Prefix string }
				}
				if err := xml.Unmarshal([]byte(b), &d); err != nil || st != 200 {
					t.Fatalf("%d %v: %s", st, err, b)
				}
				for _, v := range append(d.Version, d.DeleteMarker...) {
					got = append(got, v.Key+" "+v.VersionId)
				}
				for _, p := range d.CommonPrefixes {
					got = append(got, p.Prefix)
				}
				if !d.IsTruncated {
					break
				}
				marker = "&key-marker=" + d.NextKeyMarker + "&version-id-marker=" + url.QueryEscape(d.NextVersionIdMarker)
			}
			want := 5 + 4 + 4 + 5
			if fold != "" {
				want = 5 + 1 + 5
			}
			seen := map[string]bool{}
			for _, g := range got {
				seen[g] = true
			}
			if len(got) != want || len(seen) != want {
				t.Errorf("pages of %d%s list %d, %d of them different, want %d: %q", limit, fold, len(got), len(seen), want, got)
			}
		}
	}
	st, _, b := s.Do("GET", "/plates?versions=&version-id-marker=00000001", nil, "", true)
	want(t, "a version marker alone", st, b, 400, "InvalidArgument")
	st, _, b = s.Do("GET", "/nowhere?versions=", nil, "", true)
	want(t, "of no bucket", st, b, 404, "NoSuchBucket")
	st, _, b = s.Do("PUT", "/plates?versioning=", nil,
		"<VersioningConfiguration><Status>Sometimes</Status></VersioningConfiguration>", true)
	want(t, "a wrong status", st, b, 400, "MalformedXML")
	st, _, b = s.Do("PUT", "/plates?versioning=", nil,
		"<VersioningConfiguration><Status>Enabled</Status><MfaDelete>Enabled</MfaDelete></VersioningConfiguration>", true)
	want(t, "a second factor", st, b, 501, "NotImplemented")
}

func TestTagsOnTheWire(t *testing.T) {
	s := harness.Service(t, nil)
	if err := s.Client().CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	st, _, b := s.Do("PUT", "/plates/k", map[string]string{"x-amz-tagging": "site=Hollow%20Fen&kept=",
		"x-amz-meta-taxon": "Erica"}, "x", true)
	want(t, "put with tags", st, b, 200)
	st, h, b := s.Do("GET", "/plates/k?tagging=", nil, "", true)
	want(t, "get tags", st, b, 200,
		"<TagSet><Tag><Key>kept</Key><Value></Value></Tag><Tag><Key>site</Key><Value>Hollow Fen</Value></Tag></TagSet>")
	_, h, _ = s.Do("HEAD", "/plates/k", nil, "", true)
	if h.Get("x-amz-tagging-count") != "2" {
		t.Errorf("head: %v", h)
	}
	tags := func(n int) string {
		d := "<Tagging><TagSet>"
		for i := range n {
			d += fmt.Sprintf("<Tag><Key>t%d</Key><Value>v</Value></Tag>", i)
		}
		return d + "</TagSet></Tagging>"
	}
	st, _, b = s.Do("PUT", "/plates/k?tagging=", nil, tags(10), true)
	want(t, "ten tags", st, b, 200)
	for what, c := range map[string][2]string{
		"eleven tags": {tags(11), "BadRequest"},
		"a tag twice": {"<Tagging><TagSet><Tag><Key>a</Key></Tag><Tag><Key>a</Key></Tag></TagSet></Tagging>", "InvalidTag"},
		"a control character": {"<Tagging><TagSet><Tag><Key>a</Key><Value>&lt;b&gt;</Value></Tag></TagSet></Tagging>",
			"InvalidTag"}, "no document": {"<Tagging/>", "MalformedXML"}, "no XML": {"x", "MalformedXML"},
	} {
		st, _, b := s.Do("PUT", "/plates/k?tagging=", nil, c[0], true)
		want(t, what, st, b, 400, c[1])
	}
	// A copy takes the tags along, unless told otherwise.
	copied := func(to string, header map[string]string) string {
		t.Helper()
		header["x-amz-copy-source"] = "/plates/k"
		st, _, b := s.Do("PUT", to, header, "", true)
		want(t, "copy", st, b, 200)
		_, _, b = s.Do("GET", to+"?tagging=", nil, "", true)
		return b
	}
	if b := copied("/plates/c", map[string]string{}); !strings.Contains(b, "t9") {
		t.Errorf("a copy: %s", b)
	}
	if b := copied("/plates/c", map[string]string{"x-amz-tagging-directive": "REPLACE",
		"x-amz-tagging": "only=this"}); !strings.Contains(b, "only") || strings.Contains(b, "t9") {
		t.Errorf("a copy with other tags: %s", b)
	}
	st, _, b = s.Do("DELETE", "/plates/k?tagging=", nil, "", true)
	want(t, "delete tags", st, b, 204)
	_, _, b = s.Do("GET", "/plates/k?tagging=", nil, "", true)
	if strings.Contains(b, "<Tag>") {
		t.Errorf("after deleting: %s", b)
	}
	// A copy onto itself is a new revision where it adds no version, and a version where versioning is on.
	s.Do("PUT", "/plates/k", map[string]string{"x-amz-copy-source": "/plates/k", "x-amz-metadata-directive": "REPLACE",
		"x-amz-meta-taxon": "Calluna"}, "", true)
	_, h, _ = s.Do("HEAD", "/plates/k", nil, "", true)
	if h.Get("x-amz-meta-taxon") != "Calluna" {
		t.Errorf("after a copy onto itself: %v", h)
	}
	setVersioning(t, s, "Enabled")
	st, h, b = s.Do("PUT", "/plates/k", map[string]string{"x-amz-copy-source": "/plates/k",
		"x-amz-metadata-directive": "REPLACE", "x-amz-meta-taxon": "Betula"}, "", true)
	want(t, "onto itself with versioning", st, b, 200)
	if id := h.Get("x-amz-version-id"); id == "" || id == "null" {
		t.Errorf("onto itself with versioning: %v", h)
	}
	_, h, _ = s.Do("HEAD", "/plates/k?versionId=null", nil, "", true)
	if h.Get("x-amz-meta-taxon") != "Calluna" {
		t.Errorf("the version before: %v", h)
	}
	// Tags of a named version, and of the bucket.
	st, _, b = s.Do("PUT", "/plates/k?tagging=&versionId=null", nil, tags(1), true)
	want(t, "tags of a version", st, b, 200)
	st, _, b = s.Do("GET", "/plates/k?tagging=&versionId=null", nil, "", true)
	want(t, "tags of a version", st, b, 200, "<Key>t0</Key>")
	st, _, b = s.Do("PUT", "/plates?tagging=", nil, tags(30), true)
	want(t, "bucket tags", st, b, 204)
	st, _, b = s.Do("GET", "/plates?tagging=", nil, "", true)
	want(t, "bucket tags", st, b, 200, "<Key>t29</Key>")
	st, _, b = s.Do("DELETE", "/plates?tagging=", nil, "", true)
	want(t, "bucket tags", st, b, 204)
	st, _, b = s.Do("GET", "/plates?tagging=", nil, "", true)
	want(t, "bucket tags", st, b, 404, "NoSuchTagSet")
}
