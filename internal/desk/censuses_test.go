package desk_test

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"golang.org/x/sys/unix"

	"spindle/internal/core/access"
	"spindle/internal/core/census"
	"spindle/internal/core/object"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/standin"
	"spindle/internal/wire/client"
)

// ended waits for the end of a run of a census and gives it.
func ended(t *testing.T, p *person, name string, run any) map[string]any {
	t.Helper()
	var last map[string]any
	harness.Until(t, "the census ends", func() bool {
		_, last = p.ask("GET", fmt.Sprintf("/api/v1/censuses/%s/runs/%v", name, run), nil)
		return last["ended"] != nil
	})
	return last
}

// A census lists what there is at one moment, in files with a manifest; it is read, summed
// and compared, and tells nobody else anything.
func TestCensus(t *testing.T) {
	s := harness.Service(t, nil)
	c := s.Client()
	for _, b := range []string{"plates", "attic", "reports"} {
		if err := c.CreateBucket(t.Context(), b); err != nil {
			t.Fatal(err)
		}
	}
	put := func(bucket, key string, n int, taxon string) {
		t.Helper()
		if _, err := c.Put(t.Context(), bucket, key, strings.NewReader(strings.Repeat("x", n)), int64(n),
			client.Put{Metadata: object.Metadata{"taxon": taxon}, Tags: object.Tags{"kind": "scan"}}); err != nil {
			t.Fatal(err)
		}
	}
	for i := range 25 {
		put("plates", fmt.Sprintf("2026/%02d", i), i*10, []string{"Carex", "Drosera, red"}[i%2])
	}
	put("attic", "old", 7, "Carex")
	p := newPerson(t, s)
	p.signIn()
	for _, bad := range []map[string]any{{"to": "reports", "from": "nowhere"},
		{"to": "reports", "columns": []string{"shoe"}},
		{"to": "reports", "where": "siz over 1"}, {"to": "@nowhere/b"}, {"to": "/etc"}, {"to": "reports", "format": "xls"},
		{"to": "reports", "schedule": "sometimes"}} {
		bad["name"] = "bad"
		if st, e := p.ask("POST", "/api/v1/censuses", bad); st < 400 || e["remedy"] == "" {
			t.Errorf("%v: %d %v", bad, st, e)
		}
	}
	st, e := p.ask("POST", "/api/v1/censuses", map[string]any{"name": "weekly", "to": "reports/in", "from": "plates/2026",
		"schedule": "@weekly"})
	if st != 201 || e["next"] == nil || e["last"] == nil {
		t.Fatalf("%d %v", st, e)
	}
	run := ended(t, p, "weekly", 1)
	if run["state"] != "done" || run["rows"] != 25.0 || run["asOf"] == nil {
		t.Fatalf("%v", run)
	}
	listed, err := c.List(t.Context(), "reports", "in/weekly/", "", "", 10)
	if err != nil || len(listed.Objects) != 2 {
		t.Fatalf("%+v, %v", listed, err)
	}
	var m census.Manifest
	body, err := c.Get(t.Context(), "reports", listed.Objects[0].Key, "", 0, "")
	if err != nil {
		t.Fatal(err)
	}
	defer body.Body.Close()
	if text, err := io.ReadAll(body.Body); err != nil || json.Unmarshal(text, &m) != nil || m.Rows != 25 ||
		len(m.Files) != 1 ||
		m.Files[0].Key != "part-00001.csv" || m.Columns[1].Name != "key" || m.Columns[4].Kind != census.Whole {
		t.Errorf("the manifest says %s: %v", text, err)
	}
	const runs = "/api/v1/censuses/weekly/runs"
	st, e = p.ask("POST", runs+"/0/rows", map[string]any{"where": `field taxon is "Drosera, red" and size over 100`,
		"limit": 3})
	if rows := e["rows"].([]any); st != 200 || len(rows) != 3 || rows[0].([]any)[1] != "2026/11" || e["next"] == nil {
		t.Errorf("%d %v", st, e)
	}
	if st, e = p.ask("POST", runs+"/0/totals", map[string]any{"by": "field taxon"}); st != 200 || e["rows"] != 25.0 ||
		e["values"] != 2.0 {
		t.Errorf("%d %v", st, e)
	}
	put("plates", "2026/99", 1, "Carex")
	put("plates", "2026/03", 1, "Carex")
	if err := c.Remove(t.Context(), "plates", "2026/05"); err != nil {
		t.Fatal(err)
	}
	if st, e := p.ask("POST", runs+"/0/compare", map[string]any{}); st != 404 {
		t.Errorf("compared with nothing: %d %v", st, e)
	}
	if st, e = p.ask("POST", runs, map[string]any{}); st != 201 {
		t.Fatalf("%d %v", st, e)
	}
	ended(t, p, "weekly", e["id"])
	st, e = p.ask("POST", runs+"/0/compare", map[string]any{})
	if st != 200 || e["came"] != 1.0 || e["went"] != 1.0 || e["changed"] != 1.0 || len(e["list"].([]any)) != 3 {
		t.Errorf("%d %v", st, e)
	}

	// Of the whole account, all versions, in every format.
	for _, f := range []string{"csv", "json", "parquet"} {
		if st, e := p.ask("POST", "/api/v1/censuses", map[string]any{"name": "all-" + f, "to": "reports", "format": f,
			"versions": true,
			"where":    "not bucket is reports"}); st != 201 {
			t.Fatalf("%d %v", st, e)
		}
		run := ended(t, p, "all-"+f, 0)
		if run["rows"] != 26.0 {
			t.Errorf("%s: %v", f, run)
		}
		if st, e := p.ask("POST", "/api/v1/censuses/all-"+f+"/runs/0/totals", map[string]any{"by": "bucket"}); st != 200 ||
			e["values"] != 2.0 {
			t.Errorf("%s: %d %v", f, st, e)
		}
	}

	// Of others nothing is listed or read.
	k := s.NewKey("seed-lab", "visitor", access.Administrator, nil)
	s.Grant("plates", "", "account:seed-lab", "read from")
	v := newPerson(t, s)
	if st, e := v.signInAs(map[string]string{"key": k.ID, "secret": k.Secret}); st != 201 {
		t.Fatalf("%d %v", st, e)
	}
	if st, e := v.ask("POST", "/api/v1/censuses", map[string]any{"name": "theirs", "to": "reports",
		"from": "plates"}); st < 400 ||
		strings.Contains(fmt.Sprint(e), harness.Key) {
		t.Errorf("a census of others: %d %v", st, e)
	}
	for _, path := range []string{"", "/runs/1", "/runs/0/rows", "/runs/0/totals", "/runs/0/compare"} {
		method, in := "GET", any(nil)
		switch {
		case strings.HasSuffix(path, "totals"):
			method, in = "POST", map[string]any{"by": "key"}
		case strings.Contains(path, "0/"):
			method, in = "POST", map[string]any{}
		}
		if st, e := v.ask(method, "/api/v1/censuses/weekly"+path, in); st != 404 || strings.Contains(fmt.Sprint(e), "2026") {
			t.Errorf("%s %s by another account: %d %v", method, path, st, e)
		}
	}
}

