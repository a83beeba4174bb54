package jobs

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/charterfile"
	"spindle/internal/core/charter"
	"spindle/internal/core/fault"
	"spindle/internal/desk/middle"
)

func (d *Desk) charterCalls(to *middle.Calls) {
	mine := middle.Rule{Admin: true}
	const topic, one = "charters", "/charters/{charter}"
	middle.Call(to, mine, "list-charters", "GET /charters", topic, "List charters, as they were enacted last, with drift",
		d.listCharters)
	middle.Call(to, mine, "compare-charter", "POST /charters/compare", topic, "Say what enacting files does; nothing is changed",
		d.compareCharter)
	middle.Call(to, mine, "charter-history", "GET "+one+"/history", topic, "Say who enacted what of a charter, and when",
		d.charterHistory)
	middle.Call(to, mine, "charter-drift", "GET "+one+"/drift", topic,
		"Say what is not as the charter declares, and who changed it", d.charterDrift)
	middle.Call(to, mine, "export-charter", "GET /charters/export", topic,
		"Write what there is as a charter that compares as equal", d.exportCharter)
}

var charterName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// declared is a charter that was read.
type declared struct {
	name   string
	whole  bool
	digest string
	things []charter.Thing
}

// readCharter reads files, and finds all that is wrong with them.
func (d *Desk) readCharter(ctx context.Context, in *api.CharterFiles) (*declared, error) {
	schema := newCharterSchema()
	out := &declared{}
	sum := sha256.New()
	for _, f := range in.Files {
		fmt.Fprintf(sum, "%s %d\n%s\n", f.Name, len(f.Text), f.Text)
	}
	out.digest = hex.EncodeToString(sum.Sum(nil))
	tree, err := charterfile.Read(in.Files, in.Set, func(tree map[string]any) (bad []charterfile.Complaint) {
		switchedAll(tree)
		bad = schema.check(tree)
		things, more := thingsOf(tree)
		for _, c := range more { // of a field that is told of already nothing more is said
			if !slices.ContainsFunc(bad, func(b charterfile.Complaint) bool {
				return strings.HasPrefix(c.Path, b.Path) &&
					b.Path != ""
			}) {
				bad = append(bad, c)
			}
		}
		out.things = things
		return bad
	})
	if err != nil {
		return nil, err
	}
	out.name, _ = tree["charter"].(string)
	out.whole, _ = tree["whole"].(bool)
	if !charterName.MatchString(out.name) {
		return nil, fault.New(fault.Invalid, "charter-name", "%q is no name for a charter", out.name).In("charter").
			Do("take small letters, digits and hyphens")
	}
	s := middle.Who(ctx).Subject
	if r, _ := tree["region"].(string); r != "" && r != d.Store.Region {
		return out, fault.New(fault.Conflict, "charter-region", "the charter is meant for the region %s, and this is %s", r,
			d.Store.Region).In("region").Do("enact it at the service of that region, or correct the line")
	}
	if account, _ := tree["account"].(string); account != "" && account != s.Account {
		return nil, fault.New(fault.Conflict, "charter-account", "the charter is of the account %s, and you act in %s",
			account, s.Account).
			In("account").Do("act in that account, or enact with a key of it")
	}
	return out, d.named(ctx, out)
}

// thingsOf gives what a document declares, and what cannot be read of it.
func thingsOf(tree map[string]any) (out []charter.Thing, bad []charterfile.Complaint) {
	for i := range charterKinds {
		k := &charterKinds[i]
		section, _ := tree[k.section].(map[string]any)
		for name, v := range section {
			fields, _ := v.(map[string]any)
			if fields == nil {
				fields = map[string]any{}
			}
			settleAll(k.kind, fields, func(field string, err error) {
				if len(bad) >= charterWrong {
					return
				}
				f := fault.From(err)
				if f.Kind == fault.Internal {
					f.Message = err.Error()
				}
				bad = append(bad, charterfile.Complaint{Path: k.section + "." + name + "." + field, Says: f.Message})
			})
			if k.name != nil {
				name = k.name(fields)
			}
			out = append(out, charter.Thing{Kind: k.kind, Name: name, Fields: fields})
		}
	}
	return out, bad
}

// there gives what there is of the kinds that are asked for.
func (d *Desk) there(ctx context.Context, kinds func(*charterKind) bool) (out []charter.Thing, err error) {
	for i := range charterKinds {
		k := &charterKinds[i]
		if !kinds(k) {
			continue
		}
		list, err := k.things(ctx, d)
		if err != nil {
			return nil, err
		}
		if k.more != nil {
			if err := k.more(d, ctx, list); err != nil {
				return nil, err
			}
		}
		out = append(out, list...)
	}
	return out, nil
}

