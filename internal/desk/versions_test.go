package desk_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"spindle/internal/harness"
	"spindle/internal/wire/client"
)

// keeping makes a bucket with versioning and puts bodies under keys, in order.
func keeping(t *testing.T, s *harness.Running, puts ...string) (*person, *client.Client) {
	t.Helper()
	p := newPerson(t, s)
	p.signIn()
	if st, e := p.ask("POST", "/api/v1/buckets", map[string]any{"name": "plates", "versioning": "on",
		"tags": map[string]string{"kind": "scans"}}); st != 201 || e["versioning"] != "on" {
		t.Fatalf("creating: %d %v", st, e)
	}
	c := s.Client()
	for _, kv := range puts {
		key, body, _ := strings.Cut(kv, "=")
		if _, err := c.Put(t.Context(), "plates", key, strings.NewReader(body), int64(len(body)),
			client.Put{Metadata: map[string]string{"taxon": body}}); err != nil {
			t.Fatal(err)
		}
	}
	return p, c
}

// dig reads a value out of a document.
func dig(v any, path ...any) any {
	for _, p := range path {
		switch p := p.(type) {
		case string:
			m, _ := v.(map[string]any)
			v = m[p]
		case int:
			l, _ := v.([]any)
			if p >= len(l) {
				return nil
			}
			v = l[p]
		}
	}
	return v
}