// A census into an endpoint waits while that is away, says so, and one that fails leaves
// nothing behind.
func TestCensusElsewhere(t *testing.T) {
	s := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
	c := fill(t, s, 3, func(i int) string { return fmt.Sprint("k", i) })
	there, _ := harness.Standin(t, standin.Faults{}, "lists")
	s.StandinEndpoint("annex", there)
	p := newPerson(t, s)
	p.signIn()
	if st, e := p.ask("POST", "/api/v1/censuses", map[string]any{"name": "out", "to": "@annex/lists/",
		"format": "parquet"}); st != 201 {
		t.Fatalf("%d %v", st, e)
	}
	if run := ended(t, p, "out", 1); run["state"] != "done" || run["rows"] != 3.0 {
		t.Fatalf("%v", run)
	}
	if st, e := p.ask("POST", "/api/v1/censuses/out/runs/0/rows", map[string]any{}); st != 200 ||
		len(e["rows"].([]any)) != 3 {
		t.Errorf("read there: %d %v", st, e)
	}
	if err := c.CreateBucket(t.Context(), "small"); err != nil {
		t.Fatal(err)
	}
	if st, e := p.ask("PATCH", "/api/v1/buckets/small", map[string]any{"quota": 10}); st != 200 {
		t.Fatalf("%d %v", st, e)
	}
	if st, e := p.ask("POST", "/api/v1/censuses", map[string]any{"name": "full", "to": "small"}); st != 201 {
		t.Fatalf("%d %v", st, e)
	}
	if run := ended(t, p, "full", 2); run["state"] != "failed" || !strings.Contains(fmt.Sprint(run["says"]), "quota") {
		t.Errorf("a target without room: %v", run)
	}
	if l, err := c.List(t.Context(), "small", "", "", "", 10); err != nil || len(l.Objects) != 0 {
		t.Errorf("%d objects were left behind, %v", len(l.Objects), err)
	}
	if st, e := p.ask("POST", "/api/v1/censuses/full/runs/2/rows", map[string]any{}); st != 409 ||
		e["code"] != "census-unwritten" {
		t.Errorf("read what was not written: %d %v", st, e)
	}
}

