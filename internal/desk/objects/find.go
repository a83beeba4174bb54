package objects

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/query"
	"spindle/internal/core/tier"
	"spindle/internal/desk/middle"
	"spindle/internal/gate"
)

const (
	findBudget  = 25_000                  // rows of one look
	findFor     = 1200 * time.Millisecond // one call looks; then it gives a place to go on from
	countFor    = 30 * time.Second
	findBuckets = 10_000 // that are looked through at most
	wordSample  = 3000   // objects whose fields are offered while an expression is typed
)

func (d *Desk) findCalls(to *middle.Calls) {
	middle.Call(to, middle.Rule{}, "find", "POST /find", "find", "Find objects by what they are", d.findObjects)
	middle.Call(to, middle.Rule{}, "count-found", "POST /find/count", "find", "Count the objects that would be found", d.countFound)
	middle.Call(to, middle.Rule{}, "group-found", "POST /find/groups", "find", "Count what would be found by the values of a field",
		d.groupFound)
	middle.Call(to, middle.Rule{Admin: true}, "list-find-indexes", "GET /find/indexes", "find",
		"Say how the indexes by which find answers are",
		d.findIndexes)
	middle.Call(to, middle.Rule{Admin: true}, "rebuild-find-index", "POST /find/indexes/{bucket}/rebuild", "find",
		"Build the index of a bucket anew; until it is, find looks at objects", d.rebuildFindIndex, middle.Answers(204))
	middle.Call(to, middle.Rule{Admin: true}, "list-saved-finds", "GET /find/saved", "find", "List the questions that the account keeps",
		d.savedFinds)
	middle.Call(to, middle.Rule{Admin: true}, "save-find", "PUT /find/saved/{name}", "find", "Keep a question under a name", d.saveFind,
		middle.Answers(204))
	middle.Call(to, middle.Rule{Admin: true}, "forget-find", "DELETE /find/saved/{name}", "find", "Forget a question",
		d.forgetSaved(catalog.SavedFind), middle.Answers(204))
	middle.Call(to, middle.Rule{}, "find-words", "GET /find/words", "find", "Fields and values to offer while an expression is typed",
		d.findWords)
}

// finding is a question that is being answered.
type finding struct {
	expr    query.Expr
	ask     *api.FindAsk
	buckets []*catalog.Bucket // by name
	left    []string
	base    catalog.Find
	asOf    time.Time // zero: now
}

// finding reads a question, and gives the buckets in which it may be answered.
func (d *Desk) finding(ctx context.Context, ask *api.FindAsk) (*finding, error) {
	now := d.Store.Catalog.Now()
	x, err := d.Question(ctx, ask.Expression, now)
	if err != nil {
		return nil, err
	}
	f := &finding{expr: x, ask: ask, base: catalog.Find{Expr: x, Now: now, Previous: ask.Versions, Budget: findBudget}}
	if f.base.Tiers, err = d.Store.Tiers(ctx); err != nil {
		return nil, err
	}
	if ask.AsOf != "" {
		if f.asOf, err = middle.Moment(ask.AsOf); err != nil {
			return nil, err
		}
		if ask.Versions || middle.LooksAt(x, "replication") {
			return nil, fault.New(fault.Invalid, "as-of",
				"of a moment it is not known what was previous then, nor what was copied").In("asOf").
				Do("ask for current objects, and not for replication")
		}
	}
	names := slices.Clone(ask.Buckets)
	if is, _ := query.Must(x, "bucket"); is != "" && len(names) == 0 {
		names = []string{is}
	}
	if len(names) > 0 {
		slices.Sort(names)
		for _, s := range slices.Compact(names) {
			name, err := object.ParseBucketName(s)
			if err != nil {
				return nil, err
			}
			if err := d.MayAt(ctx, access.List|access.Read, name, f.prefix()); err != nil {
				return nil, err
			}
			b, err := d.Store.Catalog.Bucket(ctx, name)
			if err != nil {
				return nil, err
			}
			f.take(d, ctx, b)
		}
		return f, nil
	}
	return f, d.findable(ctx, f)
}

// prefix is what the keys of all that can be found begin with.
func (f *finding) prefix() string {
	_, begins := query.Must(f.expr, "key")
	return begins
}

