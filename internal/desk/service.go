package desk

import (
	"context"
	"fmt"
	"net"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"spindle/internal/api"
	"spindle/internal/core/endpoint"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

// HostIn keeps the host by which a client reached the desk.
type HostIn struct {
	host string
	tls  bool
}

// Resolve keeps the host that the client used.
func (h *HostIn) Resolve(ctx huma.Context) []error {
	h.host, h.tls = ctx.Host(), ctx.TLS() != nil
	return nil
}

// wireInfo says where the wire is for a client that reached the desk as host.
func (d *Desk) wireInfo(host string) api.WireInfo {
	port := d.settings.WireAddress().(*net.TCPAddr).Port
	scheme := "http"
	if d.settings.WireTLS {
		scheme = "https"
	}
	name := host
	if h, _, err := net.SplitHostPort(host); err == nil {
		name = h
	}
	u := d.settings.WireURL
	if u == "" {
		u = fmt.Sprintf("%s://%s", scheme, net.JoinHostPort(name, fmt.Sprint(port)))
	}
	return api.WireInfo{URL: u, Port: port, Scheme: scheme, Domains: d.settings.Domains}
}

func (d *Desk) serviceCalls(to *calls) {
	call(to, rule{}, "service", "GET /service", "service", "What this service is and where its wire is", d.service)
	call(to, rule{}, "check", "POST /check", "service",
		"Check a client's settings, field by field, for real", d.checkCall)
}

func (d *Desk) service(ctx context.Context, in *HostIn) (*struct{ Body api.ServiceInfo }, error) {
	return &struct{ Body api.ServiceInfo }{api.ServiceInfo{Product: "spindle", Role: "desk", Version: d.settings.Version,
		Region: d.store.Region,
		Wire:   d.wireInfo(in.host), Time: time.Now().UTC(), Currency: d.settings.Money.Currency,
		Digits: d.settings.Money.Digits}}, nil
}

func (d *Desk) checkCall(ctx context.Context, in *struct {
	HostIn
	Body api.ServiceCheckAsk
}) (*struct{ Body endpoint.Report }, error) {
	b := in.Body
	key := sign.Credential{ID: b.Key, Secret: b.Secret}
	if own := who(ctx).key; own != nil && b.Secret == "" && (b.Key == "" || b.Key == own.ID) {
		key = sign.Credential{ID: own.ID, Secret: own.Secret}
	}
	r, err := d.checkSettings(ctx, in.host, client.Settings{Address: b.Address, Style: b.Style, Region: b.Region, Key: key,
		Bucket: b.Bucket, Write: b.Write})
	if err != nil {
		return nil, err
	}
	return &struct{ Body endpoint.Report }{*r}, nil
}
