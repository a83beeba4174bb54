package desk_test

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"spindle/internal/core/fault"
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
	walk("the object's copies", chromedp.Navigate(s.DeskURL+"/buckets/plates/object?key=a%2Fone"),
		harness.Appears("Copies"),
		harness.Appears("completed"), harness.Appears("confirmed there"))
	walk("why not", chromedp.Navigate(s.DeskURL+"/buckets/plates/object?key=b%2Fthree"), harness.Appears("not in scope"),
		harness.Appears("does not begin with a/"))
	if err := is.Set(standin.Faults{Away: true}); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Put(t.Context(), "plates", "a/four", strings.NewReader("x"), 1, client.Put{}); err != nil {
		t.Fatal(err)
	}
	walk("it fails", chromedp.Navigate(s.DeskURL+"/replication/out"), harness.Appears("a/four"),
		harness.Appears("does not answer"),
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
		chromedp.WaitVisible(chromedp.CSS(".dialog input[name=class]")), field("class", "COLD"),
		harness.Button("Another target"), field("targets-2", "copies/out/"), harness.Appears("and copies beneath out/"),
		chromedp.Click(chromedp.Search(`//button[@role="switch"][contains(., "Put that right")]`)),
		harness.Button("Save"), harness.Appears("The rule out is saved"))
	walk("what was set stays", chromedp.Navigate(s.DeskURL+"/replication/out"), harness.Button("Change"),
		chromedp.WaitVisible(chromedp.CSS(".dialog input[name=class]")), field("prefix", "b"), harness.Button("Save"),
		harness.Appears("beneath b are copied to plates at annex in the storage class COLD and copies"))
	if err := there.CreateBucket(t.Context(), "bodies"); err != nil {
		t.Fatal(err)
	}
	walk("a tier there", chromedp.Navigate(s.DeskURL+"/tiers"), harness.Button("Add a tier"),
		chromedp.WaitVisible(chromedp.CSS(".dialog input[name=name]")), field("name", "far"),
		field("volumes", "@annex/bodies"),
		harness.Appears("keeps bodies only"), chromedp.WaitVisible(chromedp.CSS(".dialog input[name=copies][disabled]")),
		harness.Button("Add it"), harness.Appears("The tier far is saved"), harness.Appears("by another store, sealed"),
		harness.Appears("@annex/bodies/"))
	walk("a bucket in it", chromedp.Navigate(s.DeskURL+"/buckets/copies/settings"), harness.Appears("New content goes to"),
		harness.Choose("New content goes to", "far"),
		harness.Appears("Its bytes are kept by another store, at @annex/bodies/"),
		harness.Script(`[...document.querySelectorAll("section")].find((s) => s.querySelector("h2")?.innerText === "How bytes are kept")
			.querySelector("button.main").click()`),
		harness.Appears("New content goes to far"), harness.Appears("new content goes to @annex/bodies/"))
}

