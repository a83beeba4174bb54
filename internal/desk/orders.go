package desk

import (
	"context"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/works"
)

// OrderInfo is work on a whole prefix that the service does for somebody.
type OrderInfo struct {
	ID       int64            `json:"id"`
	Kind     string           `json:"kind" doc:"rename, restore, convert, found, place or check"`
	Bucket   string           `json:"bucket"`
	Placed   string           `json:"placement,omitempty" doc:"Of place: what the bucket gets"`
	Where    string           `json:"where,omitempty" doc:"Of found: the expression"`
	Act      string           `json:"act,omitempty" doc:"Of found: what is done with each object"`
	Prefix   string           `json:"prefix"`
	ToBucket string           `json:"toBucket,omitempty"`
	ToPrefix string           `json:"toPrefix,omitempty"`
	AsOf     time.Time        `json:"asOf,omitzero"`
	State    string           `json:"state" enum:"running,stopped,done,failed"`
	Problem  string           `json:"problem,omitempty" doc:"Why it failed; it can go on when that is mended"`
	Total    int64            `json:"total" doc:"Keys to deal with, counted at the start"`
	Done     int64            `json:"done" doc:"Keys dealt with"`
	Counts   map[string]int64 `json:"counts" doc:"Of those dealt with: renamed, restored, removed (with a delete marker, because they were not there then), unchanged, converted (whose content was written anew)"`
	Sealed   bool             `json:"sealed,omitempty" doc:"Of a conversion: content is to be encrypted at rest; plain otherwise"`
	Bytes    int64            `json:"bytes" doc:"Of the objects renamed or restored, none of which were moved; of content written anew"`
	By       string           `json:"by"`
	Began    time.Time        `json:"began" doc:"A restore is undone by one as of this moment"`
	Changed  time.Time        `json:"changed"`
}

func orderInfo(o *catalog.Order, seen veil) OrderInfo {
	p := o.Progress
	where, act := "", ""
	if f := o.What.Found; f != nil {
		where, act = f.Where, f.Act
	}
	placed := ""
	if o.What.Place != nil {
		placed = o.What.Place.Placement
	}
	return OrderInfo{Placed: placed, Where: where, Act: act, ID: o.ID, Kind: o.Kind, Bucket: o.Bucket.String(),
		Prefix:   string(o.What.Prefix),
		ToBucket: o.What.ToBucket, ToPrefix: string(o.What.ToPrefix), AsOf: o.What.AsOf,
		State: string(o.State), Problem: o.Problem, Total: p.Total, Done: p.Done(), Counts: counts(p.Counts),
		Sealed: o.What.Sealed, Bytes: p.Bytes, By: seen.by(o.Who), Began: p.Began, Changed: o.Changed}
}

func counts(m map[string]int64) map[string]int64 {
	if m == nil {
		return map[string]int64{}
	}
	return m
}

// Rehearsal says what an order would do.
type Rehearsal struct {
	Counts map[string]int64 `json:"counts" doc:"Of keys, by the kind's counters: renamed, restored, removed (which were not there then, and get a delete marker), unchanged, converted"`
	Taken  int64            `json:"taken,omitempty" doc:"Of those renamed, whose new key is taken"`
	First  string           `json:"first,omitempty" doc:"The first key that is taken"`
	Bytes  int64            `json:"bytes" doc:"Of the objects renamed or restored, none of which are moved; of bodies to be written anew"`

	Seconds     int64    `json:"seconds,omitempty" doc:"Of a placement: that it may take, roughly"`
	MonthBefore float64  `json:"monthBefore,omitempty" doc:"Of a placement: what keeping what is moved costs a month"`
	MonthAfter  float64  `json:"monthAfter,omitempty" doc:"Of a placement: and what it will cost"`
	Limits      []string `json:"limits,omitempty" doc:"Of a placement: what cannot be done with what has it"`
}

// Total gives the keys that the order deals with.
func (r Rehearsal) Total() (n int64) {
	for _, c := range r.Counts {
		n += c
	}
	return n
}

type orderOut struct{ Body OrderInfo }

