package cli

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/charterfile"
	"spindle/internal/core/charter"
	"spindle/internal/core/fault"
	"spindle/internal/service"
)

const chartersPath = "/api/v1/charters"

func (a *app) charterCommand() *cli.Command {
	set := &cli.StringSliceFlag{Name: "set",
		Usage: "set a variable, as `NAME=VALUE`; it overrides those of the files; may be repeated"}
	withObjects := &cli.BoolFlag{Name: "with-objects", Usage: "agree to empty buckets for good before they are removed"}
	return &cli.Command{Name: "charter", Usage: "declare the house in files; compare, enact, retire",
		Description: charterHelp,
		Commands: []*cli.Command{
			{Name: "compare", Usage: "show what enacting files would do; nothing is changed", ArgsUsage: "FILE...",
				Description: "A folder stands for the YAML files in it.\n\n" + examples("spindle charter compare herbarium.yaml",
					"spindle charter compare charters/ --set days=400 --check"),
				Flags:  []cli.Flag{set, &cli.BoolFlag{Name: "check", Usage: "exit with code 5 if something differs"}},
				Action: a.charterCompare},
			{Name: "enact", Usage: "change the house to what files declare, after you agree", ArgsUsage: "FILE...",
				Description: "Shows first what it would do, as compare does. It stops at the first failure; " +
					"repeating it resumes there.\n\n" +
					examples("spindle charter enact herbarium.yaml", "spindle charter enact charters/ --yes --json"),
				Flags: []cli.Flag{set, yesFlag(), withObjects}, Action: a.charterEnact(false)},
			{Name: "retire", Usage: "remove what files declare, in reverse order", ArgsUsage: "FILE...",
				Description: examples("spindle charter retire trial.yaml",
					"spindle charter retire trial.yaml --yes --with-objects"),
				Flags: []cli.Flag{set, yesFlag(), withObjects}, Action: a.charterEnact(true)},
			{Name: "export", Usage: "write the current state as a charter",
				Description: "Without --bucket, all of the account. Secrets of endpoints become references to the environment.\n\n" +
					examples("spindle charter export > herbarium.yaml", "spindle charter export --bucket plates"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "bucket",
					Usage: "only this `BUCKET`, the rules that copy it and the grants on it"},
					&cli.StringFlag{Name: "name", Usage: "`NAME` of the charter"}}, Action: a.charterExport},
			{Name: "list", Usage: "list enacted charters, with their drift",
				Description: examples("spindle charter list", "spindle charter list --json"),
				Action: listing[api.CharterInfo]{path: chartersPath, field: "charters", row: charterRow,
					none: "No charter was enacted: spindle charter enact FILE.",
					columns: []column{{"CHARTER", false}, {"STATE", false}, {"WHEN", false}, {"BY", false}, {"THINGS", true},
						{"DRIFT", true}, {"FILES", false}}}.action(a)},
			{Name: "drift", Usage: "show what differs from a charter, and who changed it", ArgsUsage: "CHARTER",
				Description: examples("spindle charter drift herbarium", "spindle charter drift herbarium --check"),
				Flags:       []cli.Flag{&cli.BoolFlag{Name: "check", Usage: "exit with code 5 if something differs"}},
				Action:      a.charterDrift},
			{Name: "history", Usage: "show who enacted what of a charter, and when", ArgsUsage: "CHARTER",
				Description: examples("spindle charter history herbarium", "spindle charter history herbarium --json"),
				Action:      a.charterHistory},
			{Name: "schema", Usage: "print the JSON Schema of charters, for editors",
				Description: examples("spindle charter schema > charter.schema.json",
					"spindle charter schema"), Action: func(_ context.Context, _ *cli.Command) error {
					b, err := service.CharterSchema()
					if err == nil {
						_, err = fmt.Fprintf(a.Out, "%s\n", b)
					}
					return err
				}},
		}}
}

const charterHelp = "A charter is YAML: its name, and sections of things by their names (accounts, endpoints, tiers, buckets, keys, grants, " +
	"replication, sync, census, finds, journal-filters). Settings it does not mention stay as they are; things it named before and no longer names are removed; " +
	"other things are left alone, unless it says whole: true."

