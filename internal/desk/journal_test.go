package desk_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/chromedp/chromedp"

	"spindle/internal/harness"
	"spindle/internal/service"
)

// TestJournalInTheConsole keeps a filter and uses it, pauses the journal of a bucket and
// keeps it for a year, and has changes posted to an address.
func TestJournalInTheConsole(t *testing.T) {
	got := make(chan struct{}, 100)
	hook := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { got <- struct{}{} }))
	t.Cleanup(hook.Close)
	s := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
	c := fill(t, s, 3, func(i int) string { return fmt.Sprint("k", i) })
	walk, _ := signedIn(t, s, "/journal?bucket=plates&kind=written")
	field := func(name, text string) chromedp.Action[chromedp.Void] {
		return chromedp.SendKeys(chromedp.CSS(".dialog input[name="+name+"]"), text)
	}
	walk("keep a filter", harness.Appears("plates/k0"), harness.Button("Keep the filter"), field("name", "puts"),
		chromedp.Click(chromedp.CSS("button[form]")), harness.Appears("The filter puts is kept"))
	walk("use it", chromedp.Navigate(s.DeskURL+"/journal"), harness.Appears("bucket created"), harness.Button("puts"),
		harness.Appears("3 entries"))
	walk("forget it", chromedp.Navigate(s.DeskURL+"/journal"), harness.Button("Forget"),
		harness.Appears("puts is forgotten"))

	walk("pause a journal", chromedp.Navigate(s.DeskURL+"/buckets/plates/settings"),
		harness.Appears("changes of objects are recorded"),
		harness.Script(`[...document.querySelectorAll("section")].find((x) => x.querySelector("h2").innerText === "Journal").querySelector("[role=switch]").click()`),
		harness.Appears("changes of objects are not recorded"))
	walk("keep it a year", harness.Script(`document.querySelector("input[name=journalDays]").select()`),
		chromedp.SendKeys(chromedp.CSS("input[name=journalDays]"), "365"),
		harness.Script(`{const b = document.querySelector("input[name=journalDays]").form.querySelector("button"); if (b.disabled) throw 1; b.click()}`),
		harness.Appears("The journal is kept 365 days"))
	p := newPerson(t, s)
	p.signIn()
	st, e := p.ask("GET", "/api/v1/buckets/plates/journal?days=1", nil)
	if st != 200 || e["paused"] != true || e["days"] != 365.0 || e["going"] != 0.0 || len(e["gaps"].([]any)) != 1 ||
		e["entries"].(float64) < 4 {
		t.Errorf("%d %v", st, e)
	}

	walk("post elsewhere", chromedp.Navigate(s.DeskURL+"/journal/posts"), harness.Appears("Changes are posted nowhere"),
		harness.Button("Post to an address"), field("name", "indexer"), field("url", hook.URL),
		chromedp.Click(chromedp.CSS("button[form]")),
		harness.Appears("The secret is shown this once"), chromedp.Click(chromedp.CSS("[role=dialog] [role=checkbox]")),
		harness.Button("Done"),
		harness.Appears("keeps up"))
	if err := c.CreateBucket(t.Context(), "another"); err != nil {
		t.Fatal(err)
	}
	<-got
	walk("try, pause, remove", harness.Button("Try"), harness.Appears("took an event that tells of nothing"),
		harness.Button("Pause"),
		harness.Appears("paused"), harness.Button("Remove"), harness.Appears("it never gets"),
		chromedp.Click(chromedp.CSS("button[form]")),
		harness.Appears("Changes are posted nowhere"))
}
