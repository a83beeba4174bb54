package server_test

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/tier"
	"spindle/internal/harness"
	"spindle/internal/service"
)

// withCellar gives a service with two further tiers, one that is restored first.
func withCellar(t *testing.T) *harness.Running {
	t.Helper()
	s := harness.Service(t, func(c *service.Config) { c.Works.RestoreEvery = 10 * time.Millisecond })
	by := catalog.Author{Who: harness.Key}
	for _, x := range []*tier.Tier{{Name: "drying-room", Price: 8_000}, {Name: "cellar", Price: 1_000,
		Restore: &tier.Restore{Delay: 300 * time.Millisecond, Days: 2}}} {
		x.Copies, x.Volumes = 1, []tier.Volume{{Dir: filepath.Join(t.TempDir(), x.Name)}}
		if err := s.Store.AddTier(t.Context(), x, by); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Store.ChangeTier(t.Context(), "main", 0, by,
		func(x *tier.Tier) error { x.Price = 20_000; return nil }); err != nil {
		t.Fatal(err)
	}
	if st, _, b := s.Do("PUT", "/plates", nil, "", true); st != 200 {
		t.Fatal(st, b)
	}
	return s
}

// TestStorageClasses puts, copies, uploads, lists and restores by class.
func TestStorageClasses(t *testing.T) {
	s := withCellar(t)
	do := func(method, path string, h map[string]string, body string, want int, says string) (map[string][]string,
		string) {
		t.Helper()
		st, head, b := s.Do(method, path, h, body, true)
		if st != want || !strings.Contains(b, says) {
			t.Errorf("%s %s: %d %s, want %d %q", method, path, st, b, want, says)
		}
		return head, b
	}
	class := func(name string) map[string]string { return map[string]string{"x-amz-storage-class": name} }
	do("PUT", "/plates/main", nil, "in main", 200, "")
	do("PUT", "/plates/named", class("STANDARD"), "in main too", 200, "")
	do("PUT", "/plates/dry", class("DRYING-ROOM"), "dry", 200, "")
	do("PUT", "/plates/cold", class("CELLAR"), "cold", 200, "")
	do("PUT", "/plates/none", class("ATTIC"), "x", 400, "InvalidStorageClass")
	for key, want := range map[string]string{"main": "", "named": "", "dry": "DRYING-ROOM", "cold": "CELLAR"} {
		if h, _ := do("HEAD", "/plates/"+key, nil, "", 200, ""); strings.Join(h["X-Amz-Storage-Class"], "") != want {
			t.Errorf("%s is in %q", key, h["X-Amz-Storage-Class"])
		}
	}
	do("GET", "/plates/dry", nil, "", 200, "dry")
	do("GET", "/plates?list-type=2", nil, "", 200,
		"<StorageClass>CELLAR</StorageClass></Contents><Contents><Key>dry</Key>")
	do("GET", "/plates?versions", nil, "", 200, "<StorageClass>DRYING-ROOM</StorageClass>")
	do("GET", "/plates/dry?attributes", map[string]string{"x-amz-object-attributes": "StorageClass"}, "", 200,
		"<StorageClass>DRYING-ROOM</StorageClass>")
	_, b := do("POST", "/plates/parts?uploads", class("DRYING-ROOM"), "", 200, "UploadId")
	id := b[strings.Index(b, "<UploadId>")+10 : strings.Index(b, "</UploadId>")]
	do("PUT", "/plates/parts?partNumber=1&uploadId="+id, nil, "a part", 200, "")
	do("GET", "/plates/parts?uploadId="+id, nil, "", 200, "<StorageClass>DRYING-ROOM</StorageClass>")
	do("GET", "/plates?uploads", nil, "", 200, "<StorageClass>DRYING-ROOM</StorageClass>")
	do("POST", "/plates/parts?uploadId="+id, nil,
		"<CompleteMultipartUpload><Part><PartNumber>1</PartNumber></Part></CompleteMultipartUpload>", 200, "ETag")
	if h, _ := do("GET", "/plates/parts", nil, "", 200, "a part"); h["X-Amz-Storage-Class"][0] != "DRYING-ROOM" {
		t.Errorf("an upload's class: %v", h)
	}
	copying := class("STANDARD")
	copying["x-amz-copy-source"] = "/plates/dry"
	do("PUT", "/plates/dry", copying, "", 200, "ETag") // to itself, in another class
	if h, _ := do("GET", "/plates/dry", nil, "", 200, "dry"); h["X-Amz-Storage-Class"] != nil {
		t.Errorf("copied to main: %v", h)
	}
	// Restored first.
	do("GET", "/plates/cold", nil, "", 403, "InvalidObjectState")
	do("PUT", "/plates/copy", map[string]string{"x-amz-copy-source": "/plates/cold", "x-amz-storage-class": "STANDARD"},
		"", 403,
		"InvalidObjectState")
	ask := "<RestoreRequest><Days>3</Days></RestoreRequest>"
	do("POST", "/plates/main?restore", nil, ask, 403, "InvalidObjectState")
	do("POST", "/plates/cold?restore", nil, "<RestoreRequest/>", 400, "MalformedXML")
	do("POST", "/plates/cold?restore", nil, "<RestoreRequest><Days>1</Days><SelectParameters/></RestoreRequest>", 501,
		"SelectParameters")
	do("POST", "/plates/cold?restore", nil, ask, 202, "")
	do("POST", "/plates/cold?restore", nil, ask, 409, "RestoreAlreadyInProgress")
	if h, _ := do("HEAD", "/plates/cold", nil, "", 200, ""); h["X-Amz-Restore"][0] != `ongoing-request="true"` {
		t.Errorf("under way: %v", h["X-Amz-Restore"])
	}
	harness.Until(t, "the copy is there", func() bool {
		st, _, b := s.Do("GET", "/plates/cold", nil, "", true)
		return st == 200 && b == "cold"
	})
	if h, _ := do("HEAD", "/plates/cold", nil, "", 200, ""); !strings.HasPrefix(h["X-Amz-Restore"][0],
		`ongoing-request="false", expiry-date="`) {
		t.Errorf("restored: %v", h["X-Amz-Restore"])
	}
	do("POST", "/plates/cold?restore", nil, ask, 200, "")
}

// TestLifecycleDocuments sends rules as the dialect has them and gets them back; what
// either side cannot say is refused by name.
func TestLifecycleDocuments(t *testing.T) {
	s := withCellar(t)
	do := func(method, body string, want int, says string) string {
		t.Helper()
		st, _, b := s.Do(method, "/plates?lifecycle", nil, body, true)
		if st != want || !strings.Contains(b, says) {
			t.Errorf("%s %s:\n%d %s\nwant %d %q", method, body, st, b, want, says)
		}
		return b
	}
	do("GET", "", 404, "NoSuchLifecycleConfiguration")
	rules := `<Rule><ID>old plates</ID><Filter><And><Prefix>plates/*</Prefix><Tag><Key>checked</Key><Value>yes</Value></Tag>` +
		`<ObjectSizeGreaterThan>131071</ObjectSizeGreaterThan></And></Filter><Status>Enabled</Status>` +
		`<Transition><Days>180</Days><StorageClass>DRYING-ROOM</StorageClass></Transition>` +
		`<Transition><Days>730</Days><StorageClass>CELLAR</StorageClass></Transition>` +
		`<Expiration><Date>2031-01-01T00:00:00.000Z</Date></Expiration></Rule>` +
		`<Rule><ID>tidy</ID><Filter><Prefix></Prefix></Filter><Status>Disabled</Status>` +
		`<Expiration><ExpiredObjectDeleteMarker>true</ExpiredObjectDeleteMarker></Expiration>` +
		`<NoncurrentVersionTransition><NoncurrentDays>30</NoncurrentDays><StorageClass>CELLAR</StorageClass></NoncurrentVersionTransition>` +
		`<NoncurrentVersionExpiration><NoncurrentDays>90</NoncurrentDays><NewerNoncurrentVersions>2</NewerNoncurrentVersions></NoncurrentVersionExpiration>` +
		`<AbortIncompleteMultipartUpload><DaysAfterInitiation>7</DaysAfterInitiation></AbortIncompleteMultipartUpload></Rule>`
	do("PUT", "<LifecycleConfiguration>"+rules+"</LifecycleConfiguration>", 200, "")
	got := do("GET", "", 200, "<LifecycleConfiguration")
	got = got[strings.Index(got, "<Rule>"):strings.Index(got, "</LifecycleConfiguration>")]
	if !sameRules(got, rules) {
		t.Errorf("came back as\n%s\nnot\n%s", got, rules)
	}
	one := func(inner string) string {
		return "<LifecycleConfiguration><Rule><ID>a</ID>" + inner + "<Status>Enabled</Status></Rule></LifecycleConfiguration>"
	}
	for body, says := range map[string]string{
		"<LifecycleConfiguration></LifecycleConfiguration>":                                                                               "MalformedXML",
		one("<Prefix/><Filter/><Expiration><Days>1</Days></Expiration>"):                                                                  "not both",
		one("<Filter/><Transition><Days>1</Days><StorageClass>ATTIC</StorageClass></Transition>"):                                         "<Field>StorageClass</Field>",
		one("<Filter/><Expiration><Days>1</Days><Hours>3</Hours></Expiration>"):                                                           "Hours",
		one("<Filter><Owner>me</Owner></Filter><Expiration><Days>1</Days></Expiration>"):                                                  "Owner",
		one("<Filter/><Expiration><Date>2031-01-01T10:00:00Z</Date></Expiration>"):                                                        "midnight",
		one("<Filter/><Expiration><Days>1</Days><Date>2031-01-01T00:00:00Z</Date></Expiration>"):                                          "not both",
		one("<Filter/><Expiration><Days>-1</Days></Expiration>"):                                                                          "InvalidArgument",
		one("<Filter/><Transition><Days>9</Days><StorageClass>CELLAR</StorageClass></Transition><Expiration><Days>9</Days></Expiration>"): "before the move",
		one("<Filter/>"): "does nothing",
	} {
		do("PUT", body, 400, says)
	}
	do("DELETE", "", 204, "")
	do("GET", "", 404, "NoSuchLifecycleConfiguration")
	do("DELETE", "", 204, "")
}

// sameRules compares rules whose actions may come in another order.
func sameRules(a, b string) bool {
	count := func(s string) map[string]int {
		n := map[string]int{}
		for _, x := range strings.SplitAfter(strings.ReplaceAll(s, "><", ">\n<"), "\n") {
			n[strings.TrimSpace(x)]++
		}
		return n
	}
	x, y := count(a), count(b)
	if len(x) != len(y) {
		return false
	}
	for k, n := range x {
		if y[k] != n {
			return false
		}
	}
	return true
}