func charterRow(x api.CharterInfo) []string {
	drift := ""
	if x.Drift != nil {
		drift = count(int64(*x.Drift))
	}
	return []string{x.Charter, x.State, when(x.At), shown(x.By), count(int64(x.Things)), drift,
		x.Digest[:min(12, len(x.Digest))]}
}

// charterFiles reads the files and folders that a command names.
func (a *app) charterFiles(c *cli.Command) (in api.CharterFiles, err error) {
	paths, err := args(c, 1, 1000)
	if err != nil {
		return in, err
	}
	if in.Set, err = pairs("set", c.StringSlice("set")); err != nil {
		return in, err
	}
	for _, path := range paths {
		if path == "-" {
			b, err := io.ReadAll(io.LimitReader(a.in, charterfile.MaxBytes+1))
			if err != nil {
				return in, err
			}
			in.Files = append(in.Files, charter.Source{Name: "-", Text: string(b)})
			continue
		}
		if st, err := os.Stat(path); err == nil && st.IsDir() {
			path += "/" // it may be a link
		}
		if err := filepath.WalkDir(path, func(file string, e fs.DirEntry, err error) error {
			yaml := strings.HasSuffix(file, ".yaml") || strings.HasSuffix(file, ".yml")
			if err != nil || e.IsDir() || file != path && !yaml {
				return err
			}
			b, err := os.ReadFile(file)
			in.Files = append(in.Files, charter.Source{Name: file, Text: string(b)})
			return err
		}); err != nil {
			return in, fault.New(fault.Invalid, "file", "%s cannot be read", path).In("file").Because(err)
		}
	}
	if len(in.Files) == 0 {
		return in, fault.New(fault.Invalid, "file",
			"there are no YAML files there").In("file").Do("name files, or a folder with some")
	}
	return in, nil
}

func (a *app) charterPlan(ctx context.Context, c *cli.Command, retire bool) (p *desk, ask api.CharterAsk,
	plan api.CharterPlan, err error) {
	files, err := a.charterFiles(c)
	if err == nil {
		p, err = a.open(c)
	}
	if err != nil {
		return nil, ask, plan, err
	}
	ask = api.CharterAsk{CharterFiles: files, Retire: retire}
	err = p.call(ctx, http.MethodPost, chartersPath+"/compare", nil, ask, &plan)
	return p, ask, plan, err
}

func (a *app) charterCompare(ctx context.Context, c *cli.Command) error {
	_, _, plan, err := a.charterPlan(ctx, c, false)
	if err != nil {
		return err
	}
	if err := a.print(plan, func() error { return a.showPlan(plan) }); err != nil {
		return err
	}
	if c.Bool("check") && len(plan.Steps) > 0 {
		return exitOnly(ExitDifferent)
	}
	return nil
}

// showPlan says what enacting does, thing by thing.
func (a *app) showPlan(plan api.CharterPlan) error {
	if len(plan.Steps) == 0 {
		_, err := fmt.Fprintf(a.Out, "All is as the charter %s declares: %s.\n", plan.Charter,
			things(int64(plan.Things), "thing", "things"))
		return err
	}
	n := map[string]int64{}
	for i := range plan.Steps {
		n[plan.Steps[i].Do]++
		a.showStep(&plan.Steps[i])
	}
	if len(plan.Secrets) > 0 {
		fmt.Fprintf(a.Out, "\nSecrets that the service is sent when this is enacted: %s.\n",
			shown(strings.Join(plan.Secrets, ", ")))
	}
	_, err := fmt.Fprintf(a.Out, "\nThe charter %s, %s in the account %s: %d made, %d changed, %d removed.\n",
		plan.Charter,
		things(int64(plan.Things), "thing", "things"), plan.Account, n["make"], n["change"], n["remove"])
	return err
}

