package desk_test

import (
	"io"
	"net/http"
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"spindle/internal/harness"
)

// TestThePageHasANonceOfItsOwn compares the page's policy with what stands in it.
func TestThePageHasANonceOfItsOwn(t *testing.T) {
	s := harness.Service(t, nil)
	nonce := regexp.MustCompile(`<meta name="style-nonce" content="(\w{20,})"`)
	seen := map[string]bool{}
	for _, path := range []string{"/", "/buckets", "/"} {
		resp, err := http.Get(s.DeskURL + path)
		if err != nil {
			t.Fatal(err)
		}
		page, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		policy := resp.Header.Get("Content-Security-Policy")
		m := nonce.FindSubmatch(page)
		if err != nil || m == nil || !strings.Contains(policy, "style-src 'self' 'nonce-"+string(m[1])+"';") ||
			strings.Contains(policy, "unsafe") {
			t.Errorf("%s: %s\n%s", path, policy, page)
			continue
		}
		seen[string(m[1])] = true
	}
	if len(seen) != 3 {
		t.Errorf("%d nonces in 3 pages", len(seen))
	}
	resp, err := http.Get(s.DeskURL + "/healthz")
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	if p := resp.Header.Get("Content-Security-Policy"); strings.Contains(p, "nonce") || strings.Contains(p, "unsafe") {
		t.Errorf("the policy of what is no page: %s", p)
	}
}

// TestTheConsoleKeepsItsPolicy opens a dialog, a choice and a hint, whose components
// add styles, and listens for what the browser refused; then it makes the page narrow.
func TestTheConsoleKeepsItsPolicy(t *testing.T) {
	s := harness.Service(t, nil)
	tab, walk := browser(t)
	walk("sign in", chromedp.Navigate(s.DeskURL))
	walk("key", harness.SignIn("key", harness.Key, harness.Secret)...)
	walk("listen", harness.Appears("Nothing is stored yet"),
		harness.Script(`window.refused = []; document.addEventListener("securitypolicyviolation", (e) => refused.push(e.violatedDirective + " " + e.sourceFile))`),
		harness.Click(chromedp.Search(`//a[contains(., "Buckets")]`)), harness.Button("Create a bucket"),
		harness.Appears("Versioning"), harness.Button("Cancel"),
		harness.Click(chromedp.Search(`//a[contains(., "Journal")]`)), harness.Appears("complete up to"),
		harness.Choose("Since", "last day"), harness.Appears("last day"))
	if refused, err := chromedp.Run(tab, chromedp.Evaluate[string](`JSON.stringify(refused)`)); err != nil ||
		refused != "[]" {
		t.Errorf("the browser refused %s, %v", refused, err)
	}
	for _, path := range []string{"/", "/buckets", "/journal", "/access", "/uploads", "/connect"} {
		walk(path, chromedp.Navigate(s.DeskURL+path), chromedp.EmulateViewport(420, 800),
			chromedp.WaitVisible(chromedp.CSS("main h1")))
		wide, err := chromedp.Run(tab,
			chromedp.Evaluate[float64](
				`Math.max(document.documentElement.scrollWidth, ...[...document.querySelectorAll("main, .addressline, main h1")].map((e) => e.getBoundingClientRect().right))`))
		if err != nil || wide > 420 {
			t.Errorf("%s is %g pixels wide on a screen of 420: %v", path, wide, err)
		}
	}
}
