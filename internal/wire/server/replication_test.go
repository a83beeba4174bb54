package server_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
	"spindle/internal/harness"
	"spindle/internal/wire/sign"
)

const replicationDoc = `<ReplicationConfiguration><Role>any</Role>
<Rule><ID>to-copies</ID><Priority>3</Priority><Status>Enabled</Status>
<Filter><And><Prefix>2026/</Prefix><Tag><Key>kind</Key><Value>scan</Value></Tag></And></Filter>
<DeleteMarkerReplication><Status>Enabled</Status></DeleteMarkerReplication>
<Destination><Bucket>arn:aws:s3:::copies</Bucket><StorageClass>STANDARD</StorageClass></Destination></Rule>
<Rule><ID>old-form</ID><Status>Disabled</Status><Prefix></Prefix>
<Destination><Bucket>arn:aws:s3:::copies</Bucket></Destination></Rule></ReplicationConfiguration>`

// The replication document goes in and comes out, and what it cannot say is neither left
// out nor written over.
func TestReplicationDocument(t *testing.T) {
	s := harness.Service(t, nil)
	do := func(method, path, body string, status int, part string) string {
		t.Helper()
		st, _, b := s.Do(method, path, nil, body, true)
		if st != status || !strings.Contains(b, part) {
			t.Errorf("%s %s: %d %s; want %d and %q", method, path, st, b, status, part)
		}
		return b
	}
	for _, b := range []string{"plates", "copies", "loose"} {
		do("PUT", "/"+b, "", 200, "")
	}
	do("GET", "/plates?replication", "", 404, "ReplicationConfigurationNotFoundError")
	do("PUT", "/plates?replication", replicationDoc, 400, "Versioning must be")
	on := "<VersioningConfiguration><Status>Enabled</Status></VersioningConfiguration>"
	do("PUT", "/plates?versioning", on, 200, "")
	do("PUT", "/plates?replication", replicationDoc, 400, "Destination bucket must have versioning enabled")
	do("PUT", "/copies?versioning", on, 200, "")
	do("PUT", "/plates?replication", replicationDoc, 200, "")
	out := do("GET", "/plates?replication", "", 200, "<ID>to-copies</ID><Priority>3</Priority><Status>Enabled</Status>"+
		"<Filter><And><Prefix>2026/</Prefix><Tag><Key>kind</Key><Value>scan</Value></Tag></And></Filter>")
	if !strings.Contains(out, "<ID>old-form</ID>") || !strings.Contains(out, "arn:aws:s3:::copies") {
		t.Errorf("the document: %s", out)
	}
	do("PUT", "/plates?replication", out, 200, "") // what comes out goes in
	if again := do("GET", "/plates?replication", "", 200, ""); again != out {
		t.Errorf("it came out as\n%s\nand then as\n%s", out, again)
	}
	for change, code := range map[string][2]string{
		"arn:aws:s3:::copies": {"nowhere", "InvalidRequest"}, "Enabled</Status>": {"Perhaps</Status>", "MalformedXML"},
		"<StorageClass>STANDARD":   {"<StorageClass>NONE", "InvalidStorageClass"},
		"<ID>to-copies":            {"<ID>To Copies", "InvalidArgument"},
		"</StorageClass>":          {"</StorageClass><EncryptionConfiguration/>", "NotImplemented"},
		"<Role>any</Role>":         {"<Roles/>", "MalformedXML"},
		"arn:aws:s3:::copies</Buc": {"arn:aws:s3:::plates</Buc", "InvalidArgument"},
		"arn:aws:s3:::copies<":     {"arn:aws:s3:::loose<", "InvalidRequest"},
		"arn:aws:s3:::copies</":    {"arn:aws:s3:::none</", "NoSuchBucket"},
	} {
		st, _, b := s.Do("PUT", "/plates?replication", nil, strings.Replace(replicationDoc, change, code[0], 1), true)
		if st < 400 || !strings.Contains(b, "<Code>"+code[1]+"<") {
			t.Errorf("with %s: %d %s; want %s", code[0], st, b, code[1])
		}
	}
	// Another account, which may set the bucket and not write into the target, is refused.
	lab := s.NewKey("seed-lab", "lab", access.Administrator, nil)
	s.Grant("plates", "", "key:"+lab.ID, "administer")
	if st, _, b := s.As(lab, "PUT", "/plates?replication", nil, replicationDoc); st != 403 {
		t.Errorf("without a grant at the target: %d %s", st, b)
	}
	s.Replicate(&replication.Rule{Name: "unsaid", Bucket: "plates", Removals: true,
		Targets: []replication.Target{{Bucket: "copies", Prefix: "deep/"}}})
	do("GET", "/plates?replication", "", 501, "unsaid")
	do("PUT", "/plates?replication", replicationDoc, 501, "unsaid")
	do("DELETE", "/plates?replication", "", 501, "unsaid")
	if err := s.Store.Catalog.RemoveReplication(t.Context(), "herbarium", "unsaid",
		catalog.Author{At: time.Now(), Who: harness.Key}); err != nil {
		t.Fatal(err)
	}
	do("DELETE", "/plates?replication", "", 204, "")
	do("GET", "/plates?replication", "", 404, "ReplicationConfigurationNotFoundError")
}