// A process that dies while it writes a census leaves it to another, and the moment of its
// rows is one.
func TestCensusIsTrueOfOneMoment(t *testing.T) {
	s := harness.Service(t, nil)
	c := fill(t, s, 500, func(i int) string { return fmt.Sprintf("%04d", i) })
	if err := c.CreateBucket(t.Context(), "reports"); err != nil {
		t.Fatal(err)
	}
	stop := make(chan struct{})
	moved := make(chan error, 1)
	go func() { // one object is at one of two keys at any moment, but for the time between
		var err error
		for i := 0; err == nil; i++ {
			select {
			case <-stop:
				moved <- nil
				return
			default:
			}
			_, err = c.Put(t.Context(), "plates", "0000", strings.NewReader(fmt.Sprint(i)), int64(len(fmt.Sprint(i))),
				client.Put{})
			if err == nil {
				_, err = c.Put(t.Context(), "plates", "0499", strings.NewReader(fmt.Sprint(i)), int64(len(fmt.Sprint(i))),
					client.Put{})
			}
		}
		moved <- err
	}()
	p := newPerson(t, s)
	p.signIn()
	for i := range 5 {
		name := fmt.Sprintf("n%d", i)
		if st, e := p.ask("POST", "/api/v1/censuses", map[string]any{"name": name, "to": "reports",
			"from": "plates"}); st != 201 {
			t.Fatalf("%d %v", st, e)
		}
		run := ended(t, p, name, 0)
		st, e := p.ask("POST", "/api/v1/censuses/"+name+"/runs/0/rows", map[string]any{"limit": 1000})
		if st != 200 {
			t.Fatalf("%d %v", st, e)
		}
		var last time.Time
		at := slices.Index(census.Usual, "changed")
		for _, row := range e["rows"].([]any) {
			m, err := time.Parse(time.RFC3339Nano, row.([]any)[at].(string))
			if err != nil {
				t.Fatal(err)
			}
			if m.After(last) {
				last = m
			}
		}
		if asOf, _ := time.Parse(time.RFC3339Nano, run["asOf"].(string)); len(e["rows"].([]any)) != 500 || last.After(asOf) {
			t.Errorf("%d rows as of %s, one of %s", len(e["rows"].([]any)), asOf, last)
		}
	}
	close(stop)
	if err := <-moved; err != nil {
		t.Fatal(err)
	}
}

// TestCensusWithoutRoom has the disk of the folder for work fill up under a census: it fails and
// says so, nothing is at its target, and with room the next one is written.
func TestCensusWithoutRoom(t *testing.T) {
	disk := ""
	s := harness.Service(t, func(cfg *service.Config) {
		disk = filepath.Join(cfg.Data, "scratch")
		if err := os.MkdirAll(disk, 0o700); err != nil {
			t.Fatal(err)
		}
		if err := unix.Mount("tmpfs", disk, "tmpfs", 0, "size=64k"); err != nil {
			t.Skipf("mounting a small disk is not allowed here: %v", err)
		}
	})
	t.Cleanup(func() { _ = unix.Unmount(disk, unix.MNT_DETACH) })
	c := fill(t, s, 400, func(i int) string { return fmt.Sprintf("%04d/%s", i, strings.Repeat("long-", 150)) })
	if err := c.CreateBucket(t.Context(), "reports"); err != nil {
		t.Fatal(err)
	}
	p := newPerson(t, s)
	p.signIn()
	if st, e := p.ask("POST", "/api/v1/censuses", map[string]any{"name": "all", "from": "plates",
		"to": "reports"}); st != 201 {
		t.Fatal(e)
	}
	if run := ended(t, p, "all", 1); run["state"] != "failed" || !strings.Contains(fmt.Sprint(run["says"]),
		"folder for work is full") {
		t.Errorf("%v", run)
	}
	if _, e := p.ask("GET", "/api/v1/buckets/reports/objects", nil); len(e["objects"].([]any)) != 0 {
		t.Errorf("at the target: %v", e)
	}
	if err := unix.Mount("tmpfs", disk, "tmpfs", unix.MS_REMOUNT, "size=30m"); err != nil {
		t.Fatal(err)
	}
	if st, e := p.ask("POST", "/api/v1/censuses/all/runs", map[string]any{}); st != 201 {
		t.Fatal(e)
	}
	if run := ended(t, p, "all", 2); run["state"] != "done" || run["rows"] != 400.0 {
		t.Errorf("with room: %v", run)
	}
}

// TestCensusInTheConsole makes a census, reads it and looks at what is in it.
func TestCensusInTheConsole(t *testing.T) {
	s := harness.Service(t, nil)
	c := fill(t, s, 3, func(i int) string { return []string{"a/one", "b/two", "b/three"}[i] })
	if err := c.CreateBucket(t.Context(), "reports"); err != nil {
		t.Fatal(err)
	}
	walk, _ := signedIn(t, s, "/census")
	field := func(name, text string) chromedp.Action[chromedp.Void] {
		return chromedp.SendKeys(chromedp.CSS(".dialog input[name="+name+"]"), text)
	}
	walk("a new census", harness.Appears("There is no census yet"), harness.Button("New census"),
		chromedp.WaitVisible(chromedp.CSS(".dialog input[name=name]")), field("name", "weekly"), field("from", "plates"),
		field("to", "reports/in"),
		harness.Button("Write the first"), harness.Appears("3 rows"), harness.Appears("done"))
	walk("read", harness.Button("Open it"), harness.Appears("b/three"), harness.Appears("a/one"))
	walk("filtered", chromedp.SendKeys(chromedp.CSS("input[name=where]"), "key begins with b/\r"),
		harness.Appears("b/two"))
	walk("summed", harness.Button("Totals"), harness.Appears("by key"), harness.Appears("b/"))
	walk("compared", harness.Button("Differences"), harness.Appears("no earlier run"))
}
