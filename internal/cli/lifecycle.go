package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	"spindle/internal/core/lifecycle"
	"spindle/internal/core/object"
)

func (a *app) lifecycleCommand() *cli.Command {
	grace := &cli.StringFlag{Name: "grace", Usage: "delay before new rules take effect, a `TIME` such as 1h, " +
		"or none",
		Value: "10m"}
	revision := &cli.IntFlag{Name: "if-revision", Usage: "only if the rules are at this `REVISION`"}
	return &cli.Command{Name: "lifecycle", Usage: "rules that move versions to other tiers and remove them",
		Commands: []*cli.Command{
			{Name: "add", Usage: "add a rule, or all rules of a file", ArgsUsage: "BUCKET [RULE]",
				Description: "An age is in days and counted from: for the current version, from when it was written; for previous ones, from when they were replaced; for markers and uploads, from when they were made. Rehearse first: nothing is changed by that.\n\n" +
					examples("spindle lifecycle add plates old-plates --like '*.tif' --move drying-room=180 --move cellar=730",
						"spindle lifecycle add germination tidy --previous-remove 90 --keep 2 --markers 1 --uploads 7",
						"spindle lifecycle add plates old-plates --like '*.tif' --move cellar=730 --rehearse",
						"spindle lifecycle add plates --from rules.yaml --grace none"),
				Flags: append(ruleFlags(), &cli.StringFlag{Name: "from",
					Usage: "read rules from this `FILE`, JSON or YAML, or - for standard input"},
					&cli.BoolFlag{Name: "rehearse", Usage: "show what the rules would do beside the existing ones; nothing " +
						"is saved"},
					grace, revision), Action: a.lifecycleAdd},
			{Name: "list", Usage: "list the rules of a bucket", ArgsUsage: "BUCKET",
				Description: examples("spindle lifecycle list plates",
					"spindle lifecycle list plates --json"), Action: a.lifecycleList},
			{Name: "show", Usage: "show rules as JSON", ArgsUsage: "BUCKET [RULE]",
				Description: examples("spindle lifecycle show plates",
					"spindle lifecycle show plates old-plates > old-plates.json"),
				Action: a.lifecycleShow},
			{Name: "rehearse", Usage: "show what rules would do, today and day by day; nothing is changed", ArgsUsage: "BUCKET",
				Description: "Exits with code 1 with --check if something would be removed at once, or rules " +
					"conflict.\n\n" +
					examples("spindle lifecycle rehearse plates",
						"spindle lifecycle rehearse plates --rule rules.yaml --days 365 --check"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "rule",
					Usage: "use the rules of this `FILE` instead of those with the same names"},
					&cli.IntFlag{Name: "days", Usage: "how many days ahead", Value: 90},
					&cli.BoolFlag{Name: "only", Usage: "use only those rules"},
					&cli.BoolFlag{Name: "check", Usage: "fail if something would be removed at once, or rules conflict"}},
				Action: a.lifecycleRehearse},
			a.lifecycleRunCommand(),
			{Name: "change", Usage: "change a rule; only the given settings change", ArgsUsage: "BUCKET RULE",
				Description: examples("spindle lifecycle change plates old-plates --move drying-room=365 --move cellar=900",
					"spindle lifecycle change plates old-plates --active off"),
				Flags:  append(ruleFlags(), &cli.StringFlag{Name: "active", Usage: "on or off"}, grace, revision),
				Action: a.lifecycleChange},
			{Name: "remove", Usage: "remove a rule", ArgsUsage: "BUCKET RULE",
				Description: "What it did stays done; the rules' history keeps it.\n\n" +
					examples("spindle lifecycle remove plates old-plates",
						"spindle lifecycle remove plates old-plates --if-revision 4"),
				Flags: []cli.Flag{revision}, Action: a.lifecycleRemove},
			{Name: "history", Usage: "list earlier states of the rules, latest first", ArgsUsage: "BUCKET",
				Description: examples("spindle lifecycle history plates",
					"spindle lifecycle history plates --json"), Action: a.lifecycleHistory},
			{Name: "compare", Usage: "compare two states of the rules, or one with the current",
				ArgsUsage:   "BUCKET REVISION [REVISION]",
				Description: examples("spindle lifecycle compare plates 3", "spindle lifecycle compare plates 2 3 --json"),
				Action:      a.lifecycleCompare},
			{Name: "put-back", Usage: "restore an earlier state of the rules", ArgsUsage: "BUCKET REVISION",
				Description: examples("spindle lifecycle put-back plates 3",
					"spindle lifecycle put-back plates 3 --grace none"), Flags: []cli.Flag{grace, revision},
				Action: a.lifecyclePutBack},
		}}
}

func ruleFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "prefix", Usage: "only keys that begin with `TEXT`, byte by byte"},
		&cli.BoolFlag{Name: "literal", Usage: "take * and ? in the prefix literally"},
		&cli.StringSliceFlag{Name: "like",
			Usage: "only keys like this `PATTERN`: * is any number of characters, also /, ? is one; may be repeated"},
		&cli.StringSliceFlag{Name: "leave-out", Usage: "leave out keys like this `PATTERN`; may be repeated"},
		&cli.StringSliceFlag{Name: "tag", Usage: "only with this `NAME=VALUE`; may be repeated"},
		&cli.StringFlag{Name: "size-from", Usage: "only versions of at least this `SIZE`"},
		&cli.StringFlag{Name: "size-to", Usage: "only versions of at most this `SIZE`"},
		whereFlag("versions"),
		&cli.StringSliceFlag{Name: "move", Usage: "move the current version, as `TIER=DAYS` or TIER=DATE; may be repeated"},
		&cli.StringFlag{Name: "remove", Usage: "remove the current version after `DAYS`, or from a date on"},
		&cli.StringSliceFlag{Name: "previous-move", Usage: "move previous versions, as `TIER=DAYS`; may be repeated"},
		&cli.StringFlag{Name: "previous-remove", Usage: "remove previous versions for good after `DAYS`"},
		&cli.IntFlag{Name: "keep", Usage: "keep the `N` newest previous versions"},
		&cli.StringFlag{Name: "markers", Usage: "remove delete markers that hide nothing after `DAYS`"},
		&cli.StringFlag{Name: "uploads", Usage: "abandon unfinished uploads after `DAYS`"},
		&cli.BoolFlag{Name: "dearer", Usage: "allow moves to a dearer tier"},
	}
}

func lifecycleCall(bucket, more string) string { return bucketCall(bucket, "/lifecycle"+more) }

// readScope takes those of the flags of a rule's scope that are given.
func readScope(c *cli.Command, s *lifecycle.ScopeForm) (err error) {
	if c.IsSet("prefix") {
		s.Prefix = c.String("prefix")
	}
	if c.IsSet("literal") {
		s.Literal = c.Bool("literal")
	}
	if c.IsSet("like") {
		s.Like = c.StringSlice("like")
	}
	if c.IsSet("leave-out") {
		s.LeaveOut = c.StringSlice("leave-out")
	}
	if c.IsSet("where") {
		s.Where = orNone(c.String("where"))
	}
	if c.IsSet("tag") {
		if s.Tags, err = pairs("tag", c.StringSlice("tag")); err != nil {
			return err
		}
	}
	for flag, into := range map[string]**int64{"size-from": &s.SizeFrom, "size-to": &s.SizeTo} {
		if c.IsSet(flag) {
			if *into, err = parseSize(flag, c.String(flag)); err != nil {
				return err
			}
		}
	}
	return nil
}

