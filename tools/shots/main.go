// Command shots takes the pictures of docs/screenshots from the sample data: the
// console's pages in Chromium, and commands as a terminal would show them.
//
// With SPINDLE_URL set it looks at that demo, otherwise it starts one of its own.
package main

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"html"
	"log"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/chromedp/chromedp"

	"spindle/internal/demo"
	"spindle/internal/harness"
)

func main() {
	out := flag.String("out", "docs/screenshots", "folder for the pictures")
	only := flag.String("only", "", "take only pictures whose name has this in it")
	page := flag.String("page", "", "take one picture of this page alone, such as /journal, as page.png")
	script := flag.String("script", "", "run this in the page before")
	mode := flag.String("theme", "light", "light or dark, for -page")
	as := flag.String("as", "", "with -page: sign in as this person or key of the sample data")
	flag.Parse()
	pick = single{*page, *script, *mode, *as}
	if err := run(*out, *only); err != nil {
		log.Fatal(err)
	}
}

// single is a picture of one page, for whoever works on it.
type single struct{ page, script, theme, as string }

var pick single

func run(out, only string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	desk := os.Getenv("SPINDLE_URL")
	if desk == "" {
		stop, addr, err := startDemo(ctx)
		if err != nil {
			return err
		}
		defer stop()
		desk = addr
	}
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	tab, done, err := harness.Chromium(ctx)
	if err != nil {
		return err
	}
	defer done()
	s := &shooter{tab: tab, desk: desk, out: out, only: only}
	if pick.page != "" {
		steps := []step{s.at(pick.page), theme(pick.theme), chromedp.Sleep(1200 * time.Millisecond)}
		if pick.script != "" {
			steps = append(steps, harness.Script(pick.script))
		}
		return errors.Join(s.signIn(), s.shot("page", steps...))
	}
	return errors.Join(s.console(ctx), s.terminal(ctx))
}

func startDemo(ctx context.Context) (stop func(), desk string, err error) {
	dir, err := os.MkdirTemp("", "spindle-shots-")
	if err != nil {
		return nil, "", err
	}
	if err := os.Chmod(dir, 0o711); err != nil {
		return nil, "", err
	}
	cmd := exec.CommandContext(ctx, "bin/spindle", "demo", "--data", filepath.Join(dir, "demo"))
	cmd.Stderr = os.Stderr
	pipe, err := cmd.StdoutPipe()
	if err != nil {
		return nil, "", err
	}
	if err := cmd.Start(); err != nil {
		return nil, "", err
	}
	stop = func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
		_ = os.RemoveAll(dir)
	}
	lines := bufio.NewScanner(pipe)
	for lines.Scan() {
		if _, d, ok := strings.Cut(lines.Text(), "ready: wire "); ok {
			_, desk, _ = strings.Cut(d, ", desk ")
			break
		}
	}
	if desk == "" {
		stop()
		return nil, "", errors.New("the demo did not start")
	}
	go func() {
		for lines.Scan() {
		}
	}()
	return stop, desk, nil
}

type shooter struct {
	tab       context.Context
	desk      string
	out, only string
}

type step = chromedp.Action[chromedp.Void]

// shot runs steps, then takes a picture of what a person sees.
func (s *shooter) shot(name string, steps ...step) error {
	if err := harness.Steps(s.tab, append(steps, chromedp.Sleep(700*time.Millisecond))...); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if !strings.Contains(name, s.only) {
		return nil
	}
	png, err := chromedp.Run(s.tab, chromedp.CaptureScreenshot())
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return os.WriteFile(filepath.Join(s.out, name+".png"), png, 0o644)
}

func (s *shooter) at(path string) step { return chromedp.Navigate(s.desk + path) }

func theme(t string) step {
	return harness.Script(`document.documentElement.dataset.theme = "` + t + `"; localStorage.setItem("spindle-theme", "` +
		t + `")`)
}

func (s *shooter) signIn() error {
	steps := append([]chromedp.Action[chromedp.Void]{s.at("/")}, harness.SignIn("key", demo.OwnerKey, demo.OwnerSecret)...)
	for how, list := range map[string][]demo.SignIn{"person": demo.People, "key": demo.Keys} {
		for _, x := range list {
			if x.Name == pick.as {
				steps = append([]chromedp.Action[chromedp.Void]{s.at("/")}, harness.SignIn(how, x.Name, x.Password)...)
			}
		}
	}
	return harness.Steps(s.tab, append(steps, harness.Appears("Sign out"))...)
}

