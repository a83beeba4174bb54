package jobs

import (
	"context"
	"maps"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"spindle/internal/api"
	"spindle/internal/charterfile"
	"spindle/internal/core/charter"
	"spindle/internal/core/fault"
	"spindle/internal/desk/middle"
)

// exportCharter writes down what there is, of the account or about one bucket.
func (d *Desk) exportCharter(ctx context.Context, in *struct {
	Bucket string `query:"bucket" maxLength:"63" doc:"Only this one, and what is of it: rules that copy it, grants on it"`
	Name   string `query:"name" maxLength:"63" doc:"Of the charter; the account's, or the bucket's, otherwise"`
}) (*struct{ Body api.CharterText }, error) {
	s := middle.Who(ctx).Subject
	list, err := d.there(ctx, func(k *charterKind) bool { return s.Operator || !k.oper })
	if err != nil {
		return nil, err
	}
	if in.Bucket != "" {
		if list = slices.DeleteFunc(list, func(t charter.Thing) bool { return !isAbout(&t, in.Bucket) }); len(list) == 0 {
			return nil, fault.New(fault.NotFound, "bucket-missing", "there is no bucket %q of this account",
				in.Bucket).In("bucket")
		}
	}
	name := in.Name
	for _, other := range []string{in.Bucket, s.Account, "exported"} {
		if name == "" && charterName.MatchString(other) {
			name = other
		}
	}
	doc := yaml.MapSlice{{Key: "charter", Value: name}, {Key: "account", Value: s.Account},
		{Key: "region", Value: d.Store.Region}}
	for i := range charterKinds {
		k := &charterKinds[i]
		section := yaml.MapSlice{}
		for _, t := range list {
			if t.Kind == k.kind {
				section = append(section, yaml.MapItem{Key: t.Name, Value: exported(k, &t)})
			}
		}
		slices.SortFunc(section, func(a, b yaml.MapItem) int { return strings.Compare(a.Key.(string), b.Key.(string)) })
		if len(section) > 0 {
			doc = append(doc, yaml.MapItem{Key: k.section, Value: section})
		}
	}
	text, err := yaml.MarshalWithOptions(doc, yaml.IndentSequence(true))
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.CharterText }{api.CharterText{Text: string(text)}}, nil
}

// isAbout reports whether a thing is a bucket, or copies it, or opens it.
func isAbout(t *charter.Thing, bucket string) bool {
	return t.Kind == "bucket" && t.Name == bucket || (t.Kind == "replication rule" || t.Kind == "grant") &&
		t.Fields["bucket"] == bucket
}

// exported gives the fields of a thing that say something, in the order in which charters
// have them.
func exported(k *charterKind, t *charter.Thing) yaml.MapSlice {
	out := yaml.MapSlice{}
	fields := append(slices.Clone(k.fields), "rules")
	if k.kind == "endpoint" {
		fields = append(fields, "secret")
		t.Fields["secret"] = map[string]any{"env": envName(t.Name)}
	}
	for _, f := range fields {
		if j, ok := t.Fields[f].(map[string]any); ok && f == "journal" && j["days"] == 0.0 && j["paused"] == false {
			continue
		}
		if f == "tier" && k.kind == "bucket" && t.Fields["placement"] != nil {
			continue // the placement says it
		}
		if v := pruned(t.Fields[f]); v != nil {
			out = append(out, yaml.MapItem{Key: f, Value: v})
		}
	}
	return out
}

// envName is the variable in which the secret of an endpoint is looked for.
func envName(name string) string {
	return strings.ToUpper(strings.ReplaceAll(name, "-", "_")) + "_SECRET"
}

// nameFirst sorts the fields of a thing.
func nameFirst(a, b string) int {
	if (a == "name") != (b == "name") {
		return map[bool]int{true: -1, false: 1}[a == "name"]
	}
	return strings.Compare(a, b)
}

// pruned leaves nothing that is empty in a value, and whole numbers as such; nil for nothing.
func pruned(v any) any {
	switch v := v.(type) {
	case map[string]any:
		out := yaml.MapSlice{}
		for _, name := range slices.SortedFunc(maps.Keys(v), nameFirst) {
			if x := pruned(v[name]); x != nil {
				out = append(out, yaml.MapItem{Key: name, Value: x})
			}
		}
		if len(out) == 0 {
			return nil
		}
		return out
	case []any:
		out := []any{}
		for _, x := range v {
			out = append(out, pruned(x))
		}
		if len(out) == 0 {
			return nil
		}
		return out
	case float64:
		if v == float64(int64(v)) {
			return int64(v)
		}
		return v
	case string:
		if v == "" {
			return nil
		}
		return charterfile.Literal(v)
	case bool:
		return v
	}
	return v
}