// readActions gives the actions that the flags say, by the flag that said them.
func readActions(c *cli.Command) (map[string][]lifecycle.ActionForm, error) {
	out := map[string][]lifecycle.ActionForm{}
	for flag, of := range map[string]string{"move": "current", "previous-move": "previous"} {
		for _, s := range c.StringSlice(flag) {
			to, when, ok := strings.Cut(s, "=")
			if !ok {
				return nil, fault.New(fault.Invalid, "action", "%q is no move",
					s).In(flag).Do("give it as TIER=DAYS, such as cellar=730")
			}
			x := lifecycle.ActionForm{Of: of, Do: "move", To: to, Dearer: c.Bool("dearer")}
			if err := readWhen(flag, when, &x); err != nil {
				return nil, err
			}
			out[flag] = append(out[flag], x)
		}
	}
	for flag, of := range map[string]string{"remove": "current", "previous-remove": "previous", "markers": "markers",
		"uploads": "uploads"} {
		if !c.IsSet(flag) {
			continue
		}
		out[flag] = []lifecycle.ActionForm{}
		if c.String(flag) == "none" {
			continue
		}
		x := lifecycle.ActionForm{Of: of, Do: "remove"}
		if of == "previous" {
			x.Keep = c.Int("keep")
		}
		if err := readWhen(flag, c.String(flag), &x); err != nil {
			return nil, err
		}
		out[flag] = append(out[flag], x)
	}
	return out, nil
}

// readWhen reads a number of days, or a date.
func readWhen(flag, s string, x *lifecycle.ActionForm) error {
	days, err := strconv.Atoi(strings.TrimSuffix(s, "d"))
	switch {
	case err == nil:
		x.Days = &days
	case strings.Count(s, "-") == 2:
		x.Date = s
	default:
		return fault.New(fault.Invalid, "action-days", "%q is neither days nor a date", s).In(flag).
			Do("give it as 180, or as 2027-01-31")
	}
	return nil
}

// savingOf reads how long what is new waits, and the revision that rules must be at.
func savingOf(c *cli.Command) (in api.RulesSaving, err error) {
	grace := 0
	if s := c.String("grace"); s != "none" {
		d, err := object.ParseDuration(s)
		if err != nil {
			return in, fault.From(err).In("grace")
		}
		grace = int(d.Seconds())
	}
	in.Grace = &grace
	if !c.IsSet("if-revision") {
		return in, nil
	}
	if in.IfRevision = c.Int("if-revision"); in.IfRevision < 1 {
		return in, wrongUsage("--if-revision is at least 1").see(c)
	}
	return in, nil
}

// readRuleFile reads rules from a file, or standard input.
func (a *app) readRuleFile(name string) ([]lifecycle.Form, error) {
	var r io.Reader = a.In
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return nil, fault.New(fault.Invalid, "rules-document", "the rules cannot be read: %s", err).In("from").
				Do("give a file, or - for standard input")
		}
		defer f.Close()
		r = f
	}
	return readRuleForms(r)
}

func (a *app) lifecycleAdd(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 1, 2)
	if err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	saving, err := savingOf(c)
	if err != nil {
		return err
	}
	var forms []lifecycle.Form
	one := false
	switch {
	case c.String("from") != "" && len(in) == 1:
		if forms, err = a.readRuleFile(c.String("from")); err != nil {
			return err
		}
	case c.String("from") == "" && len(in) == 2:
		f := lifecycle.Form{Name: in[1], Actions: []lifecycle.ActionForm{}}
		if err := readScope(c, &f.Scope); err != nil {
			return err
		}
		acts, err := readActions(c)
		if err != nil {
			return err
		}
		for _, flag := range actionFlags {
			f.Actions = append(f.Actions, acts[flag]...)
		}
		one, forms = true, []lifecycle.Form{f}
	default:
		return wrongUsage("give either a rule's name with what it does, or --from FILE").see(c)
	}
	if c.Bool("rehearse") {
		return a.rehearseRules(ctx, c, p, in[0], api.ForecastAsk{Days: 90, Rules: forms})
	}
	var rules api.Rules
	method, path := http.MethodPatch, ""
	var body any = api.RulesPut{RulesSaving: saving, Rules: forms}
	if one {
		method, path = http.MethodPut, "/rules/"+url.PathEscape(forms[0].Name)
		body = api.RuleSave{RulesSaving: saving, Rule: forms[0], New: true}
	}
	if err := p.call(ctx, method, lifecycleCall(in[0], path), nil, body, &rules); err != nil {
		return err
	}
	return a.printRules(in[0], rules)
}

// actionFlags are the flags of actions, in the order in which a rule has them.
var actionFlags = []string{"move", "remove", "previous-move", "previous-remove", "markers", "uploads"}