func (a *app) showStep(s *api.CharterStep) {
	fmt.Fprintf(a.Out, "%-7s %s %s\n", s.Do, s.Kind, shown(s.Name))
	for _, c := range s.Changes {
		if s.Do == string(charter.Make) {
			fmt.Fprintf(a.Out, "          %s: %s\n", shown(c.Field), fieldValue(c.Field, c.To))
			continue
		}
		fmt.Fprintf(a.Out, "          %s: %s, not %s\n", shown(c.Field), fieldValue(c.Field, c.To),
			fieldValue(c.Field, c.From))
	}
	if s.Holds != nil {
		fmt.Fprintf(a.Out, "          it holds %s, %s, and %s; all of it goes\n",
			things(s.Holds.Objects, "object", "objects"), size(s.Holds.Bytes),
			things(s.Holds.Previous, "previous version", "previous versions"))
	}
	if s.Cannot != "" {
		fmt.Fprintf(a.Out, "          cannot be done: %s\n", shown(s.Cannot))
	}
}

// fieldValue writes what a field is; those that are bytes as sizes.
func fieldValue(field string, v any) string {
	if n, ok := v.(float64); ok && slices.Contains([]string{"quota", "sizeFrom", "sizeTo", "bandwidth"}, field) {
		return size(int64(n))
	}
	return value(v)
}

// value writes what a field is.
func value(v any) string {
	switch v := v.(type) {
	case nil:
		return "nothing"
	case string:
		return shown(v)
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case bool:
		return map[bool]string{true: "yes", false: "no"}[v]
	case []any:
		words := make([]string, len(v))
		for i, x := range v {
			words[i] = value(x)
		}
		return "[" + strings.Join(words, ", ") + "]"
	case map[string]any:
		words := make([]string, 0, len(v))
		for _, name := range slices.Sorted(maps.Keys(v)) {
			words = append(words, shown(name)+" "+value(v[name]))
		}
		return "{" + strings.Join(words, ", ") + "}"
	}
	return fmt.Sprint(v)
}

func (a *app) charterEnact(retire bool) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		p, ask, plan, err := a.charterPlan(ctx, c, retire)
		if err != nil {
			return err
		}
		if !a.json {
			if err := a.showPlan(plan); err != nil || len(plan.Steps) == 0 && !retire {
				return err
			}
		}
		named, err := secretsNamed(&ask.CharterFiles)
		if err != nil {
			return err
		}
		for _, ref := range plan.Secrets {
			if !named[ref] {
				return fault.New(fault.Refused, "charter-secret-unnamed",
					"the service asks for a secret that the files do not name: %s", ref).In("secret").
					Do("nothing was sent: find out what answers at that address, and whether it is the service you mean")
			}
		}
		if len(plan.Steps) > 0 {
			if err := a.confirm(c, fmt.Sprintf("%s in the account %s.", things(int64(len(plan.Steps)), "step", "steps"),
				plan.Account),
				plan.Charter); err != nil {
				return err
			}
		}
		in := api.CharterEnacting{CharterAsk: ask, Plan: plan.Plan, WithObjects: c.Bool("with-objects"),
			Secrets: map[string]string{}}
		for _, ref := range plan.Secrets {
			if in.Secrets[ref], err = a.secretAt(ref); err != nil {
				return err
			}
		}
		return stream(ctx, p, chartersPath+"/enact", in, func(s api.CharterProgress) error { return a.enacted(s, plan) })
	}
}

// enacted shows a step that was done.
func (a *app) enacted(s api.CharterProgress, plan api.CharterPlan) error {
	if s.Problem != nil {
		a.note("Stopped after %d of %d steps; the same again goes on there.", s.Step, s.Steps)
		return s.Problem.Fault()
	}
	if a.json {
		return a.print(s, nil)
	}
	switch {
	case s.Ended:
		fmt.Fprintf(a.Out, "Done: %s of the charter %s.\n", things(int64(s.Steps), "step", "steps"), plan.Charter)
	case s.Does != nil:
		fmt.Fprintf(a.Out, "%d/%d  %s %s %s\n", s.Step, s.Steps, s.Does.Do, s.Does.Kind, shown(s.Does.Name))
		if s.Secret != "" {
			fmt.Fprintf(a.Out, "       key     %s\n       secret  %s\n       It is shown this once.\n", s.Key, s.Secret)
		}
	}
	return nil
}

