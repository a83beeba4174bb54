package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/fault"
)

func (a *app) auditCommand() *cli.Command {
	all := &cli.BoolFlag{Name: "all", Usage: "include accepted findings"}
	check := &cli.BoolFlag{Name: "check", Usage: "exit with code 5 if there is a serious finding that is not " +
		"accepted"}
	return &cli.Command{Name: "audit", Usage: "check an account for what may cost data, money or sleep",
		Commands: []*cli.Command{
			{Name: "run", Usage: "check the account now", Flags: []cli.Flag{all, check},
				Description: "The service does it by itself each hour.\n\n" + examples("spindle audit run",
					"spindle audit run --check"),
				Action: func(ctx context.Context, c *cli.Command) error {
					return a.auditSays(ctx, c, http.MethodPost, "/api/v1/audit/run")
				}},
			{Name: "list", Usage: "list what the last audit found", Flags: []cli.Flag{all, check},
				Description: examples("spindle audit list", "spindle audit list --all --json"),
				Action: func(ctx context.Context, c *cli.Command) error {
					return a.auditSays(ctx, c, http.MethodGet, "/api/v1/audit")
				}},
			{Name: "show", Usage: "show findings of a check, or about something, with why they matter",
				ArgsUsage:   "CHECK|SUBJECT",
				Description: examples("spindle audit show no-versioning", "spindle audit show plates"), Action: a.auditShow},
			{Name: "accept", Usage: "accept a finding, with a reason and an end", ArgsUsage: "CHECK SUBJECT",
				Description: examples("spindle audit accept no-versioning attic --until 90d --why 'a mirror is planned'",
					"spindle audit accept no-versioning attic --until none"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "until",
					Usage: "end `TIME`, or a time from now such as 90d; none: no longer accepted"},
					&cli.StringFlag{Name: "why", Usage: "the `REASON`"}}, Action: a.auditAccept},
		}}
}

func (a *app) auditOf(ctx context.Context, c *cli.Command, method, path string) (x api.AuditInfo, err error) {
	p, err := a.open(c)
	if err != nil {
		return x, err
	}
	var in any
	if method == http.MethodPost {
		in = struct{}{}
	}
	return x, p.call(ctx, method, path, nil, in, &x)
}

func (a *app) auditSays(ctx context.Context, c *cli.Command, method, path string) error {
	if _, err := args(c, 0, 0); err != nil {
		return err
	}
	x, err := a.auditOf(ctx, c, method, path)
	if err != nil {
		return err
	}
	var rows [][]string
	accepted, serious := 0, false
	for _, f := range x.Findings {
		if f.Accepted != nil {
			if accepted++; !c.Bool("all") {
				continue
			}
		}
		serious = serious || f.Grade == "serious" && f.Accepted == nil
		cost := ""
		if f.Cost > 0 {
			cost = size(f.Cost)
		}
		rows = append(rows, []string{f.Grade, f.Check, shown(f.Subject), shown(f.Says), cost, when(f.First)})
	}
	err = a.print(x, func() error {
		switch {
		case x.At == nil:
			a.note("There was no audit yet: spindle audit run.")
			return nil
		case len(rows) == 0:
			a.note("Nothing was found.")
		default:
			if err := a.table([]column{{"GRADE", false}, {"CHECK", false}, {"ABOUT", false}, {"FOUND", false}, {"HOLDS", true},
				{"FIRST", false}}, rows); err != nil {
				return err
			}
			a.note("spindle audit show CHECK says why it matters and what mends it.")
		}
		if accepted > 0 && !c.Bool("all") {
			a.note("%s accepted: --all shows them.", things(int64(accepted), "finding is", "findings are"))
		}
		return nil
	})
	if err == nil && serious && c.Bool("check") {
		err = exitOnly(ExitDifferent)
	}
	return err
}

func (a *app) auditShow(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 1, 1)
	if err != nil {
		return err
	}
	x, err := a.auditOf(ctx, c, http.MethodGet, "/api/v1/audit")
	if err != nil {
		return err
	}
	found := false
	for _, f := range x.Findings {
		if f.Check != in[0] && !strings.HasPrefix(f.Subject, in[0]) {
			continue
		}
		found = true
		if err := a.print(f, func() error { return a.finding(f) }); err != nil {
			return err
		}
	}
	if !found {
		return fault.New(fault.NotFound, "finding-missing", "the last audit found no %q", in[0]).In("check").
			Do("spindle audit list names what it found")
	}
	return nil
}

func (a *app) finding(f api.FindingInfo) error {
	facts := [][2]string{{"Check", f.Check}, {"About", shown(f.Subject)}, {"Grade", f.Grade}, {"Found", shown(f.Says)},
		{"Matters", f.Why}}
	if f.Cost > 0 {
		facts = append(facts, [2]string{"Holds", size(f.Cost)})
	}
	facts = append(facts, [2]string{"Mend it", shown(f.Fix)}, [2]string{"First", when(f.First)})
	if x := f.Accepted; x != nil {
		facts = append(facts, [2]string{"Accepted", fmt.Sprintf("by %s until %s: %s", shown(x.By), when(x.Until),
			shown(x.Why))})
	}
	if err := a.facts(facts); err != nil {
		return err
	}
	_, err := fmt.Fprintln(a.Out)
	return err
}

func (a *app) auditAccept(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 2, 2)
	if err != nil {
		return err
	}
	if !c.IsSet("until") {
		return wrongUsage("accept needs --until and --why").see(c)
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	until := c.String("until")
	if until == "none" {
		until = ""
	}
	if err := p.call(ctx, http.MethodPost, "/api/v1/audit/accept", nil, api.AcceptAsk{Check: in[0], Subject: in[1],
		Why: c.String("why"), Until: until}, nil); err != nil {
		return err
	}
	return a.print(map[string]string{"check": in[0], "subject": in[1], "until": until}, func() error {
		says := "is accepted."
		if until == "" {
			says = "counts again."
		}
		_, err := fmt.Fprintf(a.Out, "%s about %s %s\n", in[0], shown(in[1]), says)
		return err
	})
}
