package desk_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"spindle/internal/harness"
	"spindle/internal/wire/client"
)

// signedIn gives a tab in which somebody is signed in, on a page.
func signedIn(t *testing.T, s *harness.Running, path string) (walk func(string, ...chromedp.Action[chromedp.Void]),
	text func(string) string) {
	t.Helper()
	tab, walk := browser(t)
	text = func(expression string) string {
		t.Helper()
		v, err := chromedp.Run(tab, chromedp.Evaluate[string]("String("+expression+")"))
		if err != nil {
			t.Fatalf("%s: %v", expression, err)
		}
		return v
	}
	walk("open", chromedp.Navigate(s.DeskURL+path))
	walk("sign in", append(harness.SignIn("key", harness.Key, harness.Secret), harness.Appears("Sign out"))...)
	return walk, text
}

// fill puts objects into a bucket.
func fill(t *testing.T, s *harness.Running, n int, key func(int) string) *client.Client {
	t.Helper()
	c := s.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	for i := range n {
		if _, err := c.Put(t.Context(), "plates", key(i), strings.NewReader("x"), 1, client.Put{}); err != nil {
			t.Fatal(err)
		}
	}
	return c
}

// TestALongListScrolls reads a bucket of many pages: only what is seen is
// drawn, and all of it can be reached.
func TestALongListScrolls(t *testing.T) {
	s := harness.Service(t, nil)
	fill(t, s, 900, func(i int) string { return fmt.Sprintf("sheet-%04d", i) })
	walk, text := signedIn(t, s, "/buckets/plates")
	walk("the first rows", harness.Appears("sheet-0000"))
	if n := text(`document.querySelectorAll("tbody tr").length`); len(n) > 2 {
		t.Errorf("%s rows are drawn", n)
	}
	harness.Until(t, "the end of the list", func() bool {
		return text(`(()=>{const b=document.querySelector('[aria-label=Objects]'); b.scrollTop=b.scrollHeight;
			return String(b.innerText.includes("sheet-0899"))})()`) == "true"
	})
	walk("the last row", harness.Appears("900 entries"))
	walk("a search", chromedp.SendKeys(chromedp.CSS(`input[aria-label="Keys that begin with"]`), "sheet-04"),
		harness.Appears("100 entries"))
	if q := text("location.search"); q != "?prefix=sheet-04" {
		t.Errorf("the address has %q", q)
	}
}

