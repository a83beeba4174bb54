package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	"spindle/internal/core/lifecycle"
)

// lifecycleCompare shows how two states of the rules differ, rule by rule.
func (a *app) lifecycleCompare(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 2, 3)
	if err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	var states [2][]lifecycle.Form
	for i, revision := range in[1:] {
		if states[i], err = a.rulesAt(ctx, p, in[0], revision); err != nil {
			return err
		}
	}
	if len(in) == 2 {
		now, err := a.rules(ctx, p, in[0])
		if err != nil {
			return err
		}
		for _, r := range now.Rules {
			states[1] = append(states[1], r.Form)
		}
	}
	changes := compareRules(states[0], states[1])
	return a.print(changes, func() error {
		for _, x := range changes {
			if _, err := fmt.Fprintf(a.Out, "%s %s\n", x.Change, x.Rule); err != nil {
				return err
			}
			if x.Before != "" {
				fmt.Fprintf(a.Out, "  was  %s\n", x.Before)
			}
			if x.After != "" {
				fmt.Fprintf(a.Out, "  is   %s\n", x.After)
			}
		}
		if len(changes) == 0 {
			a.note("They are the same.")
		}
		return nil
	})
}

// ruleChange is how a rule differs between two states.
type ruleChange struct {
	Rule   string `json:"rule"`
	Change string `json:"change"` // added, removed or changed
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}

func compareRules(before, after []lifecycle.Form) []ruleChange {
	text := func(list []lifecycle.Form) map[string]string {
		out := map[string]string{}
		for _, f := range list {
			var words []string
			for _, x := range f.Actions {
				words = append(words, x.Words())
			}
			state := ""
			if f.Off {
				state = "off; "
			}
			out[f.Name] = state + scopeWords(f.Scope) + ": " + strings.Join(words, "; ")
		}
		return out
	}
	was, is := text(before), text(after)
	out := []ruleChange{}
	for _, name := range sortedKeys(was) {
		switch now, there := is[name]; {
		case !there:
			out = append(out, ruleChange{name, "removed", was[name], ""})
		case now != was[name]:
			out = append(out, ruleChange{name, "changed", was[name], now})
		}
	}
	for _, name := range sortedKeys(is) {
		if _, there := was[name]; !there {
			out = append(out, ruleChange{name, "added", "", is[name]})
		}
	}
	return out
}

// rulesAt gives the rules as they were at a revision.
func (a *app) rulesAt(ctx context.Context, p *desk, bucket, revision string) ([]lifecycle.Form, error) {
	n, err := strconv.Atoi(revision)
	if err != nil || n < 0 {
		return nil, fault.New(fault.Invalid, "revision", "%q is no revision", revision).In("revision").
			Do("list them: spindle lifecycle history %s", bucket)
	}
	var page api.PastRulesPage
	if err := p.call(ctx, http.MethodGet, lifecycleCall(bucket, "/history"),
		url.Values{"before": {strconv.Itoa(n + 1)}, "limit": {"1"}}, nil, &page); err != nil {
		return nil, err
	}
	if len(page.History) == 0 || page.History[0].Revision != n {
		return nil, fault.New(fault.NotFound, "revision-missing", "the rules have no revision %d", n).In("revision").
			Do("list them: spindle lifecycle history %s", bucket)
	}
	return page.History[0].Rules, nil
}