// take has a bucket looked through, unless the expression asks what is not told of it: who
// wrote what, and where its owner has it copied.
func (f *finding) take(d *Desk, ctx context.Context, b *catalog.Bucket) {
	if !d.VeilOf(ctx, b.Account).Inside && middle.LooksAt(f.expr, "writer", "replication") {
		f.left = append(f.left, b.Name.String())
		return
	}
	f.buckets = append(f.buckets, b)
}

// findable takes all buckets that who asks may list and read, as far as keys are asked for.
func (d *Desk) findable(ctx context.Context, f *finding) error {
	s := middle.Who(ctx).Subject
	account, also, err := d.Gate.Sees(ctx, s)
	if err != nil {
		return err
	}
	if account == "" {
		account = s.Account // an operator finds in the account that they act in
	}
	for after := ""; len(f.buckets) < findBuckets; {
		list, err := d.Store.Catalog.Buckets(ctx, account, also, after, 200)
		if err != nil || len(list) == 0 {
			return err
		}
		for _, b := range list {
			after = b.Name.String()
			allowed := true
			for _, do := range []access.Rights{access.List, access.Read} {
				x, _, err := d.Gate.Decide(ctx, gate.Ask{Subject: s, Do: do, Bucket: b.Name, Key: f.prefix()})
				if err != nil && !fault.HasCode(err, "bucket-missing") { // it may have gone
					return err
				}
				allowed = allowed && x.Allowed
			}
			if allowed {
				f.take(d, ctx, b)
			}
		}
	}
	return nil
}

// foundAt is where a page of what is found goes on.
type foundAt struct {
	Bucket string `json:"b"`
	Key    string `json:"k,omitempty"`
	Number int64  `json:"n,omitempty"`
}

func (p foundAt) String() string {
	b, _ := json.Marshal(p) // strings and a number always can be
	return base64.RawURLEncoding.EncodeToString(b)
}

func readPlace(s string) (p foundAt, err error) {
	if s == "" {
		return p, nil
	}
	b, err := base64.RawURLEncoding.DecodeString(s)
	if err == nil {
		err = json.Unmarshal(b, &p)
	}
	if err != nil {
		return p, fault.New(fault.Invalid, "place", "%q is no place to go on from",
			s).In("after").Do("give next of the page before")
	}
	return p, nil
}

func (d *Desk) findObjects(ctx context.Context, in *struct{ Body api.FindPageAsk }) (*struct{ Body api.FindAnswer },
	error) {
	f, err := d.finding(ctx, &in.Body.FindAsk)
	if err != nil {
		return nil, err
	}
	from, err := readPlace(in.Body.After)
	if err != nil {
		return nil, err
	}
	limit := in.Body.Limit
	if limit == 0 {
		limit = 100
	}
	out := api.FindAnswer{Objects: []api.FoundObject{}, Reads: f.expr.String(), Left: f.left}
	if s := in.Body.Sort; s != "" && s != "key" {
		return &struct{ Body api.FindAnswer }{out}, d.findSorted(ctx, f, s, limit, &out)
	}
	if err = d.findFrom(ctx, f, from, limit, &out); err == nil && len(out.Objects) == 0 && in.Body.After == "" {
		out.Hints, err = d.findHints(ctx, f)
	}
	return &struct{ Body api.FindAnswer }{out}, err
}

// findFrom gives a page from a place on.
func (d *Desk) findFrom(ctx context.Context, f *finding, from foundAt, limit int, out *api.FindAnswer) error {
	begun := time.Now()
	for _, b := range f.buckets {
		if b.Name.String() < from.Bucket {
			continue
		}
		at := catalog.FindPlace{}
		if b.Name.String() == from.Bucket {
			at = catalog.FindPlace{Key: from.Key, Number: from.Number}
		}
		for {
			if len(out.Objects) == limit || time.Since(begun) > findFor {
				out.Next = foundAt{b.Name.String(), at.Key, at.Number}.String()
				return nil
			}
			look := d.findIn
			if !f.asOf.IsZero() {
				look = d.findThen
			}
			if err := look(ctx, f, b, &at, limit, out); err != nil {
				return err
			}
			if at.Key == "" {
				break
			}
		}
	}
	return nil
}