// TestByKeyboard goes, chooses and removes without a mouse.
func TestByKeyboard(t *testing.T) {
	s := harness.Service(t, nil)
	c := fill(t, s, 5, func(i int) string { return fmt.Sprintf("a/sheet-%d", i) })
	walk, text := signedIn(t, s, "/")
	walk("help", chromedp.KeyEvent("?"), harness.Appears("Choose the object one is on"), chromedp.KeyEvent("\x1b"),
		chromedp.Sleep(300_000_000))
	walk("go to a prefix", chromedp.KeyEvent("/"), chromedp.KeyEvent("plates/a/\r"), harness.Appears("5 entries"))
	if p := text("location.pathname + location.search"); p != "/in/herbarium/buckets/plates?prefix=a%2F" {
		t.Errorf("went to %s", p)
	}
	down := harness.Script(
		`document.activeElement.dispatchEvent(new KeyboardEvent("keydown", {key: "ArrowDown", bubbles: true}))`)
	press := func(key string) chromedp.Action[chromedp.Void] {
		return harness.Script(`document.activeElement.dispatchEvent(new KeyboardEvent("keydown", {key: "` + key +
			`", bubbles: true}))`)
	}
	walk("choose two", harness.Script(`document.querySelector('[aria-label=Objects]').focus()`), down, press(" "), down,
		press(" "), harness.Appears("2 selected"))
	walk("ask", press("Delete"), harness.Appears("Remove 2 objects?"))
	if f := text("document.activeElement.textContent"); f != "Keep" {
		t.Errorf("%q has the focus, not the safe button", f)
	}
	if d := text(`[...document.querySelectorAll("button")].find(b => b.textContent === "Remove 2 objects").disabled`); d != "true" {
		t.Error("it can be removed before the number is typed")
	}
	walk("keep", chromedp.KeyEvent("\x1b"), chromedp.Sleep(200_000_000))
	if p, err := c.List(t.Context(), "plates", "", "", "", 10); err != nil || len(p.Objects) != 5 {
		t.Errorf("%d objects are left after keeping them, %v", len(p.Objects), err)
	}
	walk("ask again, type", harness.Script(`document.querySelector('[aria-label=Objects]').focus()`), press("Delete"),
		harness.Appears("Remove 2 objects?"),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label="The number of objects"]`), "2"),
		chromedp.Click(chromedp.CSS("button.harm.solid")), harness.Appears("Removed 2 objects"))
	if p, err := c.List(t.Context(), "plates", "", "", "", 10); err != nil || len(p.Objects) != 3 ||
		p.Objects[0].Key != "a/sheet-2" {
		t.Errorf("left: %+v, %v", p.Objects, err)
	}
}

// TestThingsThatGoWrongAreSaid meets errors where they belong.
func TestThingsThatGoWrongAreSaid(t *testing.T) {
	s := harness.Service(t, nil)
	c := fill(t, s, 1, func(int) string { return "a/b" })
	walk, text := signedIn(t, s, "/buckets/nowhere")
	walk("no such bucket", harness.Appears(`no bucket named "nowhere"`))
	walk("no such object", chromedp.Navigate(s.DeskURL+"/buckets/plates/object?key=none"),
		harness.Appears("no object with this key"))
	walk("a prefix is browsed", chromedp.Navigate(s.DeskURL+"/buckets/plates/object?key=a"), harness.Appears("1 entry"))
	if p := text("location.search"); p != "?prefix=a%2F" {
		t.Errorf("went to %s", p)
	}
	walk("no such page", chromedp.Navigate(s.DeskURL+"/frob"), harness.Appears("There is no such page"))
	walk("quota", chromedp.Navigate(s.DeskURL+"/buckets/plates/settings"), harness.Appears("Quota"),
		chromedp.SendKeys(chromedp.CSS("input[placeholder=none]"), "lots"), harness.Appears("This is no size"))
	big := filepath.Join(t.TempDir(), "big.tif")
	if err := os.WriteFile(big, make([]byte, 200_000), 0o600); err != nil {
		t.Fatal(err)
	}
	walk("a full bucket", harness.Script(`document.querySelector("input[placeholder=none]").select()`),
		chromedp.SendKeys(chromedp.CSS("input[placeholder=none]"), "100 KiB"), harness.Button("Save"),
		harness.Appears("The quota is now 100.0 KiB"))
	walk("an upload that does not fit", chromedp.Navigate(s.DeskURL+"/buckets/plates"), harness.Appears("a/"),
		chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{big}, chromedp.NodeReady),
		harness.Appears("1 upload asks"), harness.Button("Show"), harness.Appears("has room for"))
	if p, err := c.List(t.Context(), "plates", "", "", "", 10); err != nil || len(p.Objects) != 1 {
		t.Errorf("there: %+v, %v", p.Objects, err)
	}
	// The session ends elsewhere: the page asks to sign in again.
	walk("signed out elsewhere", chromedp.Navigate(s.DeskURL+"/buckets"), harness.Appears("plates"),
		harness.Script(`fetch("/api/v1/session").then(r => r.json()).then(s => fetch("/api/v1/session", {method: "DELETE", headers: {"X-Spindle-Forgery": s.forgery}}))`), chromedp.Sleep(300_000_000))
	if _, err := c.Put(t.Context(), "plates", "change", strings.NewReader("x"), 1, client.Put{}); err != nil {
		t.Fatal(err)
	}
	walk("asked to sign in", chromedp.Navigate(s.DeskURL+"/"), harness.Appears("Sign in to Spindle"))
}

// TestThemesAndDrops looks at the colours a person gets, and drops a file.
func TestThemesAndDrops(t *testing.T) {
	s := harness.Service(t, nil)
	walk, text := signedIn(t, s, "/")
	ground := `getComputedStyle(document.querySelector("main")).backgroundColor`
	want := map[string]string{"dark": "rgb(26, 27, 30)", "light": "rgb(250, 249, 246)"}
	for _, theme := range []string{"dark", "light"} {
		walk("turn", chromedp.Click(chromedp.CSS(`button[title^="Change between"]`)), chromedp.Sleep(100_000_000))
		if got := text(ground); got != want[theme] {
			t.Errorf("%s: the ground is %s, want %s", theme, got, want[theme])
		}
		walk("reload", chromedp.Reload(), harness.Appears("Sign out"))
		if got := text(ground); got != want[theme] {
			t.Errorf("%s after a reload: %s", theme, got)
		}
	}
	// A file dropped on a bucket is put into the folder one looks at.
	fill(t, s, 1, func(int) string { return "a/b" })
	walk("drop", chromedp.Navigate(s.DeskURL+"/buckets/plates?prefix=a%2F"), harness.Appears("1 entry"),
		harness.Script(`{const d = new DataTransfer(); d.items.add(new File(["dropped"], "from outside.txt", {type: "text/plain"}));
			for (const kind of ["dragover", "drop"]) document.querySelector(".droppable").dispatchEvent(new DragEvent(kind, {dataTransfer: d, bubbles: true, cancelable: true}))}`),
		harness.Appears("from outside.txt"), harness.Appears("1 file uploaded"))
	if o, err := s.Client().Head(t.Context(), "plates", "a/from outside.txt"); err != nil || o.Size != 7 ||
		o.ContentType != "text/plain" {
		t.Errorf("dropped: %+v, %v", o, err)
	}
	// No page asks the network for anything but the service.
	other := text(`performance.getEntriesByType("resource").map(e => e.name).filter(n => !n.startsWith(location.origin) && !n.startsWith("data:")).join(" ")`)
	if other != "" {
		t.Errorf("asked for elsewhere: %s", other)
	}
}

// TestNothingIsLostUnasked changes a rule, a quota and what is in a dialog, and goes away; looks at what
// is gone or was never there; and asks for a moment that is yet to come.
func TestNothingIsLostUnasked(t *testing.T) {
	s := harness.Service(t, nil)
	fill(t, s, 1, func(int) string { return "sheet" })
	walk, text := signedIn(t, s, "/buckets/plates/lifecycle/new")
	enter := func(css, value string) chromedp.Action[chromedp.Void] {
		return chromedp.SendKeys(chromedp.CSS(css), value)
	}
	const notSaved = "What you changed here is not saved"
	walk("a rule is begun, and left", enter("input[aria-label='Name of the rule']", "old"), harness.Button("Overview"),
		harness.Appears(notSaved))
	walk("one stays", harness.Button("Stay"), harness.Gone(notSaved))
	if v := text(`document.querySelector("input[aria-label='Name of the rule']").value`); v != "old" {
		t.Errorf("what was entered is %q", v)
	}
	walk("it is discarded, unasked", harness.Button("Discard"), harness.Appears("No rules yet"))
	walk("a quota is entered, and left", harness.Button("Settings"), enter("input[placeholder=none]", "3 MiB"),
		harness.Button("Journal"), harness.Appears(notSaved), harness.Button("Leave without saving"),
		harness.Appears("complete up to"), harness.Gone(notSaved))
	walk("a dialog with something in it is not closed by escape alone", chromedp.Navigate(s.DeskURL+"/buckets"),
		harness.Button("Create a bucket"), enter("input[name=name]", "attic"), chromedp.KeyEvent(kb.Escape),
		harness.Appears("Escape once more throws it away"), chromedp.KeyEvent(kb.Escape), harness.Gone("Escape once more"))

	walk("a rule that is not there", chromedp.Navigate(s.DeskURL+"/buckets/plates/lifecycle/nosuch"),
		harness.Appears("has no rule nosuch"))
	walk("a section that is not there", chromedp.Navigate(s.DeskURL+"/buckets/plates/nosuch"),
		harness.Appears("There is no such page"))
	walk("a charter that is not there", chromedp.Navigate(s.DeskURL+"/charters/nosuch"),
		harness.Appears("No charter"))
	walk("a moment to come", chromedp.Navigate(s.DeskURL+"/buckets/plates"), harness.Appears("sheet"),
		harness.Script(`{const i = document.querySelector("input[type=datetime-local]"); Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(i, "2999-01-01T00:00"); i.dispatchEvent(new Event("input", {bubbles: true}))}`),
		harness.Appears("yet to come"))
	walk("its settings", harness.Button("Settings"), harness.Appears("Quota"))
	p := newPerson(t, s)
	p.signIn()
	for _, call := range []struct {
		method, path string
		in           any
	}{{"POST", "/api/v1/buckets/plates/remove", map[string]any{"keys": []string{"sheet"}}},
		{"DELETE", "/api/v1/buckets/plates", nil}} {
		if st, e := p.ask(call.method, call.path, call.in); st > 299 {
			t.Fatalf("%s: %d %v", call.path, st, e)
		}
	}
	walk("and those of a bucket that is gone", harness.Appears(`There is no bucket named "plates"`))
}

// TestTheClockInTheConsole has the database's clock jump by two days, and says that it is right.
func TestTheClockInTheConsole(t *testing.T) {
	s := harness.Service(t, nil)
	ahead := func(at time.Time) time.Time { return at.Add(48 * time.Hour) }
	s.Store.Catalog.TheirClock(ahead, nil)
	s.Store.Catalog.OwnClock(func() time.Time { return ahead(time.Now()) })
	if err := s.Store.Catalog.LookAtClock(t.Context()); err != nil || !s.Store.Catalog.Doubtful() {
		t.Fatalf("nothing is asked: %v", err)
	}
	walk, text := signedIn(t, s, "/")
	field := func(name, text string) chromedp.Action[chromedp.Void] {
		return chromedp.SendKeys(chromedp.CSS(".dialog input[name="+name+"]"), text)
	}
	walk("the overview tells", harness.Appears("of the database jumped"),
		harness.Script(`[...document.querySelectorAll("a")].find((a) => a.pathname.endsWith("/clock")).click()`),
		harness.Appears("48 h ahead"), harness.Appears("waits for you"))
	walk("a moment that is none", harness.Button("The clock is right"), harness.Appears("Wrong since"),
		field("wrongSince", "some day"), chromedp.Click(chromedp.CSS("button[form]")), harness.Appears("is no moment"))
	walk("say so", harness.Script(`document.querySelector("input[name=wrongSince]").select()`), field("wrongSince",
		kb.Backspace), chromedp.Click(chromedp.CSS("button[form]")),
		harness.Appears("Rules that act by age go on"), harness.Appears("said to be right"))
	if s.Store.Catalog.Doubtful() || strings.Contains(text(`document.body.innerText`), "waits for you") {
		t.Error("it is still asked about")
	}
}

// TestAVolumeIsGivenUpInTheConsole loses a directory of a tier in copies, and takes it out as lost for good.
func TestAVolumeIsGivenUpInTheConsole(t *testing.T) {
	s := harness.Service(t, nil)
	var dirs []string
	for range 3 {
		dirs = append(dirs, filepath.Join(t.TempDir(), "disk"))
	}
	p := newPerson(t, s)
	p.signInAs(map[string]string{"key": harness.Key, "secret": harness.Secret})
	if st, b := p.ask("POST", "/api/v1/tiers", map[string]any{"name": "press", "copies": 2, "volumes": dirs}); st != 200 &&
		st != 201 {
		t.Fatal(st, b)
	}
	if err := os.Rename(dirs[1], dirs[1]+".dead"); err != nil {
		t.Fatal(err)
	}
	walk, _ := signedIn(t, s, "/tiers")
	walk("the form", harness.Appears("its marker file is missing"),
		harness.Script(`[...document.querySelectorAll("tr")].find((r) => r.textContent.includes("press")).querySelector("button").click()`),
		chromedp.WaitVisible(chromedp.CSS("#tier-without")), chromedp.SendKeys(chromedp.CSS("#tier-without"), kb.Enter))
	walk("the volume", chromedp.WaitVisible(chromedp.CSS("[role=option]")),
		chromedp.Click(chromedp.CSS("[role=option]:nth-of-type(3)")),
		harness.Appears("It is lost for good"))
	walk("given up", chromedp.Click(chromedp.CSS(`[aria-label="The directory is lost for good"]`)),
		chromedp.Click(chromedp.CSS("button[form]")), harness.Appears("The tier press is saved"))
	if _, b := p.ask("GET", "/api/v1/tiers/press", nil); dig(b, "keeps") != "2 copies over 2 volumes" {
		t.Errorf("it is still a volume: %v", b)
	}
}