func TestVersionsAtTheDesk(t *testing.T) {
	s := harness.Service(t, nil)
	p, c := keeping(t, s, "k=one", "k=two", "a/b=three")
	api := "/api/v1/buckets/plates"
	st, h := p.ask("GET", api+"/history?key=k", nil)
	if st != 200 || dig(h, "chapters", 0, "versions", 0, "latest") != true ||
		dig(h, "chapters", 0, "versions", 1, "metadata", "taxon") != "one" {
		t.Fatalf("history: %d %v", st, h)
	}
	first := dig(h, "chapters", 0, "versions", 1, "version").(string)
	if st, o := p.ask("GET", api+"/object?key=k&version="+first, nil); st != 200 || dig(o, "metadata", "taxon") != "one" {
		t.Errorf("a version: %d %v", st, o)
	}
	for what, x := range map[string]struct {
		method, path string
		in           any
		status       int
		code         string
	}{
		"an unknown version":       {"GET", "/object?key=k&version=7vvvvvvv", nil, 404, "version-missing"},
		"no version":               {"GET", "/object?key=k&version=x", nil, 400, "version-malformed"},
		"a version of another key": {"GET", "/object?key=a%2Fb&version=" + first, nil, 404, "version-missing"},
		"a version and a moment": {"GET", "/object?key=k&asOf=1h&version=" + first, nil, 400,
			"version-or-moment"},
		"no moment":                  {"GET", "/objects?asOf=yesterday", nil, 400, "moment"},
		"a moment before the bucket": {"GET", "/objects?asOf=1h", nil, 404, "bucket-later"},
		"the history of nothing":     {"GET", "/history?key=none", nil, 404, "key-missing"},
		"an annotation of nothing":   {"PATCH", "/object?key=k", map[string]any{}, 400, "no-change"},
		"an annotation at another revision": {"PATCH", "/object?key=k",
			map[string]any{"metadata": map[string]any{"set": map[string]string{"a": "b"}}, "ifRevision": 7}, 412, "revision"},
		"a field that is not allowed": {"PATCH", "/object?key=k",
			map[string]any{"metadata": map[string]any{"set": map[string]string{"a b": "c"}}}, 400, "metadata-name"},
		"too many tags": {"PATCH", "/object?key=k",
			map[string]any{"tags": map[string]any{"set": many(11)}}, 400, "tag-count"},
		"a restore of the current one": {"POST", "/restore",
			map[string]any{"key": "a/b", "version": latestOf(t, p, "a/b")}, 409, "version-current"},
		"a restore of what": {"POST", "/restore", map[string]any{"key": "k"}, 400, "version-or-moment"},
		"a removal of an unknown version": {"POST", "/remove",
			map[string]any{"versions": []map[string]string{{"key": "k", "version": "7vvvvvvv"}}}, 404, "version-missing"},
		"usage by what is no prefix": {"GET", "/prefixes?prefix=a", nil, 400, "prefix-slash"},
		"switching off":              {"PATCH", "", map[string]any{"versioning": "off"}, 409, "versioning-kept"},
		"a copy of an unknown version": {"POST", "/copy",
			map[string]any{"fromBucket": "plates", "fromKey": "k", "fromVersion": "7vvvvvvv", "key": "z"}, 404,
			"version-missing"},
		"the bytes of an unknown version":     {"GET", "/body?key=k&version=7vvvvvvv", nil, 404, "version-missing"},
		"a page of versions at a wrong place": {"GET", "/versions?afterVersion=-1", nil, 422, "invalid"},
	} {
		if st, e := p.ask(x.method, api+x.path, x.in); st != x.status || x.code != "invalid" && e["code"] != x.code {
			t.Errorf("%s: %d %v, want %d %s", what, st, e, x.status, x.code)
		}
	}
	st, o := p.ask("PATCH", api+"/object?key=k",
		map[string]any{"metadata": map[string]any{"set": map[string]string{"taxon": "Ödland"}},
			"tags": map[string]any{"set": map[string]string{"seen": "yes"}}, "contentType": "text/plain", "ifRevision": 1})
	if st != 200 || o["revision"] != 2.0 || dig(o, "metadata", "taxon") != "Ödland" || o["contentType"] != "text/plain" ||
		dig(o, "tags", "seen") != "yes" {
		t.Errorf("annotated: %d %v", st, o)
	}
	if i, err := c.Head(t.Context(), "plates", "k"); err != nil || strings.HasPrefix(i.Metadata["taxon"], "=?") ||
		i.ContentType != "text/plain" {
		t.Errorf("on the wire: %+v, %v", i, err)
	}
	// Deleting keeps; the error says how it comes back; the marker can be removed.
	if st, q := p.ask("POST", api+"/remove", map[string]any{"keys": []string{"k"}, "rehearse": true}); st != 200 ||
		q["versioning"] != "on" || q["objects"] != 1.0 {
		t.Errorf("rehearsed: %d %v", st, q)
	}
	p.ask("POST", api+"/remove", map[string]any{"keys": []string{"k"}})
	if st, e := p.ask("GET", api+"/object?key=k", nil); st != 404 || e["code"] != "key-deleted" ||
		!strings.Contains(fmt.Sprint(e["remedy"]), "delete marker") {
		t.Errorf("deleted: %d %v", st, e)
	}
	if st, e := p.ask("GET", api+"/object?key=k&version="+latestOf(t, p, "k"), nil); st != 200 || e["marker"] != true {
		t.Errorf("the marker: %d %v", st, e)
	}
	if st, e := p.ask("PATCH", api+"/object?key=k&version="+latestOf(t, p, "k"),
		map[string]any{"metadata": map[string]any{"set": map[string]string{"a": "b"}}}); st != 409 ||
		e["code"] != "version-marker" {
		t.Errorf("annotating the marker: %d %v", st, e)
	}
	p.ask("POST", api+"/remove",
		map[string]any{"versions": []map[string]string{{"key": "k", "version": latestOf(t, p, "k")}}})
	if st, o := p.ask("GET", api+"/object?key=k", nil); st != 200 || o["revision"] != 2.0 {
		t.Errorf("brought back: %d %v", st, o)
	}
	if st, o := p.ask("POST", api+"/restore", map[string]any{"key": "k", "version": first}); st != 200 ||
		dig(o, "metadata", "taxon") != "one" {
		t.Errorf("restored: %d %v", st, o)
	}
	// What versions cost, by prefix, once the roll-up has come by.
	harness.Until(t, "what versions cost, by prefix", func() bool {
		p.ask("POST", api+"/remove", map[string]any{"keys": []string{"a/b"}})
		st, u := p.ask("GET", api+"/prefixes", nil)
		return st == 200 && dig(u, "prefixes", 0, "prefix") == "a/" && dig(u, "prefixes", 0, "previousBytes") == 5.0
	})
	if st, v := p.ask("GET", api+"/versions?limit=2", nil); st != 200 || len(dig(v, "versions").([]any)) != 2 ||
		v["next"] == nil {
		t.Errorf("a page of versions: %d %v", st, v)
	}
	st, j := p.ask("GET", "/api/v1/journal?kind=annotated&kind=restored&bucket=plates", nil)
	if st != 200 || len(dig(j, "entries").([]any)) != 2 || dig(j, "entries", 0, "says") != "from version "+first {
		t.Errorf("journal: %d %v", st, j)
	}
}