// lastEnacted gives what a charter answered for when it was enacted last; nothing when it
// never was, or was retired.
func (d *Desk) lastEnacted(ctx context.Context, name string) ([]charter.Thing, error) {
	list, err := d.Store.Catalog.Enactments(ctx, middle.Who(ctx).Subject.Account, name, 0, 1)
	if err != nil || len(list) == 0 || list[0].State == catalog.CharterRetired {
		return nil, err
	}
	return list[0].Things, nil
}

// steps works out what brings what is there to what is declared.
func (d *Desk) steps(ctx context.Context, c *declared, retire bool) ([]charter.Step, error) {
	before, err := d.lastEnacted(ctx, c.name)
	if err != nil {
		return nil, err
	}
	asked := map[string]bool{}
	for _, t := range append(slices.Clone(c.things), before...) {
		asked[t.Kind] = true
	}
	oper := middle.Who(ctx).Subject.Operator
	there, err := d.there(ctx, func(k *charterKind) bool {
		return (c.whole && !k.oper || asked[k.kind]) &&
			(oper || !k.oper)
	})
	if err != nil {
		return nil, err
	}
	var steps []charter.Step
	if retire {
		steps = charter.Retire(charterOrder, append(slices.Clone(c.things), before...), there)
	} else {
		var whole []string
		for _, k := range charterKinds {
			if c.whole && !k.oper {
				whole = append(whole, k.kind)
			}
		}
		steps = charter.Compare(charterOrder, compared(c.things), compared(before), there, whole)
		for i := range steps { // with what is said once, too
			if s := &steps[i]; s.Want != nil {
				j := slices.IndexFunc(c.things, func(t charter.Thing) bool { return t.Kind == s.Kind && t.Name == s.Name })
				s.Want = &c.things[j]
			}
		}
	}
	return slices.DeleteFunc(steps, func(s charter.Step) bool { return !removable(&s) }), nil
}

// compared leaves away what is said once, when a thing is made.
func compared(list []charter.Thing) []charter.Thing {
	out := make([]charter.Thing, len(list))
	for i, t := range list {
		out[i] = charter.Thing{Kind: t.Kind, Name: t.Name, Fields: map[string]any{}}
		for name, v := range t.Fields {
			if !slices.Contains(kindNamed(t.Kind).once, name) {
				out[i].Fields[name] = v
			}
		}
	}
	return out
}

// plan says what steps do, and what stands against them.
func (d *Desk) plan(ctx context.Context, c *declared, steps []charter.Step) (*api.CharterPlan, error) {
	p := &api.CharterPlan{Charter: c.name, Account: middle.Who(ctx).Subject.Account, Digest: c.digest, Steps: []api.CharterStep{},
		Things: len(c.things)}
	for i := range steps {
		s := &steps[i]
		x := api.CharterStep{Do: string(s.Do), Kind: s.Kind, Name: s.Name, Changes: s.Changes, Cannot: cannot(ctx, s)}
		if kindNamed(s.Kind).oper && !middle.Who(ctx).Subject.Operator {
			x.Cannot = "only operators do that"
		}
		ref, err := secretOf(s)
		if err != nil {
			x.Cannot = fault.From(err).Message
		}
		if x.Cannot == "" {
			if x.Cannot, err = d.unresolved(ctx, c, s); err != nil {
				return nil, err
			}
		}
		if ref != "" && !slices.Contains(p.Secrets, ref) {
			p.Secrets = append(p.Secrets, ref)
		}
		if s.Kind == "bucket" && s.Do == charter.Remove {
			if x.Holds, err = d.holds(ctx, s.Name); err != nil {
				return nil, err
			}
		}
		p.Steps = append(p.Steps, x)
	}
	same := slices.Clone(p.Steps) // whatever is written meanwhile into a bucket that goes with all it holds
	for i := range same {
		if same[i].Holds != nil {
			same[i].Holds = &api.Quantity{}
		}
	}
	b, err := json.Marshal(same)
	sum := sha256.Sum256(b)
	p.Plan = hex.EncodeToString(sum[:])
	return p, err
}

// holds says what is in a bucket; nil for nothing.
func (d *Desk) holds(ctx context.Context, bucket string) (*api.Quantity, error) {
	var b api.BucketInfo
	if err := d.Within(ctx, middle.DeskCall{Method: "GET", Path: "/buckets/" + bucket}, &b); err != nil {
		return nil, err
	}
	u := b.Usage
	if u.Objects+u.Previous+u.Markers == 0 {
		return nil, nil
	}
	return &api.Quantity{Objects: u.Objects, Bytes: u.Bytes, Previous: u.Previous, PreviousBytes: u.PreviousBytes,
		Markers: u.Markers}, nil
}

func (d *Desk) compareCharter(ctx context.Context, in *struct{ Body api.CharterAsk }) (*struct{ Body api.CharterPlan },
	error) {
	c, err := d.readCharter(ctx, &in.Body.CharterFiles)
	if err != nil {
		return nil, err
	}
	steps, err := d.steps(ctx, c, in.Body.Retire)
	if err != nil {
		return nil, err
	}
	p, err := d.plan(ctx, c, steps)
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.CharterPlan }{*p}, nil
}