func (a *app) rules(ctx context.Context, p *desk, bucket string) (r api.Rules, err error) {
	return r, p.call(ctx, http.MethodGet, lifecycleCall(bucket, ""), nil, nil, &r)
}

func (a *app) lifecycleList(ctx context.Context, c *cli.Command) error {
	p, bucket, err := a.one(c)
	if err != nil {
		return err
	}
	r, err := a.rules(ctx, p, bucket)
	if err != nil {
		return err
	}
	return a.printRules(bucket, r)
}

func (a *app) printRules(bucket string, r api.Rules) error {
	return a.print(r, func() error {
		if len(r.Rules) == 0 {
			a.note("The bucket %s has no rules. A good first one abandons unfinished uploads: spindle lifecycle add %s unfinished-uploads --uploads 7",
				bucket, bucket)
			return nil
		}
		var rows [][]string
		for _, x := range r.Rules {
			state := "on"
			if x.Off {
				state = "off"
			}
			did := ""
			for _, n := range x.Did {
				did += fmt.Sprintf("%s %s, %s. ", n.Do, things(n.Objects, "object", "objects"), size(n.Bytes))
			}
			for i, act := range x.Actions {
				row := []string{x.Name, state, scopeWords(x.Scope), act.Words(), strings.TrimSpace(did)}
				if i > 0 {
					row[0], row[1], row[2], row[4] = "", "", "", ""
				}
				rows = append(rows, row)
			}
		}
		if err := a.table([]column{{"RULE", false}, {"STATE", false}, {"OF WHAT", false}, {"DOES", false}, {"LAST", false}},
			rows); err != nil {
			return err
		}
		if r.Acts != nil {
			a.note("Revision %d. They wait until %s; till then they can be taken back (spindle lifecycle put-back %s %d).",
				r.Revision, when(*r.Acts), bucket, r.Revision-1)
		} else {
			a.note("Revision %d.", r.Revision)
		}
		return nil
	})
}

// scopeWords says a scope in words.
func scopeWords(s lifecycle.ScopeForm) string {
	var w []string
	if s.Prefix != "" {
		w = append(w, shown(s.Prefix))
	}
	if len(s.Like) > 0 {
		w = append(w, "like "+shown(strings.Join(s.Like, " or ")))
	}
	if len(s.LeaveOut) > 0 {
		w = append(w, "not like "+shown(strings.Join(s.LeaveOut, " or ")))
	}
	for _, n := range sortedKeys(s.Tags) {
		w = append(w, shown(n+" = "+s.Tags[n]))
	}
	if s.SizeFrom != nil {
		w = append(w, "from "+size(*s.SizeFrom))
	}
	if s.SizeTo != nil {
		w = append(w, "to "+size(*s.SizeTo))
	}
	if s.Where != "" {
		w = append(w, "where "+shown(s.Where))
	}
	if len(w) == 0 {
		return "all"
	}
	return strings.Join(w, ", ")
}

func (a *app) lifecycleShow(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 1, 2)
	if err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	r, err := a.rules(ctx, p, in[0])
	if err != nil {
		return err
	}
	forms := []lifecycle.Form{}
	for _, x := range r.Rules {
		if len(in) == 1 || x.Name == in[1] {
			forms = append(forms, x.Form)
		}
	}
	switch {
	case len(in) == 1:
		return a.document(api.RulesCheck{Rules: forms})
	case len(forms) == 0:
		return ruleMissing(in[1])
	}
	return a.document(forms[0])
}

func ruleMissing(name string) error {
	return fault.New(fault.NotFound, "rule-missing", "the bucket has no rule %q", name).In("rule").
		Do("list them: spindle lifecycle list BUCKET")
}

// twoArgs opens the service and gives a bucket and a second argument.
func (a *app) twoArgs(c *cli.Command) (*desk, string, string, error) {
	in, err := args(c, 2, 2)
	if err != nil {
		return nil, "", "", err
	}
	p, err := a.open(c)
	return p, in[0], in[1], err
}

