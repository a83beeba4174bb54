package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// bent are phrases that bend English, with what docs/style.md says instead.
var bent = map[string]string{
	`gone on with`:          "resumed",
	`\bone's own\b`:         "your own",
	`; [a-z ]+ otherwise\b`: "default: …",
	`what it says of that`:  "only the given settings change",
	`\bso LONG\b`:           "at least this LONG",
	`\b(is|are|be) (told|let be|offered) no more`: "no longer",
	`\b(he|she|it|that|who) may no more\b`:        "may no longer",
	`\bit is no more\b`:                           "it is no longer",
	`\bno more (asked|posted|listed|kept|served)`: "no longer",
	`(?i)\bof a put they\b`:                       "a put does not …",
	`\bat the most, such as\b`:                    "maximum …, such as",
	`\btakes? all [a-z]+ away\b`:                  "remove all …",
	`\bto mend it:`:                               "fix:",
	`\bwhat is there already\b`:                   "existing objects",
	`\b(who|which|that) names none\b`:             "without one",
	`\bfor as long as the service keeps\b`:        "as long as the service keeps",
	`\bhow (they|it) stands?\b`:                   "its state",
	`\bend with code\b`:                           "exit with code",
	`\bside by side$`:                             "at a time",
	`\bwhat (was|is) found damaged\b`:             "damage",
}

// Help texts and documents have none of the worst patterns of docs/style.md.
func TestPhrasesAreStraight(t *testing.T) {
	files, err := filepath.Glob("../../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range append(files, "../../README.md") {
		if filepath.Base(path) == "style.md" {
			continue
		}
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		for n, line := range strings.Split(string(b), "\n") {
			for pattern, instead := range bent {
				if at := regexp.MustCompile(pattern).FindString(line); at != "" {
					t.Errorf("%s:%d: %q; write %q", strings.TrimPrefix(path, "../../"), n+1, at, instead)
				}
			}
		}
	}
}
