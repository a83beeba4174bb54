package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
)

// reference prints all commands and flags as Markdown: docs/reference.md is
// made by it.
func (a *app) reference(root *cli.Command) error {
	var b strings.Builder
	b.WriteString("# Reference\n\nMade from the program by `make reference`. Flags of `serve` can also stand in the environment, as named, or in the settings file (YAML, named as the flag).\n" +
		"The owner's first key is taken from `SPINDLE_OWNER_KEY` and `SPINDLE_OWNER_SECRET`.\n\n" +
		"Exit codes: 0 done, 1 failed, 2 wrong usage, 3 refused, 4 not found, 5 a rehearsal or comparison found differences.\n\n" +
		"`--profile NAME` and `--json` work with every command. `SPINDLE_URL`, `SPINDLE_KEY` and `SPINDLE_SECRET` work without a profile.\n")
	var walk func(c *cli.Command, path string)
	walk = func(c *cli.Command, path string) {
		for _, s := range c.Commands {
			if s.Hidden || s.Name == "help" || s.Name == "completion" {
				continue
			}
			full := path + " " + s.Name
			if slices.ContainsFunc(s.Commands, func(v *cli.Command) bool { return v.Name != "help" }) {
				walk(s, full)
				continue
			}
			fmt.Fprintf(&b, "\n## %s\n\n%s.\n\n```\n%s\n```\n", strings.TrimSpace(full),
				strings.ToUpper(s.Usage[:1])+s.Usage[1:], strings.TrimSpace(full+" "+s.ArgsUsage))
			if s.Description != "" {
				text, ex, _ := strings.Cut(s.Description, "Examples:\n")
				if text = strings.TrimSpace(text); text != "" {
					fmt.Fprintf(&b, "\n%s\n", text)
				}
				fmt.Fprintf(&b, "\n```\n%s\n```\n", strings.ReplaceAll(strings.TrimPrefix(ex, "  "), "\n  ", "\n"))
			}
			first := true
			for _, f := range s.Flags {
				d, ok := f.(cli.DocGenerationFlag)
				if v, is := f.(cli.VisibleFlag); !ok || f.Names()[0] == "help" || is && !v.IsVisible() {
					continue
				}
				if first {
					b.WriteString("\n| flag | environment | default | meaning |\n| --- | --- | --- | --- |\n")
					first = false
				}
				env := ""
				if e := d.GetEnvVars(); len(e) > 0 {
					env = "`" + e[0] + "`"
				}
				def := d.GetDefaultText()
				if def == "" {
					def = d.GetValue()
				}
				fmt.Fprintf(&b, "| `--%s` | %s | %s | %s |\n", f.Names()[0], env, strings.Trim(def, `"`),
					strings.ReplaceAll(strings.ReplaceAll(d.GetUsage(), "`", ""), "|", "\\|"))
			}
		}
	}
	walk(root, "spindle")
	_, err := a.Out.Write([]byte(b.String()))
	return err
}