// findIn adds what one look into a bucket finds, and moves the place on; "" at its end.
func (d *Desk) findIn(ctx context.Context, f *finding, b *catalog.Bucket, at *catalog.FindPlace, limit int,
	out *api.FindAnswer) error {
	facts, err := d.Store.Facts(ctx, b.Name)
	if fault.HasCode(err, "bucket-missing") { // it went meanwhile
		*at = catalog.FindPlace{}
		return nil
	}
	if err != nil {
		return err
	}
	ask := f.base
	ask.Bucket, ask.Name, ask.After, ask.Limit = facts.ID, b.Name.String(), *at, limit-len(out.Objects)
	page, err := d.Store.Catalog.Find(ctx, ask)
	if err != nil {
		return err
	}
	seen := d.VeilOf(ctx, b.Account)
	for _, v := range page.Found {
		out.Objects = append(out.Objects, d.foundObject(f, b, v.Version, v.Current, seen))
	}
	out.Looked += page.Looked
	out.Index = out.Index || page.Index
	*at = page.Next
	return nil
}

func (d *Desk) countFound(ctx context.Context, in *struct{ Body api.FindAsk }) (*struct {
	Body struct {
		Objects int64 `json:"objects"`
		Bytes   int64 `json:"bytes"`
	}
}, error) {
	out := &struct {
		Body struct {
			Objects int64 `json:"objects"`
			Bytes   int64 `json:"bytes"`
		}
	}{}
	return out, d.counting(ctx, &in.Body, func(ctx context.Context, ask catalog.Find) error {
		objects, bytes, err := d.Store.Catalog.CountFound(ctx, ask)
		out.Body.Objects += objects
		out.Body.Bytes += bytes
		return err
	})
}