func many(n int) map[string]string {
	out := map[string]string{}
	for i := range n {
		out[fmt.Sprint("t", i)] = "x"
	}
	return out
}

func latestOf(t *testing.T, p *person, key string) string {
	t.Helper()
	st, h := p.ask("GET", "/api/v1/buckets/plates/history?key="+url.QueryEscape(key), nil)
	v, ok := dig(h, "chapters", 0, "versions", 0, "version").(string)
	if st != 200 || !ok {
		t.Fatalf("history of %s: %d %v", key, st, h)
	}
	return v
}

func TestOrdersAtTheDesk(t *testing.T) {
	s := harness.Service(t, nil)
	p, _ := keeping(t, s, "in/a=1", "in/b=22")
	in := map[string]any{"kind": "rename", "bucket": "plates", "prefix": "in/", "toBucket": "plates", "toPrefix": "out/"}
	if st, r := p.ask("POST", "/api/v1/orders/rehearse", in); st != 200 ||
		r["counts"].(map[string]any)["renamed"] != 2.0 || r["bytes"] != 3.0 {
		t.Fatalf("rehearsed: %d %v", st, r)
	}
	st, o := p.ask("POST", "/api/v1/orders", in)
	if st != 201 || o["total"] != 2.0 {
		t.Fatalf("ordered: %d %v", st, o)
	}
	path := fmt.Sprintf("/api/v1/orders/%v", o["id"])
	harness.Until(t, "the order is done", func() bool {
		_, o = p.ask("GET", path, nil)
		return o["state"] == "done"
	})
	if o["counts"].(map[string]any)["renamed"] != 2.0 || o["done"] != 2.0 {
		t.Errorf("done: %v", o)
	}
	if st, e := p.ask("POST", path+"/stop", nil); st != 409 || e["code"] != "order-state" {
		t.Errorf("stopping what is done: %d %v", st, e)
	}
	if st, e := p.ask("GET", "/api/v1/orders/999", nil); st != 404 || e["code"] != "order-missing" {
		t.Errorf("no order: %d %v", st, e)
	}
	if st, e := p.ask("POST", "/api/v1/orders", map[string]any{"kind": "restore", "bucket": "plates", "prefix": "",
		"asOf": "soon"}); st != 400 || e["code"] != "moment" {
		t.Errorf("no moment: %d %v", st, e)
	}
	if st, l := p.ask("GET", "/api/v1/orders?state=done", nil); st != 200 || len(dig(l, "orders").([]any)) != 1 {
		t.Errorf("listed: %d %v", st, l)
	}
}

