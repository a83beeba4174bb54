package cli

import (
	"bytes"
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/harness"
)

// told finds commands of ours in a text: up to the end of the line, of the literal or of the
// sentence.
var told = regexp.MustCompile("spindle ((?:access|audit|backup|bucket|census|charter|clock|connect|endpoint|find|journal|lifecycle|" +
	"measure|object|placement|profile|region|replication|restore|scrub|serve|sync|tier|upload|usage)\\b[^\"`\\n;|\\\\)]*)")

// Every command that documents, messages, remedies, findings, sheets and pages tell is one that
// there is, with flags that it has.
func TestCommandsThatAreToldExist(t *testing.T) {
	root := (&app{Env: &Env{}}).root()
	n := 0
	for path, text := range tellers(t) {
		for _, m := range told.FindAllStringSubmatch(text, -1) {
			n++
			if says := unknown(root, strings.Fields(m[1])); says != "" {
				t.Errorf("%s tells: spindle %s\n  %s", path, m[1], says)
			}
		}
	}
	if n < 300 {
		t.Errorf("only %d commands were found", n)
	}
}

// tellers gives the files in which commands are told, with texts that stand in several literals joined.
func tellers(t *testing.T) map[string]string {
	t.Helper()
	out := map[string]string{}
	for _, dir := range []string{"../../docs", "../../internal", "../../web/src", "../../README.md"} {
		if err := filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() || strings.HasSuffix(path, "_test.go") || strings.Contains(path, "/dist/") ||
				!slices.Contains([]string{".md", ".go", ".ts", ".tsx", ".html"}, filepath.Ext(path)) {
				return err
			}
			b, err := os.ReadFile(path)
			out[strings.TrimPrefix(path, "../../")] = joined.ReplaceAllString(string(b), "X")
			return err
		}); err != nil {
			t.Fatal(err)
		}
	}
	return out
}

// plainWord is what a command is called, and no value for it.
var plainWord = regexp.MustCompile(`^[a-z-]+$`)

// joined is what stands between two literals that are one text.
var joined = regexp.MustCompile("[\"`]\\s*\\+\\s*(?:[^\"`;{}]{1,60}?\\+\\s*)?[\"`]")

// unknown says what of a command there is not, "" when there is all of it.
func unknown(c *cli.Command, words []string) string {
	for len(words) > 0 && len(c.Commands) > 0 {
		word := strings.Trim(words[0], ".,:'")
		i := slices.IndexFunc(c.Commands, func(s *cli.Command) bool { return s.Name == word })
		if i < 0 {
			if c.ArgsUsage != "" || !plainWord.MatchString(word) {
				break
			}
			return "there is no command " + word + " of " + c.Name
		}
		c, words = c.Commands[i], words[1:]
	}
	for _, w := range words {
		name, flag := strings.CutPrefix(w, "--")
		if !flag {
			continue
		}
		name, _, _ = strings.Cut(strings.TrimRight(name, ".,:'"), "=")
		if name == "" || slices.Contains([]string{"profile", "json", "help", "yes", "..."}, name) {
			continue
		}
		if !slices.ContainsFunc(c.Flags, func(f cli.Flag) bool { return slices.Contains(f.Names(), name) }) {
			return "there is no flag --" + name + " of " + c.Name
		}
	}
	return ""
}

// placeholders are what commands that are told leave to their readers, with what there is in the test's service.
var placeholders = []struct{ told, is string }{
	{"BUCKET/PREFIX", "plates/a/"}, {"BUCKET/KEY", "plates/a/k"}, {"@ENDPOINT/BUCKET", "@annex/plates"},
	{"BUCKET", "plates"}, {"@NAME", "@annex"},
	{"MOMENT", "2026-01-01"}, {"FOLDER", "."}, {"FILE", "file"}, {"NAME", "annex"}, {"RULE", "out"}, {"TIER", "main"},
}

// quoted is a value that has blanks.
var quoted = regexp.MustCompile(`'[^']*'`)

// asTold gives the words of a command as far as it is one: prose that follows it is left out.
func asTold(root *cli.Command, text string) []string {
	text, _, _ = strings.Cut(strings.ReplaceAll(text, " <", " >"), " >") // what the shell does
	words := strings.Fields(quoted.ReplaceAllStringFunc(text, func(s string) string {
		return strings.ReplaceAll(strings.Trim(s, "'"), " ", "T")
	}))
	var out []string
	c := root
	for len(words) > 0 && len(c.Commands) > 0 {
		i := slices.IndexFunc(c.Commands, func(s *cli.Command) bool { return s.Name == strings.Trim(words[0], ".,:'") })
		if i < 0 {
			break
		}
		out, c, words = append(out, c.Commands[i].Name), c.Commands[i], words[1:]
	}
	if len(c.Commands) > 0 {
		return nil // a noun alone
	}
	name, value := len(out), false
	for i, w := range words {
		end := strings.TrimRight(w, ".,:'")
		if flag, ok := strings.CutPrefix(end, "--"); ok && flag != "" {
			value = slices.ContainsFunc(c.Flags, func(f cli.Flag) bool {
				_, is := f.(*cli.BoolFlag)
				return !is && slices.Contains(f.Names(), flag)
			})
		} else if !value && i < len(words)-1 && (plainWord.MatchString(end) || strings.HasPrefix(end, "'")) {
			break
		} else {
			value = false
		}
		out = append(out, end)
		if end != w {
			break
		}
	}
	if len(out) == name {
		return nil // named, and not told with what
	}
	return out
}

// Every command that is told is taken in the form in which it is told: it may find nothing of that name, but never that
// it is given amiss.
func TestCommandsThatAreToldAreTaken(t *testing.T) {
	s := harness.Service(t, nil)
	root := (&app{Env: &Env{}}).root()
	said := map[string]string{}
	for path, text := range tellers(t) {
		for _, m := range told.FindAllStringSubmatch(text, -1) {
			if words := asTold(root, m[1]); words != nil && !strings.HasSuffix(path, ".md") { // documents are run
				said[strings.Join(words, " ")] = path
			}
		}
	}
	env := map[string]string{"HOME": t.TempDir(), "SPINDLE_URL": s.DeskURL, "SPINDLE_KEY": harness.Key,
		"SPINDLE_SECRET": harness.Secret}
	n := 0
	for line, path := range said {
		if at := strings.Fields(line)[0]; at == "serve" || at == "restore" || at == "backup" || at == "measure" {
			continue // they are no calls of a service
		}
		for _, p := range placeholders {
			line = strings.ReplaceAll(line, p.told, p.is)
		}
		n++
		var out, errs bytes.Buffer
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
		code := Run(append([]string{"spindle"}, strings.Fields(line)...), &Env{In: strings.NewReader(""), Out: &out,
			Err:    &errs,
			Getenv: func(k string) string { return env[k] }, Done: ctx, Width: 100})
		cancel()
		if code == 2 && strings.Contains(errs.String(), " takes ") {
			t.Errorf("%s tells: spindle %s\n%s", path, line, errs.String())
		}
	}
	if n < 60 {
		t.Errorf("only %d commands were found", n)
	}
}