// OrderIn says what is ordered.
type OrderIn struct {
	Kind     string `json:"kind" maxLength:"32" doc:"rename, restore, convert, found, place or check"`
	Bucket   string `json:"bucket" maxLength:"64"`
	Prefix   string `json:"prefix,omitempty" doc:"Empty for the whole bucket"`
	ToBucket string `json:"toBucket,omitempty" maxLength:"64"`
	ToPrefix string `json:"toPrefix,omitempty"`
	Replace  bool   `json:"replace,omitempty" doc:"Rename onto keys that are taken"`
	AsOf     string `json:"asOf,omitempty" maxLength:"64"`

	Where    string      `json:"where,omitempty" maxLength:"4000" doc:"Of found: an expression"`
	Act      string      `json:"act,omitempty" enum:"annotate,move,copy,remove,put-back" doc:"Of found: what is done with each object"`
	Metadata object.Edit `json:"metadata,omitzero" doc:"Of annotate"`
	Tags     object.Edit `json:"tags,omitzero" doc:"Of annotate"`
	Tier     string      `json:"tier,omitempty" maxLength:"32" doc:"Of move"`
	Expect   *int64      `json:"expect,omitempty" minimum:"0" doc:"Refuse it when more objects are found; a removal asks for it"`

	Placement string `json:"placement,omitempty" maxLength:"32" doc:"Of place: what the bucket gets"`
	All       bool   `json:"all,omitempty" doc:"Of place: what was put into other tiers is moved too"`
}

func (in OrderIn) order() (o *catalog.Order, err error) {
	o = &catalog.Order{Kind: in.Kind, What: catalog.OrderWhat{Prefix: []byte(in.Prefix), ToBucket: in.ToBucket,
		ToPrefix: []byte(in.ToPrefix), Replace: in.Replace}}
	if o.Bucket, err = object.ParseBucketName(in.Bucket); err != nil {
		return nil, err
	}
	for field, v := range map[string]string{"prefix": in.Prefix, "toPrefix": in.ToPrefix} {
		if err := object.CheckText(field, v); err != nil {
			return nil, err
		}
	}
	if in.Kind == "found" {
		o.What.Found = &catalog.OrderOf{Where: in.Where, Act: in.Act, Metadata: in.Metadata, Tags: in.Tags, Tier: in.Tier,
			Expect: in.Expect}
	}
	if in.Kind == "place" {
		o.What.Place = &catalog.OrderPlace{Placement: in.Placement, All: in.All}
	}
	if in.Kind == "restore" || in.Act == string(works.ActPutBack) {
		o.What.AsOf, err = moment(in.AsOf)
	}
	return o, err
}

// OrderPath names an order.
type OrderPath struct {
	ID int64 `path:"id" minimum:"1"`
}

func (d *Desk) orderCalls(to *calls) {
	call(to, rule{}, "rehearse-order", "POST /orders/rehearse", "orders", "Say what an order would do", d.rehearseOrder)
	call(to, rule{}, "create-order", "POST /orders", "orders",
		"Rename or restore all beneath a prefix",
		d.createOrder, answers(201),
		described("The service does it in the background, goes on after a restart, and can be stopped. The same order, stopped or failed, goes on."))
	call(to, rule{}, "list-orders", "GET /orders", "orders", "List orders, latest first", d.listOrders)
	call(to, rule{}, "show-order", "GET /orders/{id}", "orders", "Show an order", d.showOrder)
	call(to, rule{}, "stop-order", "POST /orders/{id}/stop", "orders", "Stop an order; it can go on later", d.stopOrder)
	call(to, rule{}, "resume-order", "POST /orders/{id}/resume", "orders", "Let an order go on", d.resumeOrder)
}

// turnOrder puts an order that is in one of some states into another.
func (d *Desk) turnOrder(ctx context.Context, id int64, to catalog.OrderState, from ...catalog.OrderState) (*orderOut,
	error) {
	if _, err := d.order(ctx, id); err != nil { // who may not make it may not turn it
		return nil, err
	}
	ok, err := d.store.Catalog.TurnOrder(ctx, id, to, "", from...)
	if err != nil {
		return nil, err
	}
	out, err := d.order(ctx, id)
	if err == nil && !ok && out.Body.State != string(to) {
		return nil, fault.New(fault.Conflict, "order-state", "the order is %s", out.Body.State).In("order")
	}
	return out, err
}