// What a plain writer says of the origin of an object does not count: it would keep the object
// from being copied on. It counts of who administers, and of who may replicate into.
func TestOriginsCountOfThoseWhoReplicate(t *testing.T) {
	s := harness.Service(t, nil)
	c := s.Client()
	if err := errors.Join(c.CreateBucket(t.Context(), "plates"), c.SetVersioning(t.Context(), "plates",
		true)); err != nil {
		t.Fatal(err)
	}
	origin := func(at time.Time) string {
		return "service-nine/plates;k;1;" + at.UTC().Format(time.RFC3339Nano)
	}
	writer := s.NewKey("herbarium", "writer", access.Writer, nil)
	carrier := s.NewKey("seed-lab", "carrier", access.Writer, nil)
	s.Grant("plates", "", "key:"+carrier.ID, "replicate into")
	for i, x := range []struct {
		key   sign.Credential
		is    bool
		which string
	}{{writer, false, "a plain writer"}, {carrier, true, "who may replicate into"},
		{sign.Credential{ID: harness.Key, Secret: harness.Secret}, true, "who administers"}} {
		key := fmt.Sprint("k", i)
		h := map[string]string{"Spindle-Origin": origin(time.Now().AddDate(973, 0, 0))}
		if st, _, b := s.As(x.key, "PUT", "/plates/"+key, h, "x"); st != 200 {
			t.Fatalf("%s puts: %d %s", x.which, st, b)
		}
		a := catalog.Address{Bucket: object.MustBucketName("plates"), Key: object.MustKey(key)}
		v, err := s.Store.Find(t.Context(), a)
		if err != nil || (v.Origin != "") != x.is {
			t.Errorf("%s: the origin is %q, %v", x.which, v.Origin, err)
		}
		// The year 2999 keeps nobody from writing, nor an older state from what is newer.
		if st, _, b := s.Do("PUT", "/plates/"+key, nil, "newer", true); st != 200 {
			t.Errorf("written over what claims to be of the future: %d %s", st, b)
		}
		st, _, b := s.As(x.key, "PUT", "/plates/"+key,
			map[string]string{"Spindle-Origin": origin(time.Now().Add(-time.Hour))}, "older")
		if x.is {
			want(t, x.which+" brings an older state", st, b, 409, "ReplicaNewerThere")
		} else if st != 200 {
			t.Errorf("%s writes: %d %s", x.which, st, b)
		}
		st, _, b = s.As(x.key, "DELETE", "/plates/"+key,
			map[string]string{"Spindle-Origin": origin(time.Now().Add(-time.Hour))}, "")
		if x.is {
			want(t, x.which+" brings an older removal", st, b, 409, "ReplicaNewerThere")
		}
	}
}