func charterInfo(e *catalog.Enactment) api.CharterInfo {
	return api.CharterInfo{Charter: e.Name, State: string(e.State), Says: e.Says, Digest: e.Digest, At: e.At,
		Ended:  e.Ended,
		By:     e.Who,
		Source: e.Source, Done: e.Done, Steps: e.Steps, Things: len(e.Things)}
}

func (d *Desk) listCharters(ctx context.Context, _ *struct{}) (*struct {
	Body struct {
		Charters []api.CharterInfo `json:"charters" doc:"By name"`
	}
}, error) {
	list, err := d.Store.Catalog.Charters(ctx, middle.Who(ctx).Subject.Account)
	if err != nil {
		return nil, err
	}
	out := &struct {
		Body struct {
			Charters []api.CharterInfo `json:"charters" doc:"By name"`
		}
	}{}
	out.Body.Charters = []api.CharterInfo{}
	for _, e := range list {
		x := charterInfo(e)
		if e.State != catalog.CharterRetired {
			drift, err := d.drift(ctx, e)
			if err != nil {
				return nil, err
			}
			n := len(drift)
			x.Drift = &n
		}
		out.Body.Charters = append(out.Body.Charters, x)
	}
	return out, nil
}

// CharterPath names a charter of the account one acts in.
type CharterPath struct {
	Charter string `path:"charter" maxLength:"63"`
}

func (d *Desk) charterHistory(ctx context.Context, in *struct {
	CharterPath
	Before int64 `query:"before" doc:"Go on from there"`
	Limit  int   `query:"limit" minimum:"1" maximum:"1000" default:"50"`
}) (*struct {
	Body struct {
		Enactments []api.CharterInfo `json:"enactments" doc:"Latest first"`
		Next       int64             `json:"next,omitempty"`
	}
}, error) {
	list, err := d.Store.Catalog.Enactments(ctx, middle.Who(ctx).Subject.Account, in.Charter, in.Before, in.Limit)
	if err == nil && len(list) == 0 && in.Before == 0 {
		err = charterMissing(in.Charter)
	}
	if err != nil {
		return nil, err
	}
	out := &struct {
		Body struct {
			Enactments []api.CharterInfo `json:"enactments" doc:"Latest first"`
			Next       int64             `json:"next,omitempty"`
		}
	}{}
	out.Body.Enactments = []api.CharterInfo{}
	for _, e := range list {
		out.Body.Enactments = append(out.Body.Enactments, charterInfo(e))
	}
	if len(list) == in.Limit {
		out.Body.Next = list[len(list)-1].ID
	}
	return out, nil
}

func charterMissing(name string) error {
	return fault.New(fault.NotFound, "charter-missing", "no charter %q was enacted", name).In("charter").
		Do("spindle charter list names those that were")
}

func (d *Desk) charterDrift(ctx context.Context, in *CharterPath) (*struct {
	Body struct {
		api.CharterInfo
		Differs []api.CharterDrift `json:"differs"`
	}
}, error) {
	list, err := d.Store.Catalog.Enactments(ctx, middle.Who(ctx).Subject.Account, in.Charter, 0, 1)
	if err == nil && len(list) == 0 {
		err = charterMissing(in.Charter)
	}
	if err != nil {
		return nil, err
	}
	out := &struct {
		Body struct {
			api.CharterInfo
			Differs []api.CharterDrift `json:"differs"`
		}
	}{}
	out.Body.CharterInfo, out.Body.Differs = charterInfo(list[0]), []api.CharterDrift{}
	if list[0].State != catalog.CharterRetired {
		out.Body.Differs, err = d.drift(ctx, list[0])
	}
	return out, err
}

// refusedPlan gives all that stands against a plan; agreed says that what buckets hold may go.
func refusedPlan(p *api.CharterPlan, agreed bool) error {
	var all []error
	for _, s := range p.Steps {
		if s.Cannot != "" {
			all = append(all, fault.New(fault.Conflict, "charter-cannot", "the %s %s: %s", s.Kind, s.Name,
				s.Cannot).In(s.Kind+" "+s.Name))
		}
		if s.Holds != nil && !agreed {
			all = append(all, fault.New(fault.Conflict, "bucket-holds", "the bucket %s holds %s, %s of current versions, and %s",
				s.Name,
				english.Plural(int(s.Holds.Objects), "object", ""), humanize.IBytes(uint64(s.Holds.Bytes)),
				english.Plural(int(s.Holds.Previous+s.Holds.Markers), "previous version or marker",
					"previous versions and markers")).In("bucket "+s.Name).
				Do("leave it in the charter, or agree that they go (--with-objects)"))
		}
	}
	return errors.Join(all...)
}
