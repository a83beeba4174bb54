package client_test

import (
	"os"
	"strings"
	"testing"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/harness"
	"spindle/internal/wire/client"
)

func TestMain(m *testing.M) { os.Exit(harness.Main(m)) }

// TestAClientDoesWhatTheDialectHas puts under conditions, annotates, lists versions in
// pages and removes one, at a real service.
func TestAClientDoesWhatTheDialectHas(t *testing.T) {
	c, ctx := harness.Service(t, nil).Client(), t.Context()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(c.CreateBucket(ctx, "plates"))
	must(c.SetVersioning(ctx, "plates", true))
	put := func(text string, p client.Put) (client.Info, error) {
		return c.Put(ctx, "plates", "a & b/ä.txt", strings.NewReader(text), int64(len(text)), p)
	}
	first, err := put("one", client.Put{IfAbsent: true, Tags: object.Tags{"state": "new"}})
	must(err)
	if _, err := put("two", client.Put{IfAbsent: true}); fault.KindOf(err) != fault.Precondition {
		t.Errorf("if absent: %v", err)
	}
	if _, err := put("two", client.Put{IfETag: strings.Repeat("0", 32)}); fault.KindOf(err) != fault.Precondition {
		t.Errorf("on another content: %v", err)
	}
	second, err := put("two", client.Put{IfETag: first.ETag})
	must(err)

	must(c.SetTags(ctx, "plates", "a & b/ä.txt", object.Tags{"state": "checked @ desk/2"}))
	tags, err := c.Tags(ctx, "plates", "a & b/ä.txt")
	if err != nil || tags["state"] != "checked @ desk/2" {
		t.Errorf("%v, %v", tags, err)
	}
	must(c.SetTags(ctx, "plates", "a & b/ä.txt", nil))
	if tags, err := c.Tags(ctx, "plates", "a & b/ä.txt"); err != nil || len(tags) != 0 {
		t.Errorf("%v, %v", tags, err)
	}
	must(c.SetMetadata(ctx, "plates", "a & b/ä.txt", second.ETag,
		client.Put{ContentType: "text/csv", Metadata: object.Metadata{"taxon": "Erica"}}))
	if i, err := c.Head(ctx, "plates", "a & b/ä.txt"); err != nil || i.Metadata["taxon"] != "Erica" ||
		i.ContentType != "text/csv" {
		t.Errorf("%+v, %v", i, err)
	}
	if err := c.SetMetadata(ctx, "plates", "a & b/ä.txt", first.ETag,
		client.Put{}); fault.KindOf(err) != fault.Precondition {
		t.Errorf("on another content: %v", err)
	}

	must(c.Remove(ctx, "plates", "a & b/ä.txt"))
	var all []client.ListedVersion
	for at := (client.VersionPlace{}); ; {
		p, err := c.ListVersions(ctx, "plates", "a & b/", at, 1)
		must(err)
		all = append(all, p.Versions...)
		if at = p.Next; at == (client.VersionPlace{}) {
			break
		}
	}
	if n := len(all); n < 3 || !all[0].Marker || !all[0].Latest || all[n-1].ETag != first.ETag || all[n-1].Size != 3 ||
		all[n-1].Key != "a & b/ä.txt" {
		t.Fatalf("%+v", all)
	}
	must(c.RemoveVersion(ctx, "plates", "a & b/ä.txt", all[0].Version))
	p, err := c.List(ctx, "plates", "", "", "", 10)
	if err != nil || len(p.Objects) != 1 || p.Objects[0].Key != "a & b/ä.txt" || p.Objects[0].Owner == "" {
		t.Errorf("%+v, %v", p, err)
	}
}
