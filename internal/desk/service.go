package desk

import (
	"context"
	"time"

	"spindle/internal/api"
	"spindle/internal/core/endpoint"
	"spindle/internal/desk/middle"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

func (d *Desk) serviceCalls(to *middle.Calls) {
	middle.Call(to, middle.Rule{}, "service", "GET /service", "service", "What this service is and where its wire is", d.service)
	middle.Call(to, middle.Rule{}, "check", "POST /check", "service",
		"Check a client's settings, field by field, for real", d.checkCall)
}

func (d *Desk) service(ctx context.Context, in *middle.HostIn) (*struct{ Body api.ServiceInfo }, error) {
	return &struct{ Body api.ServiceInfo }{api.ServiceInfo{Product: "spindle", Role: "desk", Version: d.Settings.Version,
		Region: d.Store.Region,
		Wire:   d.WireInfo(in.Host), Time: time.Now().UTC(), Currency: d.Settings.Money.Currency,
		Digits: d.Settings.Money.Digits}}, nil
}

func (d *Desk) checkCall(ctx context.Context, in *struct {
	middle.HostIn
	Body api.ServiceCheckAsk
}) (*struct{ Body endpoint.Report }, error) {
	b := in.Body
	key := sign.Credential{ID: b.Key, Secret: b.Secret}
	if own := middle.Who(ctx).Key; own != nil && b.Secret == "" && (b.Key == "" || b.Key == own.ID) {
		key = sign.Credential{ID: own.ID, Secret: own.Secret}
	}
	r, err := d.house.CheckSettings(ctx, in.Host, client.Settings{Address: b.Address, Style: b.Style, Region: b.Region, Key: key,
		Bucket: b.Bucket, Write: b.Write})
	if err != nil {
		return nil, err
	}
	return &struct{ Body endpoint.Report }{*r}, nil
}