func TestTheStrandInTheConsole(t *testing.T) {
	s := harness.Service(t, nil)
	p, c := keeping(t, s, "k=one", "k=two", "k=three!")
	walk, text := signedIn(t, s, "/buckets/plates/object?key=k")
	walk("the strand", harness.Appears("3 versions"), harness.Appears("version 3, current"))
	if n := text(`document.querySelectorAll("svg [role=button]").length`); n != "3" {
		t.Errorf("%s beads", n)
	}
	bead := func(i int) chromedp.Action[chromedp.Void] {
		return harness.Script(
			fmt.Sprintf(`document.querySelectorAll("svg [role=button]")[%d].dispatchEvent(new MouseEvent("click", {bubbles: true}))`, i))
	}
	walk("an earlier version", bead(0), harness.Appears("Previous version"), harness.Appears("Download this version"))
	if q := text("location.search"); !strings.Contains(q, "version=") {
		t.Errorf("the address is %s", q)
	}
	walk("compare", harness.Choose("Compare with", "0"), harness.Appears("1 field differs"))
	walk("reload keeps it", chromedp.Reload(), harness.Appears("1 field differs"))
	walk("restore", harness.Button("Restore"), harness.Appears("is current"), harness.Appears("4 versions"))
	if o, err := c.Head(t.Context(), "plates", "k"); err != nil || o.Size != 3 {
		t.Errorf("restored: %+v, %v", o, err)
	}
	// Metadata in place, with the revision; read anew, so that nothing of before is drawn again beneath it.
	walk("read anew", chromedp.Reload(), harness.Appears("4 versions"), harness.Appears("CRC-64/NVME"))
	walk("change a field", harness.Click(chromedp.CSS(`button[aria-label="Change taxon"]`)),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label="Value of taxon"]`), " more"), harness.Button("Save as revision 2"),
		harness.Appears("taxon saved: revision 2"), harness.Appears("one more"))
	// Somebody else changes it meanwhile: both are shown.
	walk("begin", harness.Click(chromedp.CSS(`button[aria-label="Change taxon"]`)),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label="Value of taxon"]`), ", mine"))
	if st, o := p.ask("PATCH", "/api/v1/buckets/plates/object?key=k",
		map[string]any{"metadata": map[string]any{"set": map[string]string{"taxon": "theirs <b>"}}}); st != 200 {
		t.Fatal(o)
	}
	walk("conflict", harness.Button("Save as revision 3"), harness.Appears("Somebody changed it meanwhile"),
		harness.Appears("theirs <b>"), harness.Appears("one more, mine"))
	walk("mine", harness.Button("Save mine as revision 4"), harness.Appears("taxon saved: revision 4"))
	walk("a tag", harness.Button("Add a tag"), chromedp.SendKeys(chromedp.CSS(`input[aria-label=Name]`), "state"),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label="Value of state"]`), "checked"),
		harness.Button("Save as revision 5"), harness.Appears("state = checked"))
	walk("a wrong tag", harness.Button("Add a tag"), chromedp.SendKeys(chromedp.CSS(`input[aria-label=Name]`), "no?"),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label="Value of no?"]`), "x"), harness.Button("Save as revision 6"),
		harness.Appears("is not allowed"), harness.Button("Cancel"))
	// Renamed: the new name has the old one's lane. Deleted: a band says so and brings it back.
	walk("rename", harness.Button("Rename"), harness.Appears("To the address"),
		harness.Script(`{const i = document.querySelector(".dialog input"); Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(i, "plates/new/name"); i.dispatchEvent(new Event("input", {bubbles: true}))}`),
		chromedp.Click(chromedp.CSS(`button[form="move-object"]`)), harness.Appears("another name"))
	walk("read anew", chromedp.Navigate(s.DeskURL+"/buckets/plates/object?key=new/name"), harness.Appears("another name"),
		harness.Appears("CRC-64/NVME"))
	walk("remove", harness.Button("Remove"), harness.Appears("can be brought back"), harness.Button("Remove 1 object"),
		harness.Appears("A delete marker hides it"))
	walk("bring back", harness.Button("Bring back the last version"), harness.Appears("Current version"))
	walk("the old name", chromedp.Navigate(s.DeskURL+"/buckets/plates/object?key=k"), harness.Appears("Renamed"),
		harness.Appears("plates/new/name"))
}

func TestUploadsAtTheDesk(t *testing.T) {
	s := harness.Service(t, nil)
	p, _ := keeping(t, s)
	st, u := p.ask("POST", "/api/v1/buckets/plates/uploads",
		map[string]any{"key": "big", "contentType": "image/tiff", "metadata": map[string]string{"taxon": "Erica"}})
	if st != 201 {
		t.Fatalf("starting: %d %v", st, u)
	}
	path := fmt.Sprintf("/api/v1/buckets/plates/uploads/%v", u["id"])
	if st, x := p.ask("PUT", path+"/parts/1?key=big", "hello"); st != 201 || x["size"] != 7.0 { // as JSON, with quotes
		t.Errorf("a part: %d %v", st, x)
	}
	for what, x := range map[string]struct {
		method, path string
		in           any
		status       int
		code         string
	}{
		"a part without number": {"PUT", path + "/parts/0?key=big", "x", 400, "part-number"},
		"a part of another key": {"PUT", path + "/parts/1?key=other", "x", 404, "upload-missing"},
		"an unknown upload":     {"GET", "/api/v1/buckets/plates/uploads/nix?key=big", nil, 404, "upload-missing"},
		"completing a missing part": {"POST", path + "/complete?key=big",
			map[string]any{"parts": []map[string]any{{"number": 2}}}, 400, "part-missing"},
		"completing with a bad ETag": {"POST", path + "/complete?key=big",
			map[string]any{"parts": []map[string]any{{"number": 1, "etag": "x"}}}, 400, "part-missing"},
		"completing another size": {"POST", path + "/complete?key=big", map[string]any{"size": 9}, 400, "size-mismatch"},
		"abandoning an unknown one": {"POST", "/api/v1/uploads/abandon",
			map[string]any{"uploads": []map[string]string{{"bucket": "plates", "key": "big", "id": "nix"}}}, 404,
			"upload-missing"},
		"of no moment":       {"GET", "/api/v1/uploads?olderThan=soon", nil, 400, "moment"},
		"days that are none": {"POST", "/api/v1/buckets", map[string]any{"name": "attic", "abandonAfter": 99999}, 422, ""},
	} {
		if st, e := p.ask(x.method, x.path, x.in); st != x.status || x.code != "" && e["code"] != x.code {
			t.Errorf("%s: %d %v, want %d %s", what, st, e, x.status, x.code)
		}
	}
	if st, l := p.ask("GET", "/api/v1/uploads?bucket=plates", nil); st != 200 || dig(l, "uploads", 0, "bytes") != 7.0 ||
		dig(l, "all", "uploads") != 1.0 {
		t.Errorf("listed: %d %v", st, l)
	}
	for range 2 { // said again it tells the same
		if st, o := p.ask("POST", path+"/complete?key=big",
			map[string]any{"parts": []map[string]any{{"number": 1}}}); st != 200 || o["size"] != 7.0 ||
			o["arrived"] != "in 1 parts" || dig(o, "metadata", "taxon") != "Erica" {
			t.Errorf("completed: %d %v", st, o)
		}
	}
	if st, b := p.ask("POST", "/api/v1/buckets", map[string]any{"name": "attic", "abandonAfter": 3}); st != 200 &&
		st != 201 {
		t.Errorf("abandoned after: %d %v", st, b)
	}
	if st, r := p.ask("GET", "/api/v1/buckets/attic/lifecycle", nil); st != 200 ||
		dig(r, "rules", 0, "name") != "unfinished-uploads" || dig(r, "rules", 0, "actions", 0, "days") != 3.0 {
		t.Errorf("the rule made with it: %d %v", st, r)
	}
}

