package harness

import (
	"context"
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// Chromium starts a headless browser with one tab of 1280x800, for Steps.
func Chromium(ctx context.Context) (tab context.Context, stop func(), err error) {
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox,
		chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-sync", true),
		chromedp.WindowSize(1280, 800))
	alloc, closeAll := chromedp.NewExecAllocator(ctx, opts...)
	tab, closeTab := chromedp.NewContext(alloc)
	stop = func() { closeTab(); closeAll() }
	if err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800)); err != nil {
		stop()
		return nil, nil, fmt.Errorf("chromium: %w", err)
	}
	return tab, stop, nil
}

// shared is the browser of all tests of a package.
var shared struct {
	once sync.Once
	root context.Context
	stop func()
	err  error
}

// Tab gives a tab of 1280x800 in the browser of the package, which shares nothing with other tests' tabs.
func Tab(t testing.TB) context.Context {
	t.Helper()
	if os.Getenv("SPINDLE_NO_BROWSER") != "" {
		t.Skip("without a browser")
	}
	shared.once.Do(func() { shared.root, shared.stop, shared.err = Chromium(context.Background()) })
	if shared.err != nil {
		t.Fatal(shared.err)
	}
	tab, closeTab := chromedp.NewContext(shared.root, chromedp.WithNewBrowserContext())
	t.Cleanup(closeTab)
	if err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800)); err != nil {
		t.Fatalf("chromium: %v", err)
	}
	return tab
}

// closeBrowser ends the browser of the package.
func closeBrowser() {
	if shared.stop != nil {
		shared.stop()
	}
}

// Steps runs steps in a tab, and gives up after a minute and a half.
func Steps(tab context.Context, steps ...chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeout(tab, 90*time.Second)
	defer cancel()
	return chromedp.Do(ctx, steps...)
}

// Script runs an expression in the page for its effect, again while it throws: what it
// is about may not be drawn yet.
func Script(expression string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		for {
			_, err := chromedp.Evaluate[bool](expression+"; true")(ctx, t)
			if err == nil {
				return nil
			}
			select {
			case <-ctx.Done():
				return err
			case <-time.After(50 * time.Millisecond):
			}
		}
	})
}

// Button clicks the first visible button or link with a text, as soon as it may be
// clicked. It is found and clicked in one go: nothing is drawn anew in between.
func Button(text string) chromedp.Action[chromedp.Void] {
	click := fmt.Sprintf(`(() => {
		const b = [...document.querySelectorAll("button, a")].find((b) => !b.disabled && b.getClientRects().length &&
			b.textContent.replace(/\s+/g, " ").trim().includes(%q));
		b?.focus();
		b?.click();
		return !!b;
	})()`, text)
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		for {
			clicked, err := chromedp.Evaluate[bool](click)(ctx, t)
			if err == nil && clicked {
				return nil
			}
			select {
			case <-ctx.Done():
				return fmt.Errorf("there is no button %q to click", text)
			case <-time.After(50 * time.Millisecond):
			}
		}
	})
}

// Click clicks what is found, and finds it again when the page was drawn anew
// between finding and clicking.
func Click[S chromedp.Selectable](what S) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		for {
			_, err := chromedp.Click(what)(ctx, t)
			if err == nil || !strings.Contains(err.Error(), "-32000") {
				return err
			}
			select {
			case <-ctx.Done():
				return err
			case <-time.After(50 * time.Millisecond):
			}
		}
	})
}

// Choose opens the choice of a label and takes the option that begins with a text.
func Choose(label, option string) chromedp.Action[chromedp.Void] {
	open := fmt.Sprintf(`(() => {
		const called = (b) => b.ariaLabel ?? (b.id && document.querySelector("label[for=" + CSS.escape(b.id) + "]")?.textContent.trim());
		const box = [...document.querySelectorAll("[role=combobox]")].find((b) => called(b) === %q);
		if (!box || box.ariaExpanded === "true") return;
		box.focus();
		box.dispatchEvent(new KeyboardEvent("keydown", { key: "Enter", bubbles: true }));
	})()`, label)
	take := fmt.Sprintf(`(() => {
		const option = [...document.querySelectorAll("[role=option]")].find((o) => o.innerText.trim().startsWith(%q));
		option?.focus();
		option?.dispatchEvent(new KeyboardEvent("keydown", { key: "Enter", bubbles: true }));
		return !!option;
	})()`, option)
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		for {
			if _, err := Script(open)(ctx, t); err != nil {
				return err
			}
			taken, err := chromedp.Evaluate[bool](take)(ctx, t)
			if err != nil || taken {
				return err
			}
			select {
			case <-ctx.Done():
				return fmt.Errorf("%q has no option %q", label, option)
			case <-time.After(50 * time.Millisecond):
			}
		}
	})
}

// Appears waits until the page shows a text.
func Appears(text string) chromedp.Action[chromedp.Void] { return shows(text, true) }

// Gone waits until the page shows a text no more.
func Gone(text string) chromedp.Action[chromedp.Void] { return shows(text, false) }

func shows(text string, wanted bool) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		for {
			seen, err := chromedp.Evaluate[bool](fmt.Sprintf("document.body.innerText.includes(%q)", text))(ctx, t)
			if err == nil && seen == wanted {
				return nil
			}
			select {
			case <-ctx.Done():
				body, _ := chromedp.Evaluate[string]("document.body.innerText")(context.WithoutCancel(ctx), t)
				return fmt.Errorf("it does not become %t that the page shows %q; it says: %s", wanted, text, body)
			case <-time.After(50 * time.Millisecond):
			}
		}
	})
}

// SignIn signs in on the console's page, with an access key or as a person.
func SignIn(how, name, secret string) []chromedp.Action[chromedp.Void] {
	choice := "With an access key"
	if how == "person" {
		choice = "As a person"
	}
	return []chromedp.Action[chromedp.Void]{Appears("Sign in to Spindle"), Button(choice),
		chromedp.SendKeys(chromedp.CSS("input[name="+how+"]"), name),
		chromedp.SendKeys(chromedp.CSS("input[name=secret]"), secret), Button("Sign in")}
}