// TestSyncInTheConsole makes a job, rehearses and runs it, and is asked when its source is
// empty.
func TestSyncInTheConsole(t *testing.T) {
	s := harness.Service(t, nil)
	c := fill(t, s, 3, func(i int) string { return []string{"a/one", "a/two", "b/three"}[i] })
	if err := c.CreateBucket(t.Context(), "copies"); err != nil {
		t.Fatal(err)
	}
	walk, _ := signedIn(t, s, "/sync")
	field := func(name, text string) chromedp.Action[chromedp.Void] {
		return chromedp.SendKeys(chromedp.CSS(".dialog input[name="+name+"]"), text)
	}
	walk("a new job", harness.Appears("There is no job yet"), harness.Button("New job"),
		chromedp.WaitVisible(chromedp.CSS(".dialog input[name=name]")), field("name", "nightly"), field("from", "plates"),
		field("to", "plates/in"), chromedp.Click(chromedp.CSS(`.dialog button[role=radio][value=mirror]`)),
		harness.Button("Save the job"), harness.Appears("are in each other"))
	walk("saved", harness.Script(`document.querySelector(".dialog input[name=to]").select()`), field("to", "copies"),
		harness.Button("Save the job"), harness.Appears("The job nightly is saved"),
		harness.Appears("is removed at the target"))
	walk("rehearsed", harness.Button("Rehearse"), harness.Appears("nothing is written"),
		harness.Button("Compare both sides"),
		harness.Appears("a/one"), harness.Button("Cancel"))
	walk("run", harness.Button("Run now"), harness.Appears("3 objects"), harness.Appears("write: new"),
		harness.Appears("done"))
	for _, key := range []string{"a/one", "a/two", "b/three"} {
		if err := c.Remove(t.Context(), "plates", key); err != nil {
			t.Fatal(err)
		}
	}
	walk("it asks", harness.Button("Run now"), harness.Appears("It asks."), harness.Appears("the source is empty"))
	if p, err := c.List(t.Context(), "copies", "", "", "", 10); err != nil || len(p.Objects) != 3 {
		t.Errorf("%d copies are left, %v", len(p.Objects), err)
	}
	walk("it goes on", harness.Button("Let it go on"), harness.Appears("3 at the target"))
	walk("brought back, step by step", harness.Button("Restore"), harness.Appears("nothing is removed"),
		harness.Script(`document.querySelector(".dialog input[name=to]").select()`), field("to", "plates/back/"),
		harness.Button("See what would come back"), harness.Appears("Both sides are empty"), harness.Button("Cancel"))
	harness.Until(t, "a restore that was given up is removed", func() bool {
		_, err := s.Store.Catalog.Sync(t.Context(), "herbarium", "nightly-restore")
		return fault.HasCode(err, "sync-missing")
	})
	walk("the sheet", harness.Button("Recovery sheet"), harness.Appears("RECOVERY SHEET for nightly"),
		harness.Button("Close"))
	walk("on the map", chromedp.Navigate(s.DeskURL+"/replication"), harness.Appears("1 sync job"),
		chromedp.Click(chromedp.CSS(`g.thread[aria-label^="nightly, from plates to copies"]`)),
		harness.Appears("Open the job"))
	walk("removed", chromedp.Navigate(s.DeskURL+"/sync/nightly"), harness.Button("Remove"),
		harness.Appears("What it wrote to"),
		harness.Button("Remove it"), harness.Appears("There is no job yet"))
}

// TestSealingInTheConsole makes a sealed job: its passphrase is typed twice and kept, and
// the form says what is lost otherwise.
func TestSealingInTheConsole(t *testing.T) {
	s := harness.Service(t, nil)
	c := fill(t, s, 2, func(i int) string { return []string{"a/one", "b/two"}[i] })
	if err := c.CreateBucket(t.Context(), "copies"); err != nil {
		t.Fatal(err)
	}
	walk, _ := signedIn(t, s, "/sync")
	field := func(name, text string) chromedp.Action[chromedp.Void] {
		return chromedp.SendKeys(chromedp.CSS(".dialog input[name="+name+"]"), text)
	}
	walk("looked at before it is saved", harness.Button("New job"),
		chromedp.WaitVisible(chromedp.CSS(".dialog input[name=name]")),
		field("name", "secret"), field("from", "plates"), field("to", "copies"), harness.Button("Rehearse it"),
		harness.Appears("a/one"), harness.Appears("keeps no versions"))
	walk("sealed", chromedp.Click(chromedp.CSS(`.dialog button[role=radio][value=names]`)),
		harness.Appears("nobody can bring it back"),
		field("passphrase", "linen thread on a reel"), field("again", "linen thread on a reel"),
		chromedp.Click(chromedp.CSS(`.dialog button[role=checkbox]`)), harness.Button("Save the job"),
		harness.Appears("The job secret is saved"), harness.Appears("contents and names sealed before they leave"))
	walk("run", harness.Button("Run now"), harness.Appears("2 objects"), harness.Appears("done"))
	if p, err := c.List(t.Context(), "copies", "a/", "", "", 10); err != nil || len(p.Objects) != 0 {
		t.Errorf("names show: %+v, %v", p.Objects, err)
	}
}
