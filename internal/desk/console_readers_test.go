package desk_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"spindle/internal/core/access"
	"spindle/internal/harness"
)

// TestReadersAreOfferedWhatTheyMay walks as a reader through all pages: none is offered that is refused,
// and no button that changes something.
func TestReadersAreOfferedWhatTheyMay(t *testing.T) {
	s := harness.Service(t, nil)
	fill(t, s, 3, func(i int) string { return fmt.Sprintf("a/sheet-%d", i) })
	key := s.NewKey("herbarium", "reading-room", access.Reader, nil)
	tab, walk := browser(t)
	walk("open", chromedp.Navigate(s.DeskURL))
	walk("sign in", append(harness.SignIn("key", key.ID, key.Secret), harness.Appears("Sign out"))...)
	text := func(expression string) string {
		v, err := chromedp.Run(tab, chromedp.Evaluate[string](expression))
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	pages := strings.Fields(text(`[...document.querySelectorAll("nav a")].map((a) => a.pathname.replace(/^\/in\/[^/]+/, "") || "/").join(" ")`))
	pages = append(pages, "/buckets/plates", "/buckets/plates/lifecycle", "/buckets/plates/usage",
		"/buckets/plates/object?key=a/sheet-1", "/buckets/plates/settings", "/buckets/plates/lifecycle/new")
	for _, path := range pages {
		walk(path, chromedp.Navigate(s.DeskURL+"/in/herbarium"+path), harness.Appears("complete up to"),
			harness.Gone("Reading"),
			chromedp.Sleep(300*time.Millisecond))
		if said := text(`[...document.querySelectorAll("[role=alert]")].map((b) => b.textContent).join("; ")`); said != "" {
			t.Errorf("%s is offered, and says: %s", path, said)
		}
		for _, name := range strings.Split(text(`[...document.querySelectorAll("main button, main a.btn")].filter((b) => b.getClientRects().length && !b.disabled).map((b) => b.textContent.trim() || b.ariaLabel).join(";")`), ";") {
			verb, _, _ := strings.Cut(name, " ")
			if slices.Contains([]string{"Save", "Add", "Create", "New", "Empty", "Remove", "Change", "Take", "Rename", "Restore",
				"Enact", "Compare", "Start", "Ask", "Put"}, verb) {
				t.Errorf("%s offers %q", path, name)
			}
		}
	}
	for path, why := range map[string]string{"/charters": "administer the account herbarium",
		"/buckets/plates/settings":      "changes the settings of plates",
		"/buckets/plates/lifecycle/new": "adds rules to plates"} {
		walk("why not "+path, chromedp.Navigate(s.DeskURL+"/in/herbarium"+path), harness.Appears(why))
	}
}
