package remote

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"strings"
	"time"

	"spindle/internal/core/fault"
)

// Dialer reaches what it may.
type Dialer struct {
	Timeout time.Duration // of one connection; default 4 s

	// Allow says whether an address may be reached; nil for all that Public gives. It
	// is asked after what is never reached was refused.
	Allow func(netip.AddrPort) bool

	// Instead gives the address to connect to instead of one as it was typed in, for
	// names that stand for the service itself; "" for none. It is not resolved nor
	// asked about.
	Instead func(address string) string
}

// Never reports whether an address is one that is not reached for anybody:
// link-local (RFC 3927; RFC 4291, section 2.5.6), multicast, or none at all.
func Never(a netip.Addr) bool {
	a = inner(a)
	return a.IsLinkLocalUnicast() || a.IsMulticast() || a.IsUnspecified() || !a.IsValid() ||
		a == netip.AddrFrom4([4]byte{255, 255, 255, 255})
}

// inner gives the IPv4 address that an IPv6 address stands for, where it does: mapped and
// compatible ones (RFC 4291, section 2.5.5), those of translators (RFC 6052; RFC 8215) and of 6to4
// (RFC 3056). Others are given as they are.
func inner(a netip.Addr) netip.Addr {
	if a = a.Unmap(); !a.Is6() {
		return a
	}
	b := a.As16()
	last := netip.AddrFrom4([4]byte(b[12:16]))
	switch {
	case translated.Contains(a), locallyTranslated.Contains(a):
		return last
	case sixToFour.Contains(a):
		return netip.AddrFrom4([4]byte(b[2:6]))
	case compatible.Contains(a) && a != netip.IPv6Loopback() && a != netip.IPv6Unspecified():
		return last
	}
	return a
}

var (
	translated        = netip.MustParsePrefix("64:ff9b::/96")
	locallyTranslated = netip.MustParsePrefix("64:ff9b:1::/48")
	sixToFour         = netip.MustParsePrefix("2002::/16")
	compatible        = netip.MustParsePrefix("::/96")
)

// special are the networks that no service of others is in, of the registries of special-purpose
// addresses (IANA, as of 2026-11; RFC 6890) and what was withdrawn; those of loopback and private
// networks stand in reachNames.
var special = []netip.Prefix{
	netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("192.0.0.0/24"), netip.MustParsePrefix("192.0.2.0/24"),
	netip.MustParsePrefix("192.88.99.0/24"), netip.MustParsePrefix("198.18.0.0/15"),
	netip.MustParsePrefix("198.51.100.0/24"), netip.MustParsePrefix("203.0.113.0/24"),
	netip.MustParsePrefix("240.0.0.0/4"), netip.MustParsePrefix("100::/64"), netip.MustParsePrefix("2001::/23"),
	netip.MustParsePrefix("2001:db8::/32"), netip.MustParsePrefix("3fff::/20"), netip.MustParsePrefix("5f00::/16"),
	netip.MustParsePrefix("fec0::/10"),
}

// Dial connects to HOST:PORT (as http.Transport's DialContext). The error for what
// may not be reached has the code address-refused.
func (d *Dialer) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	timeout := d.Timeout
	if timeout == 0 {
		timeout = 4 * time.Second
	}
	dialer := &net.Dialer{Timeout: timeout, KeepAlive: 30 * time.Second}
	if d.Instead != nil {
		if to := d.Instead(address); to != "" {
			return dialer.DialContext(ctx, network, to)
		}
	}
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	if strings.HasSuffix(host, ".localhost") { // RFC 6761, section 6.3
		host = "localhost"
	}
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	addrs, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil {
		return nil, err
	}
	n, err := net.DefaultResolver.LookupPort(ctx, "tcp", port)
	if err != nil {
		return nil, err
	}
	var errs []error
	for _, a := range addrs {
		ap := netip.AddrPortFrom(a.Unmap(), uint16(n))
		if Never(ap.Addr()) || d.Allow != nil && !d.Allow(ap) {
			errs = append(errs, fault.New(fault.Refused, "address-refused", "the service does not connect to %s", host).
				In("address").Do("give another address, or have the operator allow this one"))
			continue
		}
		c, err := dialer.DialContext(ctx, network, ap.String())
		if err == nil {
			return c, nil
		}
		errs = append(errs, err)
	}
	return nil, errors.Join(errs...)
}