// TestUploadsInPartsFromTheBrowser pauses an upload, reloads the page, chooses
// the file again and has it go on.
func TestUploadsInPartsFromTheBrowser(t *testing.T) {
	s := harness.Service(t, nil)
	p, c := keeping(t, s)
	file := filepath.Join(t.TempDir(), "mosaic.tif")
	if err := os.WriteFile(file, bytes.Repeat([]byte("0123456789abcdef"), 40<<16), 0o600); err != nil {
		t.Fatal(err)
	}
	walk, text := signedIn(t, s, "/buckets/plates")
	walk("slow the line",
		harness.Script(`{const send = XMLHttpRequest.prototype.send; let n = 0; XMLHttpRequest.prototype.send = function (b) { if (++n > 2) return; send.call(this, b) }}`))
	walk("upload", chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{file}, chromedp.NodeReady),
		harness.Appears("Uploading 1 of 1"), harness.Appears("16.0 MiB of 40.0 MiB"))
	walk("pause", harness.Button("under way"), harness.Appears("Pause"), harness.Button("Pause"),
		harness.Appears("what was sent is kept"))
	walk("reload", harness.Script(`window.onbeforeunload = null`), chromedp.Navigate(s.DeskURL+"/uploads"),
		harness.Appears("plates/mosaic.tif"), harness.Appears("1 upload asks"), harness.Button("Show"),
		harness.Appears("Choose the file again"))
	if n := text(`document.querySelector("main tbody tr").innerText`); !strings.Contains(n, "16.0") {
		t.Errorf("the page of uploads says %q", n)
	}
	for what, body := range map[string][]byte{"small": []byte("3,000 bytes"), // another file, and one of the same size
		"mosaic.tif": append(bytes.Repeat([]byte("0123456789abcdef"), 40<<16-1), []byte("fedcba9876543210")...),
		"other.tif":  bytes.Repeat([]byte("0123456789abcdef"), 40<<16)} {
		another := filepath.Join(t.TempDir(), what)
		if what == "mosaic.tif" {
			body[0] = 'x'
		}
		if err := os.WriteFile(another, body, 0o600); err != nil {
			t.Fatal(err)
		}
		walk("another file: "+what, chromedp.SetUploadFiles(chromedp.CSS(".dialog input[type=file]"), []string{another},
			chromedp.NodeReady), harness.Appears("is of another file"))
		if _, err := c.Head(t.Context(), "plates", "mosaic.tif"); err == nil {
			t.Fatal("another file was put under the key")
		}
	}
	walk("go on", chromedp.SetUploadFiles(chromedp.CSS(".dialog input[type=file]"), []string{file}, chromedp.NodeReady),
		harness.Appears("1 file uploaded"), harness.Appears("There are no unfinished uploads"))
	if o, err := c.Head(t.Context(), "plates", "mosaic.tif"); err != nil || o.Size != 40<<20 ||
		!strings.HasSuffix(o.ETag, "-5") {
		t.Errorf("uploaded: %+v, %v", o, err)
	}
	// Unfinished ones are chosen and abandoned.
	for _, key := range []string{"a", "b"} {
		if st, u := p.ask("POST", "/api/v1/buckets/plates/uploads", map[string]any{"key": key}); st != 201 {
			t.Fatal(u)
		}
	}
	walk("abandon", chromedp.Navigate(s.DeskURL+"/uploads"), harness.Appears("plates/b"),
		chromedp.Click(chromedp.CSS(`button[aria-label="Choose all"]`)), harness.Button("Abandon 2"),
		harness.Appears("What was sent is gone"),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label="The number of uploads"]`), "2"),
		chromedp.Click(chromedp.CSS("button.harm.solid")), harness.Appears("Abandoned 2 uploads"),
		harness.Appears("There are no unfinished uploads"))
}

func TestThePastAndTheJournalInTheConsole(t *testing.T) {
	s := harness.Service(t, nil)
	p, _ := keeping(t, s, "in/a=one", "in/b=two")
	then := time.Now().UTC().Format(time.RFC3339Nano)
	time.Sleep(5 * time.Millisecond)
	p.ask("POST", "/api/v1/buckets/plates/remove", map[string]any{"keys": []string{"in/a", "in/b"}})
	walk, text := signedIn(t, s, "/buckets/plates?prefix=in%2F")
	walk("now it is empty", harness.Appears("Nothing lies beneath this prefix"))
	walk("then", chromedp.Navigate(s.DeskURL+"/buckets/plates?prefix=in%2F&asof="+url.QueryEscape(then)),
		harness.Appears("This is the past"), harness.Appears("2 entries"))
	if d := text(`[...document.querySelectorAll("button")].find(b => b.textContent.includes("Upload")).disabled`); d != "true" {
		t.Error("one can upload into the past")
	}
	walk("a version of then", chromedp.Click(chromedp.CSS("tbody a")), harness.Appears("Download this version"),
		chromedp.NavigateBack(), harness.Appears("This is the past"))
	walk("rehearse", harness.Button("Restore this prefix"), harness.Appears("Bring back, or set back"))
	if d := text(`[...document.querySelectorAll(".dialog button")].find(b => b.textContent === "Restore").disabled`); d != "true" {
		t.Error("it can be restored before the number is typed")
	}
	walk("restore", chromedp.SendKeys(chromedp.CSS(`input[aria-label="The number of objects"]`), "2"),
		chromedp.Click(chromedp.CSS(".dialog .btn.main")), harness.Appears("Restoring, completed"),
		harness.Appears("2 entries"))
	walk("the journal", chromedp.Navigate(s.DeskURL+"/journal"), harness.Appears("restored"),
		harness.Appears("complete up to"))
	walk("filtered", harness.Choose("Kind of change", "deleted"), harness.Appears("2 entries"))
	if q := text("location.search"); q != "?kind=deleted" {
		t.Errorf("the address has %s", q)
	}
	walk("of nothing", chromedp.SendKeys(chromedp.CSS(`input[aria-label="Keys that begin with"]`), "zz"),
		harness.Appears("No changes match"))
	walk("settings", chromedp.Navigate(s.DeskURL+"/buckets/plates/settings"),
		harness.Appears("Versions that are there stay"), chromedp.Click(chromedp.CSS(`button[role=radio][aria-label=off]`)),
		harness.Script(`[...document.querySelectorAll("section")].find(s => s.innerText.startsWith("Versioning")).querySelector(".btn.main").click()`), harness.Appears("Pause it instead"))
	walk("paused", chromedp.Click(chromedp.CSS(`button[role=radio][aria-label=paused]`)),
		harness.Script(`[...document.querySelectorAll("section")].find(s => s.innerText.startsWith("Versioning")).querySelector(".btn.main").click()`), harness.Appears("Versioning is paused"))
	var b struct{ Versioning string }
	if st, doc := p.ask("GET", "/api/v1/buckets/plates", nil); st != 200 {
		t.Error(doc)
	} else if raw, err := json.Marshal(doc); err != nil || json.Unmarshal(raw, &b) != nil || b.Versioning != "paused" {
		t.Errorf("versioning is %q", b.Versioning)
	}
}
