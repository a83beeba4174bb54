package desk_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"

	"spindle/internal/harness"
)

// lookedAt has a tab behave as one in a window of its own that is seen.
var lookedAt = chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
	_, err := cdp.Call(ctx, t, emulation.SetFocusEmulationEnabled, emulation.SetFocusEmulationEnabledParams{Enabled: true})
	return err
})

// TestManyTabs opens more pages than a browser has connections to a service: they hear of changes by
// one line, and all of them are told when the session has ended elsewhere. A page on which nothing
// happens asks for nothing.
func TestManyTabs(t *testing.T) {
	s := harness.Service(t, nil)
	first, walk := browser(t)
	walk("sign in", append(append([]chromedp.Action[chromedp.Void]{chromedp.Navigate(s.DeskURL + "/buckets")},
		harness.SignIn("key", harness.Key, harness.Secret)...), harness.Appears("There are no buckets yet"))...)
	walk("look at it", lookedAt)
	tabs := []func(steps ...chromedp.Action[chromedp.Void]) error{
		func(steps ...chromedp.Action[chromedp.Void]) error { return harness.Steps(first, steps...) }}
	for range 7 {
		tab, stop := chromedp.NewContext(first)
		t.Cleanup(stop)
		if err := chromedp.Do(tab, lookedAt); err != nil {
			t.Fatal(err)
		}
		tabs = append(tabs, func(steps ...chromedp.Action[chromedp.Void]) error { return harness.Steps(tab, steps...) })
	}
	for i, in := range tabs {
		if err := in(chromedp.Navigate(s.DeskURL+"/buckets"), harness.Appears("live, complete up to")); err != nil {
			t.Fatalf("tab %d: %v", i, err)
		}
	}
	if err := s.Client().CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	for i, in := range tabs {
		if err := in(harness.Appears("plates")); err != nil {
			t.Errorf("tab %d hears nothing: %v", i, err)
		}
	}
	walk("look at the threads", chromedp.Navigate(s.DeskURL+"/replication"), harness.Appears("live, complete up to"))
	harness.Until(t, "an idle page asks for nothing", func() bool { // what happened before may be told late
		walk("forget what was asked", harness.Script(`performance.clearResourceTimings()`))
		time.Sleep(5 * time.Second)
		asked, err := chromedp.Run(first, chromedp.Evaluate[string](
			`performance.getEntriesByType("resource").map((e) => e.name).filter((n) => n.includes("/api/")).join(" ")`))
		if err != nil {
			t.Fatal(err)
		}
		return asked == ""
	})

	p := newPerson(t, s)
	p.signIn()
	_, list := p.ask("GET", "/api/v1/sessions", nil)
	for _, x := range list["sessions"].([]any) {
		if e := x.(map[string]any); strings.Contains(fmt.Sprint(e["program"]), "Chrom") {
			if st, e := p.ask("DELETE", fmt.Sprint("/api/v1/sessions/", e["id"]), nil); st != 204 {
				t.Fatalf("%d %v", st, e)
			}
		}
	}
	for i, in := range tabs {
		if err := in(harness.Appears("Sign in to Spindle")); err != nil {
			t.Errorf("tab %d does not tell that the session has ended: %v", i, err)
		}
	}
}
