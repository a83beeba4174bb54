package jobs

import (
	"context"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/query"
	"spindle/internal/desk/middle"
	"spindle/internal/works/orders"
)

func orderInfo(o *catalog.Order, seen middle.Veil) api.OrderInfo {
	p := o.Progress
	where, act := "", ""
	if f := o.What.Found; f != nil {
		where, act = f.Where, f.Act
	}
	placed := ""
	if o.What.Place != nil {
		placed = o.What.Place.Placement
	}
	return api.OrderInfo{Placed: placed, Where: where, Act: act, ID: o.ID, Kind: o.Kind, Bucket: o.Bucket.String(),
		Prefix:   string(o.What.Prefix),
		ToBucket: o.What.ToBucket, ToPrefix: string(o.What.ToPrefix), AsOf: o.What.AsOf,
		State: string(o.State), Problem: o.Problem, Total: p.Total, Done: p.Done(), Counts: counts(p.Counts),
		Sealed: o.What.Sealed, Bytes: p.Bytes, By: seen.By(o.Who), Began: p.Began, Changed: o.Changed}
}

func counts(m map[string]int64) map[string]int64 {
	if m == nil {
		return map[string]int64{}
	}
	return m
}

type orderOut struct{ Body api.OrderInfo }

func orderOf(in api.OrderIn) (o *catalog.Order, err error) {
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
	if in.Kind == "restore" || in.Act == string(query.ActPutBack) {
		o.What.AsOf, err = middle.Moment(in.AsOf)
	}
	return o, err
}

// OrderPath names an order.
type OrderPath struct {
	ID int64 `path:"id" minimum:"1"`
}

func (d *Desk) orderCalls(to *middle.Calls) {
	middle.Call(to, middle.Rule{}, "rehearse-order", "POST /orders/rehearse", "orders", "Say what an order would do", d.rehearseOrder)
	middle.Call(to, middle.Rule{}, "create-order", "POST /orders", "orders",
		"Rename or restore all beneath a prefix",
		d.createOrder, middle.Answers(201),
		middle.Described("The service does it in the background, goes on after a restart, and can be stopped. The same order, stopped or failed, goes on."))
	middle.Call(to, middle.Rule{}, "list-orders", "GET /orders", "orders", "List orders, latest first", d.listOrders)
	middle.Call(to, middle.Rule{}, "show-order", "GET /orders/{id}", "orders", "Show an order", d.showOrder)
	middle.Call(to, middle.Rule{}, "stop-order", "POST /orders/{id}/stop", "orders", "Stop an order; it can go on later", d.stopOrder)
	middle.Call(to, middle.Rule{}, "resume-order", "POST /orders/{id}/resume", "orders", "Let an order go on", d.resumeOrder)
}

// turnOrder puts an order that is in one of some states into another.
func (d *Desk) turnOrder(ctx context.Context, id int64, to catalog.OrderState, from ...catalog.OrderState) (*orderOut,
	error) {
	if _, err := d.order(ctx, id); err != nil { // who may not make it may not turn it
		return nil, err
	}
	ok, err := d.Store.Catalog.TurnOrder(ctx, id, to, "", from...)
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
	o, err := d.Store.Catalog.Order(ctx, id)
	if err == nil {
		err = d.MayOrder(ctx, o)
	}
	if fault.HasCode(err, "not-allowed") {
		if seen, verr := d.VeilFor(ctx, o.Bucket); verr != nil || !seen.Inside {
			err = catalog.OrderMissing(id) // which buckets others have is not told
		}
	}
	if err != nil {
		return nil, err
	}
	seen := d.VeilOf(ctx, "") // of a bucket that is gone
	if !o.Gone {
		if seen, err = d.VeilFor(ctx, o.Bucket); err != nil {
			return nil, err
		}
	}
	return &orderOut{orderInfo(o, seen)}, nil
}

// mayGive refuses an order that who asks may not give, or a placement that the account of its
// bucket is not offered.
func (d *Desk) mayGive(ctx context.Context, o *catalog.Order) error {
	err := d.MayOrder(ctx, o)
	if err != nil || o.What.Place == nil {
		return err
	}
	return d.house.MayPlace(ctx, o.Bucket, o.What.Place.Placement, "")
}

func (d *Desk) rehearseOrder(ctx context.Context, in *struct{ Body api.OrderIn }) (*struct{ Body api.Rehearsal },
	error) {
	o, err := orderOf(in.Body)
	if err != nil {
		return nil, err
	}
	if err := d.mayGive(ctx, o); err != nil {
		return nil, err
	}
	r, err := orders.Rehearse(ctx, d.Store, o)
	if err != nil {
		return nil, err
	}
	return &struct{ Body api.Rehearsal }{api.Rehearsal(r)}, nil
}

func (d *Desk) createOrder(ctx context.Context, in *struct{ Body api.OrderIn }) (*orderOut, error) {
	o, err := orderOf(in.Body)
	if err != nil {
		return nil, err
	}
	if err := d.mayGive(ctx, o); err != nil {
		return nil, err
	}
	if in.Body.Act == string(query.ActRemove) && in.Body.Expect == nil {
		return nil, fault.New(fault.Invalid, "guard", "it is not said how many objects may be removed").In("expect").
			Do("rehearse it, and agree to what it says")
	}
	o.Account = middle.Who(ctx).Subject.Account
	id, err := orders.Order(ctx, d.Store, o, middle.Author(ctx))
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
		Orders []api.OrderInfo `json:"orders"`
	}
}, error) {
	account, err := d.Wide(ctx)
	if err != nil {
		return nil, err
	}
	list, err := d.Store.Catalog.Orders(ctx, account, in.Before, catalog.OrderState(in.State), in.Limit)
	if err != nil {
		return nil, err
	}
	out := &struct {
		Body struct {
			Orders []api.OrderInfo `json:"orders"`
		}
	}{}
	out.Body.Orders = []api.OrderInfo{}
	for _, o := range list {
		out.Body.Orders = append(out.Body.Orders, orderInfo(o, d.VeilOf(ctx, account)))
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
	by := middle.Author(ctx) // who lets it go on is its giver now: it goes on with their rights
	if err := d.Store.Catalog.AdoptOrder(ctx, in.ID, by.Who, middle.Who(ctx).Subject.Account, by.Source); err != nil {
		return nil, err
	}
	return d.turnOrder(ctx, in.ID, catalog.OrderRunning, catalog.OrderStopped, catalog.OrderFailed)
}