// secretsNamed gives where the files themselves say that secrets are: a service is sent no others,
// whatever it asks for.
func secretsNamed(in *api.CharterFiles) (map[string]bool, error) {
	doc, err := charterfile.Read(in.Files, in.Set, func(map[string]any) []charterfile.Complaint { return nil })
	if err != nil {
		return nil, err
	}
	out := map[string]bool{}
	endpoints, _ := doc["endpoints"].(map[string]any)
	for _, e := range endpoints {
		fields, _ := e.(map[string]any)
		at, _ := fields["secret"].(map[string]any)
		for _, kind := range []string{"env", "file"} {
			if name, ok := at[kind].(string); ok {
				out[kind+" "+name] = true
			}
		}
	}
	return out, nil
}

// secretAt reads a secret from where a charter says that it is: env NAME or file PATH.
func (a *app) secretAt(ref string) (string, error) {
	kind, at, _ := strings.Cut(ref, " ")
	secret := ""
	if kind == "env" {
		secret = a.Getenv(at)
	} else if b, err := os.ReadFile(at); err == nil {
		line, _, _ := strings.Cut(string(b), "\n")
		secret = strings.TrimSpace(line)
	}
	if secret == "" {
		return "", fault.New(fault.Invalid, "charter-secret", "there is no secret at %s", ref).In("secret").
			Do("set the variable, or write the file, and enact again")
	}
	return secret, nil
}

func (a *app) charterExport(ctx context.Context, c *cli.Command) error {
	if _, err := args(c, 0, 0); err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	var out api.CharterText
	q := url.Values{"bucket": {c.String("bucket")}, "name": {c.String("name")}}
	if err := p.call(ctx, http.MethodGet, chartersPath+"/export", q, nil, &out); err != nil {
		return err
	}
	return a.print(out, func() error {
		_, err := io.WriteString(a.Out, out.Text)
		return err
	})
}

func (a *app) charterDrift(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	var out struct {
		api.CharterInfo
		Differs []api.CharterDrift `json:"differs"`
	}
	if err := p.call(ctx, http.MethodGet, chartersPath+"/"+url.PathEscape(name)+"/drift", nil, nil, &out); err != nil {
		return err
	}
	if err := a.print(out, func() error { return a.showDrift(out.CharterInfo, out.Differs) }); err != nil {
		return err
	}
	if c.Bool("check") && len(out.Differs) > 0 {
		return exitOnly(ExitDifferent)
	}
	return nil
}

func (a *app) showDrift(x api.CharterInfo, list []api.CharterDrift) error {
	for i := range list {
		s := &list[i].CharterStep
		says := "is not as declared"
		if s.Do == string(charter.Make) {
			says, s.Changes = "is not there", nil
		}
		if list[i].By != nil {
			says += "; changed last " + when(*list[i].At) + " by " + shown(*list[i].By)
		}
		fmt.Fprintf(a.Out, "%s %s %s\n", s.Kind, shown(s.Name), says)
		for _, c := range s.Changes {
			by := ""
			if d := list[i].Fields[c.Field]; d.By != nil {
				by = ", changed " + when(*d.At) + " by " + shown(*d.By)
			}
			fmt.Fprintf(a.Out, "          %s: %s, declared %s%s\n", shown(c.Field), fieldValue(c.Field, c.From),
				fieldValue(c.Field, c.To), by)
		}
	}
	_, err := fmt.Fprintf(a.Out, "The charter %s was %s on %s by %s; %s of %s not as it declares.\n", x.Charter, x.State,
		when(x.At), shown(x.By),
		count(int64(len(list))), things(int64(x.Things), "thing is", "things are"))
	return err
}

func (a *app) charterHistory(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	var out struct {
		Enactments []api.CharterInfo `json:"enactments"`
	}
	if err := p.call(ctx, http.MethodGet, chartersPath+"/"+url.PathEscape(name)+"/history", url.Values{"limit": {"1000"}},
		nil, &out); err != nil {
		return err
	}
	return a.print(out, func() error {
		var rows [][]string
		for _, x := range out.Enactments {
			rows = append(rows, []string{when(x.At), x.State, shown(x.By), fmt.Sprintf("%d of %d", x.Done, x.Steps),
				x.Digest[:min(12, len(x.Digest))], shown(x.Says)})
		}
		return a.table([]column{{"WHEN", false}, {"STATE", false}, {"BY", false}, {"STEPS", false}, {"FILES", false},
			{"PROBLEM", false}}, rows)
	})
}
