package cli

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/urfave/cli/v3"
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
	for _, dir := range []string{"../../docs", "../../internal", "../../web/src", "../../README.md"} {
		if err := filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() || strings.HasSuffix(path, "_test.go") || strings.Contains(path, "/dist/") ||
				!slices.Contains([]string{".md", ".go", ".ts", ".tsx", ".html"}, filepath.Ext(path)) {
				return err
			}
			b, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			for _, m := range told.FindAllStringSubmatch(joined.ReplaceAllString(string(b), "X"), -1) {
				n++
				if says := unknown(root, strings.Fields(m[1])); says != "" {
					t.Errorf("%s tells: spindle %s\n  %s", strings.TrimPrefix(path, "../../"), m[1], says)
				}
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
	}
	if n < 300 {
		t.Errorf("only %d commands were found", n)
	}
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
