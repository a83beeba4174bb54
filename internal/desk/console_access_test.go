package desk_test

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"spindle/internal/core/access"
	"spindle/internal/harness"
)

// TestAccessInTheConsole lets somebody sign in, who changes the password, makes a
// key, opens a bucket to anyone and acts in another account.
func TestAccessInTheConsole(t *testing.T) {
	s := harness.Service(t, nil)
	owner := newPerson(t, s)
	owner.signIn()
	for _, b := range []string{"plates", "loans"} {
		if st, e := owner.ask("POST", "/api/v1/buckets", map[string]any{"name": b}); st != 201 {
			t.Fatal(e)
		}
	}
	if st, e := owner.ask("POST", "/api/v1/accounts", map[string]any{"name": "seed-lab"}); st != 201 {
		t.Fatal(e)
	}
	const first, own = "the first that was given", "herons over the fen at dusk"
	harness.Secretly("a person's password", first)
	harness.Secretly("a person's password", own)
	if st, e := owner.ask("POST", "/api/v1/people", map[string]any{"name": "Tam Ellery", "password": first,
		"roles": []map[string]string{{"account": "herbarium", "role": "administrator"},
			{"account": "seed-lab", "role": "reader"}}}); st != 201 {
		t.Fatal(e)
	}
	tab, walk := browser(t)
	fill := func(name, text string) chromedp.Action[chromedp.Void] {
		return chromedp.SendKeys(chromedp.CSS("input[name="+name+"]"), text)
	}
	save := chromedp.Click(chromedp.CSS("button[form]"))
	walk("open", chromedp.Navigate(s.DeskURL+"/access/keys"))
	walk("sign in as a person", append(harness.SignIn("person", "Tam Ellery", first),
		harness.Appears("Choose a password"))...)
	walk("a weak one", fill("old", first), fill("new", "short"), fill("again", "short"),
		harness.Button("Change the password"), harness.Appears("10 to 256 characters"))
	walk("a good one", harness.Script(`document.querySelector("input[name=new]").select()`), fill("new", own),
		harness.Script(`document.querySelector("input[name=again]").select()`), fill("again", own),
		harness.Button("Change the password"))
	walk("sign in again", append(harness.SignIn("person", "Tam Ellery", own),
		harness.Appears("administrator in herbarium"))...)

	walk("make a key", harness.Button("Make a key"), fill("name", "press-room"), fill("limits", "plates/2025/ Loans"),
		save, harness.Appears("is not allowed"),
		harness.Script(`document.querySelector("input[name=limits]").select()`), fill("limits", "plates/2025/"), save,
		harness.Appears("shown this once"))
	secret, err := chromedp.Run(tab,
		chromedp.Evaluate[string](`[...document.querySelectorAll("[role=dialog] dd")].pop().innerText`))
	if err != nil || len(secret) != 40 {
		t.Fatalf("the secret: %q, %v", secret, err)
	}
	harness.Secretly("a key made in the console", secret)
	walk("it stays open until it is kept", chromedp.Click(chromedp.Search(`//button[. = "Done"][@disabled]`)))
	walk("kept", chromedp.Click(chromedp.CSS("[role=dialog] [role=checkbox]")), harness.Button("Done"),
		harness.Appears("plates/2025/"))
	if text, err := chromedp.Run(tab, chromedp.Evaluate[string]("document.documentElement.outerHTML")); err != nil ||
		strings.Contains(text, secret) {
		t.Errorf("the secret is still in the page (%v)", err)
	}

	walk("open a bucket to anyone", harness.Button("Grants"), harness.Appears("Nothing was opened"),
		harness.Button("Open a bucket to somebody"), fill("prefix", "open/"),
		harness.Choose("To", "anyone"),
		harness.Appears("without signing in"), save, harness.Appears("may read from"))
	walk("the matrix", harness.Button("Who reaches what"), harness.Appears("Beads from left"),
		chromedp.WaitVisible(chromedp.CSS(`tbody button[aria-label^="person Tam Ellery in plates"]`)))
	walk("why", harness.Script(`[...document.querySelectorAll("tbody button")].find((b) => b.ariaLabel.startsWith("person Tam Ellery in plates")).click()`), harness.Appears("is an administrator in the account herbarium"))
	walk("back", harness.Button("Close"), chromedp.Navigate(s.DeskURL+"/buckets"), harness.Appears("anyone"),
		harness.Appears("Create a bucket"))
	walk("act elsewhere", harness.Choose("Account to act in", "seed-lab"),
		harness.Appears("Acting in seed-lab now"))
	walk("as a reader there", chromedp.Navigate(s.DeskURL+"/in/seed-lab/access"), harness.Appears("reader in seed-lab"),
		harness.Appears("Sessions"))
	text, err := chromedp.Run(tab, chromedp.Evaluate[string]("document.body.innerText"))
	if err != nil || strings.Contains(text, "Audit trail") || strings.Contains(text, "Make a key") {
		t.Errorf("a reader is offered what only administrators may do (%v): %s", err, text)
	}
}

