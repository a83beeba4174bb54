package house

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"golang.org/x/time/rate"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/desk/middle"
	"spindle/internal/remote"
	"spindle/internal/wire/client"
)

// How many checks of settings somebody may ask for: at once, and then a second.
const (
	checkBurst = 10
	checkRate  = 0.5
	checksMost = 10_000 // askers remembered
)

// checksOf gives what counts the checks of somebody.
func (d *Desk) checksOf(who string) *rate.Limiter {
	d.checking.Lock()
	defer d.checking.Unlock()
	l := d.checks[who]
	if l == nil {
		if len(d.checks) >= checksMost {
			for other, old := range d.checks { // those that asked for none lately
				if old.Tokens() >= checkBurst {
					delete(d.checks, other)
				}
			}
		}
		l = rate.NewLimiter(checkRate, checkBurst)
		d.checks[who] = l
	}
	return l
}

func tooManyChecks() error {
	return fault.New(fault.Unavailable, "check-rate", "too many checks were asked for").In("requests").
		Do("wait a few seconds")
}

// MayCheck refuses who asks for checks too often, with the code check-rate.
func (d *Desk) MayCheck(who string) error {
	if !d.checksOf(who).Allow() {
		return tooManyChecks()
	}
	return nil
}

// MayMiss refuses who named too many things lately that are not there: names of others are not
// found out by trying. The error has the code check-rate.
func (d *Desk) MayMiss(ctx context.Context) error {
	if d.checksOf("misses of "+middle.Who(ctx).Subject.By()).Tokens() < 1 {
		return tooManyChecks()
	}
	return nil
}

// Missed counts that somebody named what is not there, and has the trail say so.
func (d *Desk) Missed(ctx context.Context, what string) {
	id := middle.Who(ctx)
	d.checksOf("misses of " + id.Subject.By()).Allow()
	d.Gate.Note(catalog.TrailEntry{Kind: access.TrailRefused, Account: id.Subject.Account, Who: id.Subject.By(),
		Source: id.Source, Subject: what, Detail: map[string]any{}})
}

// CheckSettings tries a client's settings. The service connects to nothing but
// itself, unless an operator asks, and each check stands in the trail.
func (d *Desk) CheckSettings(ctx context.Context, host string, s client.Settings) (*endpoint.Report, error) {
	id := middle.Who(ctx)
	if err := d.MayCheck(id.Subject.By()); err != nil {
		return nil, err
	}
	d.Gate.Note(catalog.TrailEntry{Kind: access.TrailChecked, Account: id.Subject.Account, Who: id.Subject.By(),
		Source: id.Source, Subject: middle.Limited(s.Address), Detail: map[string]any{"write": s.Write}})
	own := d.ownAddresses(ctx, host)
	u, err := url.Parse(strings.TrimSpace(s.Address))
	if err != nil || u.Host == "" {
		r := client.Check(ctx, s) // says what is wrong with it, and connects to nothing
		return &r, nil
	}
	s.Own = own.has(u.Host, u.Scheme)
	if !s.Own && !id.Subject.Operator {
		return own.notTried(u, d.WireInfo(host)), nil
	}
	s.Dial = (&remote.Dialer{Instead: own.instead}).Dial
	r := client.Check(ctx, s)
	return &r, nil
}

// own are the service's own addresses, as clients write them, with where they are
// listened on.
type own struct {
	hosts   []string // by which it is known
	domains []string // of buckets beneath them
	ports   map[string]string
	url     string // of the wire, when it is set
}

func (d *Desk) ownAddresses(ctx context.Context, host string) own {
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	o := own{hosts: []string{strings.ToLower(host), "localhost", "127.0.0.1", "::1"}, domains: d.Settings.Domains,
		ports: map[string]string{}, url: d.Settings.WireURL}
	at := []net.Addr{d.Settings.WireAddress()}
	if here, ok := ctx.Value(http.LocalAddrContextKey).(net.Addr); ok {
		at = append(at, here)
	}
	for _, a := range at {
		if tcp, ok := a.(*net.TCPAddr); ok {
			ip := tcp.IP
			if o.hosts = append(o.hosts, ip.String()); ip.IsUnspecified() {
				ip = net.IPv6loopback
				if tcp.IP.To4() != nil {
					ip = net.IPv4(127, 0, 0, 1)
				}
			}
			o.ports[fmt.Sprint(tcp.Port)] = net.JoinHostPort(ip.String(), fmt.Sprint(tcp.Port))
		}
	}
	return o
}

func split(hostport, scheme string) (host, port string) {
	host, port, err := net.SplitHostPort(hostport)
	if err != nil {
		host, port = strings.Trim(hostport, "[]"), map[string]string{"https": "443"}[scheme]
		if port == "" {
			port = "80"
		}
	}
	return strings.ToLower(host), port
}

func (o own) known(host string) bool {
	if slices.Contains(o.hosts, host) {
		return true
	}
	for _, d := range append(slices.Clone(o.hosts), o.domains...) { // BUCKET.HOST
		if bucket, ok := strings.CutSuffix(host, "."+d); ok && !strings.Contains(bucket, "/") {
			return true
		}
	}
	return false
}

// has reports whether an address is one of the service's own.
func (o own) has(hostport, scheme string) bool {
	if u, err := url.Parse(o.url); o.url != "" && err == nil && strings.EqualFold(u.Host, hostport) && u.Scheme == scheme {
		return true
	}
	host, port := split(hostport, scheme)
	return o.ports[port] != "" && o.known(host)
}

// instead gives where an own address is listened on: whatever its name resolves to,
// nothing else is connected to.
func (o own) instead(hostport string) string {
	if host, port := split(hostport, ""); o.known(host) {
		return o.ports[port]
	}
	return ""
}

// notTried is the report of a check of an address that is not the service's own.
func (o own) notTried(u *url.URL, wire api.WireInfo) *endpoint.Report {
	host, _ := split(u.Host, u.Scheme)
	f := endpoint.Finding{Field: "address", Result: endpoint.Wrong,
		Seen: "this is no address of the service; others are tried for operators alone", Remedy: "use " + wire.URL,
		Address: wire.URL}
	r := &endpoint.Report{At: time.Now().UTC()}
	if o.known(host) {
		f.Field, f.Seen = "port", fmt.Sprintf("neither wire nor console of the service is on this port; the wire is on %d",
			wire.Port)
		r.Findings = append(r.Findings, endpoint.Finding{Field: "address", Result: endpoint.Agrees, Seen: host +
			" is the service's"})
	}
	r.Findings = append(r.Findings, f)
	return r
}
