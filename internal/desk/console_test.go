package desk_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"spindle/internal/harness"
	"spindle/internal/wire/client"
)

// browser opens a tab, and gives what walks through pages in it.
func browser(t *testing.T) (tab context.Context, walk func(what string, steps ...chromedp.Action[chromedp.Void])) {
	t.Helper()
	tab = harness.Tab(t)
	return tab, func(what string, steps ...chromedp.Action[chromedp.Void]) {
		t.Helper()
		if err := harness.Steps(tab, steps...); err != nil {
			t.Fatalf("%s: %v", what, err)
		}
	}
}

// TestConsole walks through the console in a browser as a person would: sign
// in, create a bucket, upload, look, remove.
func TestConsole(t *testing.T) {
	s := harness.Service(t, nil)
	tab, walk := browser(t)
	field := func(label, text string) chromedp.Action[chromedp.Void] {
		return chromedp.SendKeys(chromedp.CSS("input[name="+label+"]"), text)
	}
	walk("open", chromedp.Navigate(s.DeskURL))
	walk("wrong secret", append(harness.SignIn("key", harness.Key, "guessed"),
		harness.Appears("do not belong together"))...)
	walk("sign in", harness.Script(`document.querySelector("input[name=secret]").select()`),
		field("secret", harness.Secret), harness.Button("Sign in"), harness.Appears("Nothing is stored yet"))
	walk("create a bucket", chromedp.Navigate(s.DeskURL+"/buckets"), harness.Button("Create a bucket"),
		field("name", "A_b"), chromedp.Click(chromedp.CSS("button[form]")), harness.Appears("is not allowed"),
		harness.Script(`document.querySelector("input[name=name]").select()`), field("name", "plates"),
		chromedp.Click(chromedp.CSS("button[form]")), harness.Appears("The bucket is empty"))

	file := filepath.Join(t.TempDir(), "sheet.txt")
	if err := os.WriteFile(file, []byte(strings.Repeat("Calluna vulgaris\n", 9000)), 0o600); err != nil {
		t.Fatal(err)
	}
	walk("upload", chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{file}, chromedp.NodeReady),
		harness.Appears("sheet.txt"), harness.Appears("1 file uploaded"))
	o, err := s.Client().Head(t.Context(), "plates", "sheet.txt")
	if err != nil || o.Size != 153_000 {
		t.Errorf("uploaded: %+v, %v", o, err)
	}
	walk("upload it again", chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{file}, chromedp.NodeReady),
		harness.Appears("1 upload asks"))

	// What others wrote must stay text.
	evil := `<img src=x onerror="document.title='owned'">/<script>document.title='owned'</script>`
	c := s.Client()
	if _, err := c.Put(t.Context(), "plates", evil, strings.NewReader("x"), 1,
		client.Put{ContentType: `text/html"><script>document.title='owned'</script>`,
			Metadata: map[string]string{"taxon": `<script>document.title='owned'</script>`}}); err != nil {
		t.Fatal(err)
	}
	walk("browse live", harness.Appears("<img src=x"))
	walk("open its folder", chromedp.Click(chromedp.Search(`//tbody//a[contains(., "<img")]`)),
		harness.Appears("<script>document.title"))
	walk("open the next", chromedp.Click(chromedp.Search(`//tbody//a[contains(., "<script>")]`)),
		harness.Appears("1 entry"), chromedp.WaitVisible(chromedp.Search(`//tbody//a[. = "script>"]`)))
	walk("open it", chromedp.Click(chromedp.Search(`//tbody//a[. = "script>"]`)), harness.Appears("CRC-64/NVME"),
		harness.Appears("<script>document.title='owned'</script>"))
	title, err := chromedp.Run(tab, chromedp.Evaluate[string]("document.title"))
	if err != nil || title != "Spindle" {
		t.Errorf("the page's title is %q, %v: a script of an object ran", title, err)
	}
	walk("remove one", harness.Button("Remove"), harness.Appears("can be brought back"), harness.Button("Remove 1 object"),
		harness.Appears("Removed 1 object"))
	walk("an address", chromedp.Navigate(s.DeskURL+"/buckets/plates"), harness.Appears("sheet.txt"),
		chromedp.Click(chromedp.Search(`//tbody//a[contains(., "sheet.txt")]`)), harness.Appears("149.4 KiB"))
	walk("flat, searched", chromedp.Navigate(s.DeskURL+"/buckets/plates?flat=1&prefix=sh"), harness.Appears("1 entry"),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label="Keys that begin with"]`), "X"),
		harness.Appears(`No key here begins with "shX"`))
	walk("settings", chromedp.Navigate(s.DeskURL+"/buckets/plates/settings"), harness.Appears("Quota"),
		chromedp.SendKeys(chromedp.CSS("input[placeholder=none]"), "1 KiB"), harness.Button("Save"),
		harness.Appears("153,001"))
	walk("remove the bucket", harness.Button("Remove the bucket"), harness.Appears("nothing of it can be brought back"),
		harness.Script(`{const i = document.querySelector("input[aria-label^='The number of']"); Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(i, document.querySelector(".dialog label b").textContent); i.dispatchEvent(new Event("input", {bubbles: true}))}`), chromedp.Click(chromedp.CSS("button.harm.solid")), harness.Appears("There are no buckets yet"))
	walk("check", chromedp.Navigate(s.DeskURL+"/connect"), harness.Appears("The four facts"), harness.Button("Check"),
		harness.Appears("its secret fits"))
	walk("sign out", harness.Button("Sign out"), harness.Appears("Sign in to Spindle"))
}
