package server_test

import (
	"strings"
	"testing"

	"spindle/internal/harness"
	"spindle/internal/wire/client"
)

// An element that is empty, doubled, unknown, of another namespace, or that something follows
// would have a document mean something else than was written: all of it is refused, and nothing
// is changed.
func TestDocumentsAreReadStrictly(t *testing.T) {
	s := harness.Service(t, nil)
	c := s.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Put(t.Context(), "plates", "k", strings.NewReader("x"), 1, client.Put{}); err != nil {
		t.Fatal(err)
	}
	rule := func(in string) string {
		return "<LifecycleConfiguration><Rule>" + in + "</Rule></LifecycleConfiguration>"
	}
	const on, soon = "<Status>Enabled</Status>", "<Expiration><Days>30</Days></Expiration>"
	for _, x := range []struct{ name, method, path, doc string }{
		{"no days", "PUT", "?lifecycle=", rule(on + "<Filter/><Expiration><Days></Days></Expiration>")},
		{"blank days", "PUT", "?lifecycle=", rule(on + "<Filter/><Expiration><Days> </Days></Expiration>")},
		{"an empty action", "PUT", "?lifecycle=", rule(on + "<Filter/>" + soon + "<AbortIncompleteMultipartUpload/>")},
		{"two prefixes", "PUT", "?lifecycle=", rule(on + "<Filter><Prefix>a/</Prefix><Prefix>b/</Prefix></Filter>" + soon)},
		{"two tags outside of And", "PUT", "?lifecycle=", rule(on + "<Filter><Tag><Key>a</Key><Value>1</Value></Tag>" +
			"<Tag><Key>b</Key><Value>2</Value></Tag></Filter>" + soon)},
		{"two states", "PUT", "?lifecycle=", rule(on + "<Status>Disabled</Status><Filter/>" + soon)},
		{"two filters", "PUT", "?lifecycle=", rule(on + "<Filter><Prefix>a/</Prefix></Filter><Filter/>" + soon)},
		{"two removals", "PUT", "?lifecycle=", rule(on + "<Filter/>" + soon + "<Expiration><Days>1</Days></Expiration>")},
		{"text among elements", "PUT", "?lifecycle=", rule(on + "<Filter>a/</Filter>" + soon)},
		{"an element in text", "PUT", "?lifecycle=", rule(on + "<Filter/><Expiration><Days><b>3</b></Days></Expiration>")},
		{"another namespace", "PUT", "?lifecycle=", strings.Replace(rule(on+"<Filter/>"+soon), "<Rule>",
			`<Rule xmlns="http://example.org/">`, 1)},
		{"a prefixed element", "PUT", "?lifecycle=", rule(on + "<x:Filter/>" + soon)},
		{"two documents", "PUT", "?lifecycle=", rule(on+"<Filter/>"+soon) + rule(on+"<Filter/>"+soon)},
		{"text behind it", "PUT", "?lifecycle=", rule(on+"<Filter/>"+soon) + "x"},
		{"two states of versioning", "PUT", "?versioning=", "<VersioningConfiguration><Status>Suspended</Status>" + on +
			"</VersioningConfiguration>"},
		{"versioning of an unknown kind", "PUT", "?versioning=", "<VersioningConfiguration>" + on +
			"<Days>3</Days></VersioningConfiguration>"},
		{"a tag with two values", "PUT", "/k?tagging=", "<Tagging><TagSet><Tag><Key>a</Key><Value>1</Value><Value>2</Value>" +
			"</Tag></TagSet></Tagging>"},
		{"two sets of tags", "PUT", "/k?tagging=", "<Tagging><TagSet/><TagSet/></Tagging>"},
		{"a removal of two keys in one", "POST", "?delete=", "<Delete><Object><Key>a</Key><Key>k</Key></Object></Delete>"},
		{"a removal of an empty version", "POST", "?delete=", "<Delete><Object><Key>k</Key><VersionId></VersionId></Object>" +
			"</Delete>"},
		{"a removal of an unknown kind", "POST", "?delete=",
			"<Delete><Object><Key>k</Key><IfOlder>1</IfOlder></Object></Delete>"},
	} {
		st, _, b := s.Do(x.method, "/plates"+x.path, nil, x.doc, true)
		want(t, x.name, st, b, 400, "MalformedXML")
	}
	if st, _, b := s.Do("GET", "/plates?lifecycle=", nil, "", true); st != 404 {
		t.Errorf("there are rules: %d %s", st, b)
	}
	if st, _, b := s.Do("GET", "/plates?versioning=", nil, "", true); st != 200 || strings.Contains(b, "Status") {
		t.Errorf("versioning: %d %s", st, b)
	}
	if _, err := c.Head(t.Context(), "plates", "k"); err != nil {
		t.Errorf("the object: %v", err)
	}
	for name, doc := range map[string]string{"white space between elements": rule("\n " + on +
		"\n <Filter>\n </Filter>\n " + soon),
		"an empty prefix": rule(on + "<Filter><Prefix></Prefix></Filter>" + soon),
		"the namespace": strings.Replace(rule(on+"<Filter/>"+soon), "<LifecycleConfiguration>",
			`<LifecycleConfiguration xmlns="http://s3.amazonaws.com/doc/2006-03-01/">`, 1)} {
		if st, _, b := s.Do("PUT", "/plates?lifecycle=", nil, doc, true); st != 200 {
			t.Errorf("%s: %d %s", name, st, b)
		}
	}
}