func (s *shooter) console(ctx context.Context) error {
	year := time.Now().UTC().Format("2006")
	folder := year + "/moorland/"
	prefix := url.QueryEscape(folder)
	sheet, err := s.sheet(ctx)
	if err != nil {
		return err
	}
	object := url.QueryEscape(sheet)
	return errors.Join(
		harness.Steps(s.tab, s.at("/"), theme("light"), harness.Appears("Sign in to Spindle")),
		s.signIn(),
		s.shot("bucket", theme("light"), s.at("/buckets/plates?prefix="+prefix), harness.Appears("taxon"),
			chromedp.Click(chromedp.CSS("tbody tr:nth-child(3) .check")),
			chromedp.Click(chromedp.CSS("tbody tr:nth-child(4) .check"))),
		s.aged(ctx),
		s.shot("lifecycle-rule", theme("light"), s.at("/buckets/plates/lifecycle/old-plates"),
			harness.Appears("cellar at 730 d"),
			harness.Appears("on the catalog of")),
		s.shot("tiers", s.at("/tiers"), harness.Appears("cellar-south")),
		s.shot("placements", s.at("/placements"), harness.Appears("what cannot be made again")),
		s.shot("threads", s.at("/replication?rule=plates-to-harbour"), harness.Appears("lowland-annex"),
			harness.Appears("Open the rule")),
		s.synced(ctx),
		s.shot("sync", s.at("/sync/nightly-attic"), harness.Appears(" sent"), harness.Appears("write: new")),
		s.shot("object", s.at("/buckets/plates/object?key="+object), harness.Appears("CRC-64/NVME"),
			harness.Appears("Strand"), harness.Button("Change"), harness.Appears("Save as revision")),
		s.shot("journal", s.at("/journal"), harness.Appears("complete up to")),
		s.shot("access", s.at("/access"), harness.Appears("Beads from left"), harness.Appears("guest-curators")),
		s.shot("find", s.at("/find?q=field%20taxon%20begins%20with%20Drosera%20and%20size%20over%20200%20KiB"),
			harness.Appears("looked at"), harness.Button("Count all"), harness.Appears("in all")),
		s.shot("census", s.at("/census/plates-weekly/runs/1"), harness.Appears("FH-"), harness.Button("Totals"),
			harness.Appears("by key"),
			harness.Choose("Summed by", "tier"), harness.Appears("by tier")),
		s.shot("usage", s.at("/usage"), harness.Appears("By bucket"), harness.Appears("plates")),
		s.declared(ctx),
		s.shot("charters", s.at("/charters/loans-desk"), harness.Appears("is otherwise"), harness.Appears("4 of 4")),
		s.shot("audit", s.at("/audit"), harness.Button("Look now"), harness.Appears("worth a look")),
		s.scrubbed(),
		s.shot("overview", theme("light"), s.at("/"), harness.Appears("Wrong and waiting"), harness.Appears("Growing")),
	)
}

// sheet gives the key of the sheet whose history has something of everything.
func (s *shooter) sheet(ctx context.Context) (string, error) {
	out, err := s.spindle(ctx, "--json", "object", "list", "plates", "--flat", "--limit", "100000")
	if err != nil {
		return "", err
	}
	for line := range strings.Lines(out) {
		if _, rest, ok := strings.Cut(line, `"key":"`); ok && strings.Contains(line, "FH-004217-recto.tif") {
			key, _, _ := strings.Cut(rest, `"`)
			return key, nil
		}
	}
	return "", errors.New("the sample has no sheet 4217")
}

// synced has a job of the sample data run, and another one begin.
func (s *shooter) synced(ctx context.Context) error {
	_, err := s.spindle(ctx, "sync", "run", "trip-notes")
	if err == nil {
		_, err = s.spindle(ctx, "sync", "run", "nightly-attic", "--detach")
	}
	return err
}