// TestPagesByRole opens the pages as somebody who sees a part of a bucket only, and
// as an owner who encrypts one and converts it.
func TestPagesByRole(t *testing.T) {
	s := harness.Service(t, nil)
	owner := newPerson(t, s)
	owner.signIn()
	for _, b := range []string{"plates", "loans"} {
		if st, e := owner.ask("POST", "/api/v1/buckets", map[string]any{"name": b}); st != 201 {
			t.Fatal(e)
		}
	}
	s.Do("PUT", "/plates/2025/a.txt", nil, "content", true)
	s.Do("PUT", "/plates/2026/b.txt", nil, "content", true)
	key := s.NewKey("guest-curators", "press-room", access.Reader, nil)
	s.Grant("plates", "2025/", "account:guest-curators", "read from")
	s.Grant("plates", "2025/", "anyone", "read from")
	tab, walk := browser(t)
	missing := func(what string, texts ...string) {
		t.Helper()
		page, err := chromedp.Run(tab, chromedp.Evaluate[string]("document.querySelector('main').innerText"))
		if err != nil {
			t.Fatal(err)
		}
		for _, text := range texts {
			if strings.Contains(page, text) {
				t.Errorf("%s offers %q:\n%s", what, text, page)
			}
		}
	}
	walk("open", chromedp.Navigate(s.DeskURL))
	walk("sign in", append(harness.SignIn("key", key.ID, key.Secret),
		harness.Appears("Nothing is stored yet"))...) // the account itself has nothing
	walk("the buckets", chromedp.Navigate(s.DeskURL+"/buckets"), harness.Appears("in part"))
	missing("the list of buckets", "Create a bucket", "loans")
	walk("the part", harness.Button("plates"), harness.Appears("Open to you"), harness.Appears("a.txt"))
	missing("the bucket", "Settings", "Usage", "2026")
	walk("an object", harness.Button("a.txt"), harness.Appears("anyone may read it"), harness.Appears("CRC-64/NVME"))
	walk("a place that is closed", chromedp.Navigate(s.DeskURL+"/buckets/plates?prefix=2026%2F"),
		harness.Appears("only, not plates/2026/"))
	walk("access", chromedp.Navigate(s.DeskURL+"/access"), harness.Appears("reader in guest-curators"),
		harness.Appears("Accounts"))
	missing("access", "Audit trail", "Grants")
	walk("sign out", harness.Button("Sign out"), harness.Appears("Sign in to Spindle"))

	walk("sign in as the owner", append(harness.SignIn("key", harness.Key, harness.Secret),
		harness.Appears("Sign out"))...)
	walk("encrypt", chromedp.Navigate(s.DeskURL+"/buckets/plates/settings"), harness.Appears("Encryption at rest"),
		chromedp.Click(chromedp.CSS("button[role=switch]")), harness.Appears("new content is kept encrypted"))
	walk("what is stored otherwise", harness.Button("See what is stored otherwise"),
		harness.Appears("2 objects with all versions would be written anew"))
	walk("convert", harness.Button("anew, 14 B"), harness.Appears("The conversion is under way"),
		harness.Appears("Converting, completed"))
	walk("it is so", chromedp.Navigate(s.DeskURL+"/buckets/plates/object?key=2025%2Fa.txt"), harness.Appears("encrypted"))
	walk("a link", harness.Button("Link"), harness.Appears("Signed by"), harness.Button("Make and copy it"))
}