func (a *app) lifecycleChange(ctx context.Context, c *cli.Command) error {
	p, bucket, name, err := a.twoArgs(c)
	if err != nil {
		return err
	}
	r, err := a.rules(ctx, p, bucket)
	if err != nil {
		return err
	}
	body := api.RuleSave{}
	if body.RulesSaving, err = savingOf(c); err != nil {
		return err
	}
	if !c.IsSet("if-revision") {
		body.IfRevision = r.Revision
	}
	for _, x := range r.Rules {
		if x.Name != name {
			continue
		}
		f := x.Form
		if err := changeForm(c, &f); err != nil {
			return err
		}
		body.Rule = f
		var out api.Rules
		if err := p.call(ctx, http.MethodPut, lifecycleCall(bucket, "/rules/"+url.PathEscape(name)), nil, body,
			&out); err != nil {
			return err
		}
		return a.printRules(bucket, out)
	}
	return ruleMissing(name)
}

// changeForm replaces of a rule what flags say anew.
func changeForm(c *cli.Command, f *lifecycle.Form) error {
	if err := readScope(c, &f.Scope); err != nil {
		return err
	}
	if c.IsSet("active") {
		on, err := isOn("active", c.String("active"))
		if err != nil {
			return err
		}
		f.Off = !on
	}
	acts, err := readActions(c)
	if err != nil {
		return err
	}
	var kept []lifecycle.ActionForm
	for _, flag := range actionFlags {
		given, said := acts[flag]
		if said {
			kept = append(kept, given...)
			continue
		}
		for _, x := range f.Actions {
			if flagOf(x) == flag {
				if flag == "previous-remove" && c.IsSet("keep") {
					x.Keep = c.Int("keep")
				}
				kept = append(kept, x)
			}
		}
	}
	f.Actions = kept
	return nil
}

// flagOf gives the flag that says an action.
func flagOf(x lifecycle.ActionForm) string {
	switch {
	case x.Of == "markers" || x.Of == "uploads":
		return x.Of
	case x.Of == "previous":
		return "previous-" + x.Do
	}
	return x.Do
}

func (a *app) lifecycleRemove(ctx context.Context, c *cli.Command) error {
	p, bucket, name, err := a.twoArgs(c)
	if err != nil {
		return err
	}
	q := url.Values{}
	if n := c.Int("if-revision"); n > 0 {
		q.Set("ifRevision", strconv.Itoa(n))
	}
	var out api.Rules
	if err := p.call(ctx, http.MethodDelete, lifecycleCall(bucket, "/rules/"+url.PathEscape(name)), q, nil,
		&out); err != nil {
		return err
	}
	return a.printRules(bucket, out)
}

func (a *app) lifecycleHistory(ctx context.Context, c *cli.Command) error {
	p, bucket, err := a.one(c)
	if err != nil {
		return err
	}
	var rows [][]string
	_, err = pages(ctx, p, lifecycleCall(bucket, "/history"), "history", true, url.Values{"limit": {"200"}},
		func(x api.PastRulesInfo) (bool, error) {
			if a.json {
				return true, a.print(x, nil)
			}
			rows = append(rows, []string{strconv.Itoa(x.Revision), when(x.At), shown(x.By), shown(x.What),
				strconv.Itoa(len(x.Rules))})
			return true, nil
		})
	if err != nil || a.json {
		return err
	}
	if len(rows) == 0 {
		a.note("The bucket %s never had rules.", bucket)
		return nil
	}
	return a.table([]column{{"REVISION", true}, {"AT", false}, {"BY", false}, {"WHAT", false}, {"RULES", true}}, rows)
}

func (a *app) lifecyclePutBack(ctx context.Context, c *cli.Command) error {
	p, bucket, revision, err := a.twoArgs(c)
	if err != nil {
		return err
	}
	body, err := savingOf(c)
	if err != nil {
		return err
	}
	var out api.Rules
	if err := p.call(ctx, http.MethodPost, lifecycleCall(bucket, "/history/"+url.PathEscape(revision)), nil, body,
		&out); err != nil {
		return err
	}
	return a.printRules(bucket, out)
}
