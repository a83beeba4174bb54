package desk_test

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/standin"
	"spindle/internal/wire/client"
)

// TestEndpointsAndRulesInTheConsole registers an endpoint, sees its check step by step,
// makes a rule with what it lacks put right, and follows an object to its copy.
func TestEndpointsAndRulesInTheConsole(t *testing.T) {
	s := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
	is, there := harness.Standin(t, standin.Faults{}, "somewhere")
	c := fill(t, s, 3, func(i int) string { return []string{"a/one", "a/two", "b/three"}[i] })
	walk, text := signedIn(t, s, "/endpoints")
	field := func(name, text string) chromedp.Action[chromedp.Void] {
		return chromedp.SendKeys(chromedp.CSS(".dialog input[name="+name+"]"), text)
	}
	walk("nothing yet", harness.Appears("No endpoint is registered yet"), harness.Button("Add an endpoint"),
		chromedp.WaitVisible(chromedp.CSS(".dialog input[name=name]")))
	walk("with a wrong secret", field("name", "annex"), field("url", is.URL), field("key", harness.StandinKey),
		field("secret", "not the secret at all"), harness.Button("Check and save"),
		harness.Appears("the secret is not the one"), harness.Appears("Save it anyway"))
	walk("with the right one", harness.Script(`document.querySelector(".dialog input[name=secret]").select()`),
		field("secret", harness.StandinSecret), harness.Button("Check and save"), harness.Appears("is saved: healthy"),
		harness.Appears("abilities not tried"))
	walk("a new rule", chromedp.Navigate(s.DeskURL+"/replication"), harness.Appears("No rule copies anything yet"),
		harness.Button("New rule"), chromedp.WaitVisible(chromedp.CSS(".dialog input[name=name]")), field("name", "out"),
		harness.Choose("From the bucket", "plates"), field("prefix", "a/"), field("targets", "@annex/plates"),
		harness.Appears("beneath a/ are copied to plates at annex"), harness.Appears("It lacks: versioning of plates is off"),
		harness.Appears("there is no bucket plates at annex"))
	walk("saved", harness.Choose("What is there already", "copy it too: 2 objects, 2 B"),
		chromedp.Click(chromedp.Search(`//button[@role="switch"][contains(., "Put that right")]`)),
		harness.Button("Save the rule"), harness.Appears("keeps up"), harness.Appears("@annex/plates"))
	harness.Until(t, "the copies", func() bool {
		p, err := there.List(t.Context(), "plates", "", "", "", 10)
		return err == nil && len(p.Objects) == 2
	})
	walk("the object's copies", chromedp.Navigate(s.DeskURL+"/buckets/plates/object?key=a%2Fone"), harness.Appears("Copies"),
		harness.Appears("completed"), harness.Appears("confirmed there"))
	walk("why not", chromedp.Navigate(s.DeskURL+"/buckets/plates/object?key=b%2Fthree"), harness.Appears("not in scope"),
		harness.Appears("does not begin with a/"))
	if err := is.Set(standin.Faults{Away: true}); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Put(t.Context(), "plates", "a/four", strings.NewReader("x"), 1, client.Put{}); err != nil {
		t.Fatal(err)
	}
	walk("it fails", chromedp.Navigate(s.DeskURL+"/replication/out"), harness.Appears("a/four"), harness.Appears("does not answer"),
		harness.Appears("Retry 1"))
	walk("the map", chromedp.Navigate(s.DeskURL+"/replication"), harness.Appears("1 failing"),
		chromedp.WaitVisible(chromedp.CSS(`g.thread[aria-label*="from plates to @annex/plates: failing"]`)))
	if n := text(`document.querySelectorAll("g.thread").length`); n != "1" {
		t.Errorf("%s threads are drawn", n)
	}
	if err := is.Set(standin.Faults{}); err != nil {
		t.Fatal(err)
	}
	walk("back", chromedp.Navigate(s.DeskURL+"/replication/out"), harness.Appears("every change is copied"),
		harness.Button("Verify"), harness.Appears("Compare both sides"), harness.Button("Compare"),
		harness.Appears("all there as they are"))
	if err := c.CreateBucket(t.Context(), "copies"); err != nil {
		t.Fatal(err)
	}
	walk("another target", chromedp.Navigate(s.DeskURL+"/replication/out"), harness.Button("Change"),
		chromedp.WaitVisible(chromedp.CSS(".dialog input[name=class]")), field("class", "DEEP"),
		harness.Button("Another target"), field("targets-2", "copies/out/"), harness.Appears("and copies beneath out/"),
		chromedp.Click(chromedp.Search(`//button[@role="switch"][contains(., "Put that right")]`)),
		harness.Button("Save"), harness.Appears("The rule out is saved"))
	walk("what was set stays", chromedp.Navigate(s.DeskURL+"/replication/out"), harness.Button("Change"),
		chromedp.WaitVisible(chromedp.CSS(".dialog input[name=class]")), field("prefix", "b"), harness.Button("Save"),
		harness.Appears("beneath b are copied to plates at annex in the storage class DEEP and copies"))
}