// counting has f count in each bucket of a question, for a while at the most.
func (d *Desk) counting(ctx context.Context, ask *api.FindAsk, f func(context.Context, catalog.Find) error) error {
	q, err := d.finding(ctx, ask)
	if err == nil && ask.AsOf != "" {
		err = fault.New(fault.Invalid, "as-of", "what was is listed, and not counted").In("asOf").Do("list it")
	}
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeoutCause(ctx, countFor, fault.New(fault.Slow, "count-long",
		"it takes longer than %d s to count",
		int(countFor.Seconds())).Do("ask more narrowly, by bucket or by what keys begin with"))
	defer cancel()
	for _, b := range q.buckets {
		facts, err := d.Store.Facts(ctx, b.Name)
		if err != nil {
			return err
		}
		in := q.base
		in.Bucket, in.Name = facts.ID, b.Name.String()
		err = f(ctx, in)
		if cause := context.Cause(ctx); err != nil && cause != nil {
			err = cause
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (d *Desk) findWords(ctx context.Context, in *struct {
	Bucket string `query:"bucket" maxLength:"63" doc:"Whose objects are looked at; empty: some of all"`
}) (*struct {
	Body struct {
		Words []api.FindWord `json:"words"`
	}
}, error) {
	ask := &api.FindAsk{Expression: "size at least 0"}
	if in.Bucket != "" {
		ask.Buckets = []string{in.Bucket}
	}
	f, err := d.finding(ctx, ask)
	if err != nil {
		return nil, err
	}
	words, err := d.wordsOf(ctx, f)
	if err != nil {
		return nil, err
	}
	out := &struct {
		Body struct {
			Words []api.FindWord `json:"words"`
		}
	}{}
	out.Body.Words = []api.FindWord{}
	for _, w := range words {
		out.Body.Words = append(out.Body.Words, api.FindWord{Name: fmt.Sprintf("%s %s", w.Kind, query.Quoted(w.Name)),
			Values: w.Values})
	}
	return out, nil
}

// wordsOf gives fields and tags of some objects of the buckets of a question.
func (d *Desk) wordsOf(ctx context.Context, f *finding) ([]catalog.FoundWord, error) {
	var ids []int64
	for _, b := range f.buckets[:min(len(f.buckets), 50)] {
		facts, err := d.Store.Facts(ctx, b.Name)
		if err != nil {
			return nil, err
		}
		ids = append(ids, facts.ID)
	}
	return d.Store.Catalog.FindWords(ctx, ids, wordSample)
}

// findHints tells of names in an expression that no object was seen to have, with the nearest.
func (d *Desk) findHints(ctx context.Context, f *finding) (hints []string, err error) {
	if !middle.LooksAt(f.expr, "field", "tag") {
		return nil, nil
	}
	words, err := d.wordsOf(ctx, f)
	if err != nil {
		return nil, err
	}
	known := map[string][]string{}
	for _, w := range words {
		known[w.Kind] = append(known[w.Kind], w.Name)
	}
	query.Each(f.expr, func(t *query.Test) {
		kind, name := t.Field.Name, t.Field.Named
		if kind != "field" && kind != "tag" || slices.Contains(known[kind], name) {
			return
		}
		hint := fmt.Sprintf("no object was seen to have the %s %s", kind, query.Quoted(name))
		if near := query.Nearest(name, known[kind]); near != "" {
			hint += fmt.Sprintf("; did you mean %s %s?", kind, query.Quoted(near))
		}
		if !slices.Contains(hints, hint) {
			hints = append(hints, hint)
		}
	})
	return hints, nil
}

// grouping reads by what found objects are put together.
func grouping(s string) (catalog.Grouping, error) {
	kind, name, _ := strings.Cut(strings.TrimSpace(s), " ")
	g := catalog.Grouping{Kind: strings.ToLower(kind), Name: strings.Trim(strings.TrimSpace(name), `"`)}
	if g.Kind == "field" {
		g.Name = strings.ToLower(g.Name)
	}
	open := g.Kind == "field" || g.Kind == "tag"
	if open && g.Name != "" || g.Name == "" && slices.Contains([]string{"type", "tier", "year", "month", "day"}, g.Kind) {
		return g, nil
	}
	return g, fault.New(fault.Invalid, "group-by", "%q is nothing to group by", s).In("by").
		Do("give field NAME, tag NAME, type, tier, year, month or day")
}

// foundGroups is what is found, counted by the values of something.
type foundGroups struct {
	Body struct {
		Groups  []api.FindGroup `json:"groups" doc:"Those with most objects first"`
		Objects int64           `json:"objects" doc:"Of all groups"`
		Bytes   int64           `json:"bytes" doc:"Of all groups"`
		More    int             `json:"more,omitempty" doc:"Groups that are not told"`
	}
}

// groupFound counts what is found by the values of a field, those with most objects first.
func (d *Desk) groupFound(ctx context.Context, in *struct{ Body api.FindGroupsAsk }) (*foundGroups, error) {
	by, err := grouping(in.Body.By)
	if err != nil {
		return nil, err
	}
	out := &foundGroups{}
	sums, order := map[string]*api.FindGroup{}, []*api.FindGroup{}
	err = d.counting(ctx, &in.Body.FindAsk, func(ctx context.Context, ask catalog.Find) error {
		groups, more, err := d.Store.Catalog.GroupFound(ctx, ask, by)
		if err == nil && more {
			err = fault.New(fault.TooLarge, "groups-many", "the objects of the bucket %s have more than %d values of %s",
				ask.Name,
				catalog.MaxGroups, in.Body.By).In("by").Do("ask more narrowly, or take a census and its totals")
		}
		if err != nil {
			return err
		}
		for _, g := range groups {
			value, key := g.Value, ""
			if value != nil && by.Kind == "tier" {
				value = d.tierNamed(ask.Tiers, *value)
			}
			if value != nil {
				key = "=" + *value
			}
			if sums[key] == nil {
				sums[key] = &api.FindGroup{Value: value}
				order = append(order, sums[key])
			}
			sums[key].Objects += g.Objects
			sums[key].Bytes += g.Bytes
			out.Body.Objects += g.Objects
			out.Body.Bytes += g.Bytes
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	slices.SortStableFunc(order, func(a, b *api.FindGroup) int { return cmp.Compare(b.Objects, a.Objects) })
	limit := max(1, in.Body.Limit)
	out.Body.Groups = []api.FindGroup{}
	for _, g := range order[:min(limit, len(order))] {
		out.Body.Groups = append(out.Body.Groups, *g)
	}
	out.Body.More = len(order) - len(out.Body.Groups)
	return out, nil
}

// tierNamed gives the name of a tier of a number.
func (d *Desk) tierNamed(set tier.Set, number string) *string {
	n, err := strconv.ParseInt(number, 10, 16)
	if t := set.Of(int16(n)); err == nil && t != nil {
		return &t.Name
	}
	return &number
}
