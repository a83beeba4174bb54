package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/dustin/go-humanize"
	"github.com/olekukonko/tablewriter"
	"github.com/olekukonko/tablewriter/renderer"
	"github.com/olekukonko/tablewriter/tw"
	"github.com/urfave/cli/v3"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// shown makes text harmless for a terminal: control and formatting characters
// are written as escapes.
func shown(s string) string {
	bad := func(r rune) bool { return r != ' ' && !unicode.IsGraphic(r) || r == unicode.ReplacementChar }
	if !strings.ContainsFunc(s, bad) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if bad(r) {
			q := strconv.QuoteRuneToASCII(r)
			b.WriteString(q[1 : len(q)-1])
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// size shows bytes in IEC units.
func size(n int64) string {
	if n < 0 {
		return "-" + size(-n)
	}
	if n < 1024 {
		return fmt.Sprintf("%d B", n)
	}
	units := []string{"KiB", "MiB", "GiB", "TiB", "PiB", "EiB"}
	f, i := float64(n)/1024, 0
	for f >= 1023.95 && i < len(units)-1 {
		f, i = f/1024, i+1
	}
	return fmt.Sprintf("%.1f %s", f, units[i])
}

func count(n int64) string { return humanize.Comma(n) }

// things says a number of things.
func things(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return count(n) + " " + many
}

// when shows a moment in local time.
// ago says how long ago a moment was.
func ago(t time.Time) string { return humanize.Time(t) }

func when(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

// parseSize reads a number of bytes such as 400MiB; "none" gives nil.
func parseSize(flag, s string) (*int64, error) {
	if s == "none" {
		return nil, nil
	}
	n, err := object.ParseSize(s)
	if err != nil {
		return nil, fault.New(fault.Invalid, "size", "%q is no size", s).In(flag).
			Do("give it as 500000, 400MiB, 2TiB, or none")
	}
	return &n, nil
}

// column of a table: its head, and whether it holds numbers.
type column struct {
	head  string
	right bool
}

// table writes aligned rows under faint heads.
func (a *app) table(columns []column, rows [][]string) error { return writeTable(a.Out, columns, rows) }

func writeTable(w io.Writer, columns []column, rows [][]string) error {
	align := make([]tw.Align, len(columns))
	heads := make([]string, len(columns))
	for i, c := range columns {
		heads[i], align[i] = c.head, tw.AlignLeft
		if c.right {
			align[i] = tw.AlignRight
		}
	}
	var b strings.Builder
	cell := tw.CellConfig{Formatting: tw.CellFormatting{AutoWrap: tw.WrapNone, AutoFormat: tw.Off},
		Alignment: tw.CellAlignment{PerColumn: align},
		Padding:   tw.CellPadding{Global: tw.Padding{Left: "", Right: "  ", Overwrite: true}}}
	t := tablewriter.NewTable(&b, tablewriter.WithConfig(tablewriter.Config{Header: cell, Row: cell,
		Behavior: tw.Behavior{TrimSpace: tw.Off}}),
		tablewriter.WithRenderer(renderer.NewBlueprint(tw.Rendition{Borders: tw.BorderNone,
			Symbols:  tw.NewSymbols(tw.StyleNone),
			Settings: tw.Settings{Separators: tw.SeparatorsNone, Lines: tw.LinesNone}})))
	t.Header(heads)
	if err := t.Bulk(rows); err != nil {
		return err
	}
	if err := t.Render(); err != nil {
		return err
	}
	for line := range strings.Lines(b.String()) {
		if _, err := fmt.Fprintln(w, strings.TrimRight(line, " \n")); err != nil {
			return err
		}
	}
	return nil
}

// facts writes names and values.
func (a *app) facts(pairs [][2]string) error {
	width := 0
	for _, p := range pairs {
		width = max(width, len(p[0]))
	}
	for _, p := range pairs {
		if _, err := fmt.Fprintf(a.Out, "%-*s  %s\n", width, p[0], p[1]); err != nil {
			return err
		}
	}
	return nil
}

// document prints something as it is written down, to be read again.
func (a *app) document(v any) error {
	e := json.NewEncoder(a.Out)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// limit gives how many entries a list has at the most. 0 is all of them, and so is, for programs,
// a list of which no number was said.
func (a *app) limit(c *cli.Command) (int, error) {
	n := c.Int("limit")
	switch {
	case n < 0:
		return 0, wrongUsage("--limit is at least 0; 0 lists all").see(c)
	case n == 0, a.json && !c.IsSet("limit"):
		n = math.MaxInt
	}
	return n, nil
}
