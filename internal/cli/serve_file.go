package cli

import (
	"fmt"
	"os"
	"slices"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/urfave/cli/v3"

	"spindle/internal/core/fault"
)

// flagsAlone are the settings of serve that a file does not give: they are for one start.
var flagsAlone = []string{"config", "accept-volume"}

// settingsFrom sets, from a YAML file, the flags that neither the command line nor the environment
// gives. The errors have the code config.
func settingsFrom(c *cli.Command, path string) error {
	b, err := os.ReadFile(path)
	if err != nil {
		return fault.New(fault.Invalid, "config", "the settings file cannot be read").In("config").Because(err)
	}
	wrong := func(says string) error {
		return fault.New(fault.Invalid, "config", "the settings file is wrong:\n%s", says).In("config").
			Do("see docs/reference.md for the settings")
	}
	file, err := parser.ParseBytes(b, 0)
	if err != nil {
		return wrong(yaml.FormatError(err, false, true))
	}
	for _, doc := range file.Docs {
		if doc.Body == nil {
			continue
		}
		settings, ok := doc.Body.(ast.MapNode)
		if !ok {
			return wrong("it has no lines of the form NAME: VALUE")
		}
		for each := settings.MapRange(); each.Next(); {
			if says := setFrom(c, each.Key(), each.Value()); says != "" {
				return wrong(says)
			}
		}
	}
	return nil
}

// setFrom sets a flag from a line of a file, unless it is set. It says what is wrong, with the
// line and column.
func setFrom(c *cli.Command, key, value ast.Node) (says string) {
	at := func(n ast.Node, text string) string {
		p := n.GetToken().Position
		return fmt.Sprintf("[%d:%d] %s", p.Line, p.Column, text)
	}
	name := key.GetToken().Value
	i := slices.IndexFunc(c.Flags, func(f cli.Flag) bool { return slices.Contains(f.Names(), name) })
	if i < 0 || slices.Contains(flagsAlone, name) {
		return at(key, "there is no setting "+name)
	}
	var texts []string
	switch v := value.(type) {
	case *ast.NullNode:
		return ""
	case ast.ScalarNode:
		texts = []string{v.GetToken().Value}
	case *ast.SequenceNode:
		if _, several := c.Flags[i].(*cli.StringSliceFlag); !several {
			return at(value, name+" is one value")
		}
		for _, x := range v.Values {
			texts = append(texts, x.GetToken().Value)
		}
	default:
		return at(value, name+" is a value, or a list of them")
	}
	if c.IsSet(name) {
		return ""
	}
	for _, text := range texts {
		if err := c.Set(name, text); err != nil {
			return at(value, name+": "+err.Error())
		}
	}
	return ""
}