func (d *Desk) order(ctx context.Context, id int64) (*orderOut, error) {
	o, err := d.store.Catalog.Order(ctx, id)
	if err == nil {
		err = d.mayOrder(ctx, o)
	}
	if fault.HasCode(err, "not-allowed") {
		if seen, verr := d.veilFor(ctx, o.Bucket); verr != nil || !seen.inside {
			err = catalog.OrderMissing(id) // which buckets others have is not told
		}
	}
	if err != nil {
		return nil, err
	}
	seen := d.veilOf(ctx, "") // of a bucket that is gone
	if !o.Gone {
		if seen, err = d.veilFor(ctx, o.Bucket); err != nil {
			return nil, err
		}
	}
	return &orderOut{orderInfo(o, seen)}, nil
}

// mayGive refuses an order that who asks may not give, or a placement that the account of its
// bucket is not offered.
func (d *Desk) mayGive(ctx context.Context, o *catalog.Order) error {
	err := d.mayOrder(ctx, o)
	if err != nil || o.What.Place == nil {
		return err
	}
	return d.mayPlace(ctx, o.Bucket, o.What.Place.Placement, "")
}

func (d *Desk) rehearseOrder(ctx context.Context, in *struct{ Body OrderIn }) (*struct{ Body Rehearsal }, error) {
	o, err := in.Body.order()
	if err != nil {
		return nil, err
	}
	if err := d.mayGive(ctx, o); err != nil {
		return nil, err
	}
	r, err := works.Rehearse(ctx, d.store, o)
	if err != nil {
		return nil, err
	}
	return &struct{ Body Rehearsal }{Rehearsal(r)}, nil
}

func (d *Desk) createOrder(ctx context.Context, in *struct{ Body OrderIn }) (*orderOut, error) {
	o, err := in.Body.order()
	if err != nil {
		return nil, err
	}
	if err := d.mayGive(ctx, o); err != nil {
		return nil, err
	}
	if in.Body.Act == string(works.ActRemove) && in.Body.Expect == nil {
		return nil, fault.New(fault.Invalid, "guard", "it is not said how many objects may be removed").In("expect").
			Do("rehearse it, and agree to what it says")
	}
	o.Account = who(ctx).subject.Account
	id, err := works.Order(ctx, d.store, o, author(ctx))
	if err != nil {
		return nil, err
	}
	return d.order(ctx, id)
}

func (d *Desk) listOrders(ctx context.Context, in *struct {
	Before int64  `query:"before" minimum:"0"`
	State  string `query:"state" enum:"running,stopped,done,failed"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"50"`
}) (*struct {
	Body struct {
		Orders []OrderInfo `json:"orders"`
	}
}, error) {
	account, err := d.wide(ctx)
	if err != nil {
		return nil, err
	}
	list, err := d.store.Catalog.Orders(ctx, account, in.Before, catalog.OrderState(in.State), in.Limit)
	if err != nil {
		return nil, err
	}
	out := &struct {
		Body struct {
			Orders []OrderInfo `json:"orders"`
		}
	}{}
	out.Body.Orders = []OrderInfo{}
	for _, o := range list {
		out.Body.Orders = append(out.Body.Orders, orderInfo(o, d.veilOf(ctx, account)))
	}
	return out, nil
}

func (d *Desk) showOrder(ctx context.Context, in *OrderPath) (*orderOut, error) {
	return d.order(ctx, in.ID)
}

func (d *Desk) stopOrder(ctx context.Context, in *OrderPath) (*orderOut, error) {
	return d.turnOrder(ctx, in.ID, catalog.OrderStopped, catalog.OrderRunning)
}

func (d *Desk) resumeOrder(ctx context.Context, in *OrderPath) (*orderOut, error) {
	if _, err := d.order(ctx, in.ID); err != nil { // who may not make it may not turn it
		return nil, err
	}
	by := author(ctx) // who lets it go on is its giver now: it goes on with their rights
	if err := d.store.Catalog.AdoptOrder(ctx, in.ID, by.Who, who(ctx).subject.Account, by.Source); err != nil {
		return nil, err
	}
	return d.turnOrder(ctx, in.ID, catalog.OrderRunning, catalog.OrderStopped, catalog.OrderFailed)
}