// declared enacts a charter, and has somebody else change what it declares.
func (s *shooter) declared(ctx context.Context) error {
	for _, line := range [][]string{{"charter", "enact", "tools/shots/loans-desk.yaml", "--yes"},
		{"bucket", "change", "loans", "--quota", "3GiB"},
		{"sync", "change", "loans-aside", "--mode", "mirror"}, {"find", "forget", "late-returns"}} {
		if out, err := s.spindle(ctx, line...); err != nil {
			return fmt.Errorf("%v: %w: %s", line, err, out)
		}
	}
	return nil
}

// scrubbed waits until the scrubber has read the sample data.
func (s *shooter) scrubbed() error {
	for range 6 {
		if harness.Steps(s.tab, s.at("/"), harness.Appears("ago; all agree")) == nil {
			return nil
		}
	}
	return errors.New("the scrubber does not come round")
}

// aged waits until the rules of the sample data have done what is due.
func (s *shooter) aged(ctx context.Context) error {
	for range 60 {
		out, err := s.spindle(ctx, "lifecycle", "run", "list", "plates")
		if err != nil || strings.Contains(out, "done") {
			return err
		}
		time.Sleep(time.Second)
	}
	return errors.New("the rules of the sample data do not act")
}

// spindle runs a command against the demo and gives what it prints.
func (s *shooter) spindle(ctx context.Context, args ...string) (string, error) {
	cmd := exec.CommandContext(ctx, "bin/spindle", args...)
	cmd.Env = append(os.Environ(), "SPINDLE_URL="+s.desk, "SPINDLE_KEY="+demo.OwnerKey, "SPINDLE_SECRET="+demo.OwnerSecret)
	out, err := cmd.CombinedOutput()
	if x := (*exec.ExitError)(nil); errors.As(err, &x) {
		err = nil // some commands are shown refusing
	}
	return string(out), err
}

// terminal takes pictures of commands and what they print.
func (s *shooter) terminal(ctx context.Context) error {
	year := time.Now().UTC().Format("2006")
	sheet, err := s.sheet(ctx)
	if err != nil {
		return err
	}
	for _, p := range []struct {
		name  string
		lines [][]string
	}{
		{"terminal-find", [][]string{{"find", "field taxon begins with Drosera and size over 300 KiB", "--show",
			"taxon,collector", "--limit", "5"},
			{"find", "lacks field collector", "--count"}, {"find", "siz over 10"}, {"census", "list"},
			{"census", "totals", "plates-weekly", "field taxon", "--limit", "4"}, {"bucket", "field", "list", "plates"},
			{"usage"}}},
		{"terminal-history", [][]string{{"object", "history", "plates/" + sheet, "--follow-renames"},
			{"object", "restore", "field-notes/" + year + "/", "--as-of", "14d", "--rehearse"},
			{"object", "annotate", "plates/" + sheet, "--set", "licence=CC0 1.0", "--if-revision", "1"},
			{"journal", "list", "plates", "--kind", "deleted", "--limit", "3"}}},
		{"terminal-placements", [][]string{{"tier", "list"}, {"tier", "show", "press"}, {"placement", "list"},
			{"bucket", "place", "loans", "private", "--rehearse"}, {"scrub", "run", "loans"}, {"scrub", "show"}}},
		{"terminal-replication", [][]string{{"endpoint", "list"}, {"replication", "list"},
			{"replication", "status", "plates/" + sheet}, {"object", "list", "@lowland-annex/plates/"}, {"sync", "list"},
			{"replication", "verify", "loans-to-annex"}}},
	} {
		var b strings.Builder
		for _, line := range p.lines {
			out, err := s.spindle(ctx, line...)
			if err != nil {
				return err
			}
			fmt.Fprintf(&b, "<b>$ spindle %s</b>\n%s\n", html.EscapeString(strings.Join(line, " ")), html.EscapeString(out))
		}
		// The page's policy allows no style in the markup; scripts may set it.
		page := fmt.Sprintf(`{document.body.innerHTML = %q; document.body.firstChild.style.cssText = %q}`,
			`<pre>`+b.String()+`</pre>`,
			"margin:0;padding:18px 22px;height:100vh;overflow:hidden;background:var(--color-cloth-raised);"+
				"color:var(--color-ink);font:13px/18px var(--font-key);letter-spacing:0")
		if err := s.shot(p.name, s.at("/terminal"), theme("dark"), harness.Script(page)); err != nil {
			return err
		}
	}
	return nil
}
