package client

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"syscall"
	"time"

	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/wire/sign"
)

// Settings of a client, as a person has them.
type Settings struct {
	Address string // with scheme
	Style   string // path or host
	Region  string
	Key     sign.Credential
	Bucket  string // to try; may be empty
	Write   bool   // also put, read and remove a small object
	Find    bool   // find out region and style when they are not given, and what the service can do

	// Step hears of each line as soon as it is known; nil: nobody does.
	Step func(endpoint.Finding)
	// Dial connects, where not everything may be reached; nil for everything.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	// Own says that the address is the service's own, whose messages may be shown;
	// what others say is not passed on.
	Own bool
}

var checkOrder = []string{"address", "port", "protocol", "certificate", "clock", "region", "style", "key", "bucket",
	"there-and-back"}

type checking struct {
	s         Settings
	found     map[string]endpoint.Finding
	hc        *http.Client
	u         *url.URL
	latency   time.Duration
	abilities endpoint.Abilities
}

// deskAnswer is what a Spindle desk says of itself without being asked who asks.
type deskAnswer struct {
	Product string `json:"product"`
	Role    string `json:"role"`
	Wire    struct {
		Port   int    `json:"port"`
		Scheme string `json:"scheme"`
	} `json:"wire"`
}

// Check looks at settings one by one for real. It takes at most about 15 seconds, 30
// when it is to find things out.
func Check(ctx context.Context, s Settings) endpoint.Report {
	most := 15 * time.Second
	if s.Find {
		most = 30 * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, most)
	defer cancel()
	t := Transport()
	if s.Dial == nil {
		s.Dial = dial(4 * time.Second)
	}
	t.DialContext = s.Dial
	c := &checking{s: s, found: map[string]endpoint.Finding{}, hc: &http.Client{Transport: t, Timeout: 8 * time.Second,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
	defer t.CloseIdleConnections()
	c.run(ctx)
	r := endpoint.Report{Good: true, At: time.Now().UTC(), Latency: float64(c.latency.Microseconds()) / 1000,
		Abilities: c.abilities}
	order := checkOrder
	if s.Find {
		r.Region, r.Style = c.s.Region, c.s.Style
		order = append(slices.Clone(order), "abilities")
	}
	for _, field := range order {
		f, ok := c.found[field]
		if !ok {
			f = endpoint.Finding{Field: field, Result: endpoint.NotTried}
		}
		f.Field = field
		r.Good = r.Good && f.Result != endpoint.Wrong
		r.Findings = append(r.Findings, f)
	}
	return r
}

func (c *checking) good(field, format string, args ...any) {
	c.line(field, endpoint.Finding{Result: endpoint.Agrees, Seen: fmt.Sprintf(format, args...)})
}

// line keeps a line of the report, and tells of it.
func (c *checking) line(field string, f endpoint.Finding) {
	c.found[field] = f
	if f.Field = field; c.s.Step != nil {
		c.s.Step(f)
	}
}

func (c *checking) wrong(field, remedy, format string, args ...any) {
	c.line(field, endpoint.Finding{Result: endpoint.Wrong, Seen: fmt.Sprintf(format, args...), Remedy: remedy})
}

func (c *checking) run(ctx context.Context) {
	u, err := url.Parse(strings.TrimSpace(c.s.Address))
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.Path != "" && u.Path != "/" {
		c.wrong("address", "give it as http://HOST:PORT or https://HOST", "%q is no address of a service", c.s.Address)
		return
	}
	c.u = &url.URL{Scheme: u.Scheme, Host: u.Host}
	if !c.dial(ctx) {
		return
	}
	resp := c.probe(ctx)
	if resp == nil {
		return
	}
	if apart := clockApart(resp); apart > sign.MaxSkew || apart < -sign.MaxSkew {
		c.wrong("clock", "set this machine's clock, or the service's", "the clocks are %s apart; %d min is allowed",
			apart.Round(time.Second), int(sign.MaxSkew.Minutes()))
	} else {
		c.good("clock", "less than %s apart, up to %d min is allowed", (apart.Abs() + time.Second).Round(time.Second),
			int(sign.MaxSkew.Minutes()))
	}
	c.signed(ctx)
}

func clockApart(resp *http.Response) time.Duration {
	t, err := http.ParseTime(resp.Header.Get("Date"))
	if err != nil {
		return 0
	}
	return time.Since(t).Truncate(time.Second)
}

// dial says whether anything listens at the address.
func (c *checking) dial(ctx context.Context) bool {
	host := c.u.Host
	if c.u.Port() == "" {
		host = net.JoinHostPort(c.u.Hostname(), map[string]string{"http": "80", "https": "443"}[c.u.Scheme])
	}
	start := time.Now()
	conn, err := c.s.Dial(ctx, "tcp", host)
	var dns *net.DNSError
	switch {
	case fault.HasCode(err, "address-refused"):
		c.wrong("address", fault.From(err).Remedy, "the service does not connect to %s", c.u.Hostname())
		return false
	case errors.As(err, &dns):
		c.wrong("address", "check the spelling of the host's name", "the name %s is not known", c.u.Hostname())
		return false
	case errors.Is(err, syscall.ECONNREFUSED):
		c.good("address", "%s is there", c.u.Hostname())
		c.wrong("port", "check the port, and that the service runs", "nothing listens on port %s", portOf(host))
		return false
	case err != nil:
		c.wrong("address", "check the address, the network and firewalls between", "%s does not answer", host)
		return false
	}
	defer conn.Close()
	c.good("address", "%s answers in %.1f ms", conn.RemoteAddr().(*net.TCPAddr).IP,
		float64(time.Since(start).Microseconds())/1000)
	return true
}

func portOf(hostport string) string {
	_, p, err := net.SplitHostPort(hostport)
	if err != nil {
		return ""
	}
	return p
}

// probe asks without a signature what is listening.
func (c *checking) probe(ctx context.Context) *http.Response {
	resp, err := c.ask(ctx, c.u)
	var unknown x509.UnknownAuthorityError
	var hostname x509.HostnameError
	var invalid x509.CertificateInvalidError
	var record tls.RecordHeaderError
	switch {
	case errors.As(err, &unknown), errors.As(err, &hostname), errors.As(err, &invalid):
		c.good("protocol", "TLS")
		c.wrong("certificate", "use a name the certificate is for, or have this machine trust whoever signed it",
			"the certificate is not accepted: %s", c.whyNot(err))
		return nil
	case errors.As(err, &record), err != nil && strings.Contains(err.Error(), "server gave HTTP response to HTTPS client"):
		c.wrong("protocol", "begin the address with http://", "it speaks plain HTTP, and the address begins with https://")
		return nil
	case err != nil:
		c.wrong("protocol", "check the port", "something listens there, and it does not speak HTTP")
		return nil
	}
	if resp.StatusCode == http.StatusBadRequest && c.u.Scheme == "http" && strings.Contains(resp.Status, "400") &&
		resp.Header.Get("Server") == "" && resp.Header.Get("Date") == "" {
		c.wrong("protocol", "begin the address with https://", "it speaks TLS, and the address begins with http://")
		return nil
	}
	c.good("protocol", "%s, as this address expects", map[string]string{"http": "plain HTTP", "https": "TLS"}[c.u.Scheme])
	if c.u.Scheme == "https" {
		c.good("certificate", "valid for %s", c.u.Hostname())
	} else {
		c.line("certificate", endpoint.Finding{Result: endpoint.NotUsed, Seen: "plain HTTP needs none"})
	}
	desk := *c.u
	desk.Path = "/api/v1/service"
	if d, err := c.ask(ctx, &desk); err == nil {
		var a deskAnswer
		if json.NewDecoder(io.LimitReader(d.Body, 64<<10)).Decode(&a) == nil && a.Product == "spindle" && a.Role == "desk" &&
			(a.Wire.Scheme == "http" || a.Wire.Scheme == "https") {
			right := url.URL{Scheme: a.Wire.Scheme, Host: net.JoinHostPort(c.u.Hostname(), fmt.Sprint(a.Wire.Port))}
			c.line("port", endpoint.Finding{Result: endpoint.Wrong,
				Seen:   fmt.Sprintf("this address answers, but it is the console's port; the wire is on %d", a.Wire.Port),
				Remedy: "use " + right.String(), Address: right.String()})
			return nil
		}
	}
	if resp.Header.Get("X-Amz-Request-Id") == "" && !speaksErrors(resp) {
		c.wrong("port", "check address and port", "something answers there, and it does not speak the dialect")
		return nil
	}
	c.good("port", "the wire answers there")
	return resp
}

// whyNot says why a certificate is not accepted; a foreign one's own words are not
// passed on.
func (c *checking) whyNot(err error) string {
	var hostname x509.HostnameError
	var invalid x509.CertificateInvalidError
	switch {
	case c.s.Own:
		return lastPart(err)
	case errors.As(err, &hostname):
		return "it is for other names"
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return "it has expired, or is not valid yet"
	}
	return "nobody this machine trusts has signed it"
}

// told gives what a service answered: in its words when it is our own, else in ours.
func (c *checking) told(err error) string {
	f := fault.From(err)
	if c.s.Own || f.Code == "unreachable" || f.Code == "foreign" {
		return f.Message
	}
	if r := regionIs(""); errors.As(err, &r) {
		return r.Error()
	}
	if f.Code == "wire-error" {
		return "the service there answers with an error"
	}
	return "the service there answers: " + strings.ReplaceAll(f.Code, "-", " ")
}

// mend gives what to do about an answer.
func (c *checking) mend(err error) string {
	if f := fault.From(err); c.s.Own || f.Code == "unreachable" || f.Code == "foreign" {
		return f.Remedy
	}
	return "look at that service's own log, or ask who runs it"
}

func lastPart(err error) string {
	s := err.Error()
	return strings.TrimPrefix(s[strings.LastIndex(s, "x509: ")+1:], "509: ")
}

func (c *checking) ask(ctx context.Context, u *url.URL) (*http.Response, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
	if err != nil {
		return nil, err
	}
	resp, err := c.hc.Do(r)
	if err != nil {
		return nil, err
	}
	b, _ := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
	resp.Body.Close()
	resp.Body = io.NopCloser(bytes.NewReader(b))
	return resp, nil
}

// speaksErrors reports whether an answer is an error of the dialect.
func speaksErrors(resp *http.Response) bool {
	raw, err := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
	var d struct {
		XMLName xml.Name `xml:"Error"`
		Code    string
	}
	return err == nil && xml.Unmarshal(raw, &d) == nil && d.Code != ""
}

// signed tries the key, the region, the bucket and, when asked, a whole round.
func (c *checking) signed(ctx context.Context) {
	if c.s.Key.ID == "" {
		c.wrong("key", "give an access key and its secret", "no key is given")
		return
	}
	buckets, err := c.knock(ctx)
	switch {
	case fault.HasCode(err, "region"):
		c.wrong("region", "set the region the service names", "%s", c.told(err))
		return
	case fault.HasCode(err, "key-unknown"):
		c.wrong("key", "check the key's id, and that it was made by this service", "there is no key %q here", c.s.Key.ID)
		return
	case fault.HasCode(err, "signature-mismatch"):
		c.wrong("key", "check the secret: the id is known, and the signature made with this secret does not fit",
			"the secret is not the one of %s", c.s.Key.ID)
		return
	case fault.HasCode(err, "clock-skew"):
		c.wrong("clock", "set this machine's clock, or the service's", "%s", c.told(err))
		return
	case fault.KindOf(err) == fault.Unavailable && err != nil:
		c.line("port", endpoint.Finding{Result: endpoint.Wrong, Seen: c.told(err), Remedy: "try again in a moment; " +
			c.mend(err),
			Fails: true})
		return
	case err != nil && !fault.HasCode(err, "refused"):
		c.wrong("key", c.mend(err), "%s", c.told(err))
		return
	}
	c.good("region", "%s is accepted", c.s.Region)
	c.good("key", "%s is known, and its secret fits", c.s.Key.ID)
	named := c.s.Bucket != ""
	if c.s.Find && !named && len(buckets) > 0 {
		c.s.Bucket = buckets[0]
	}
	if c.s.Bucket == "" {
		c.line("style", endpoint.Finding{Result: endpoint.NotTried, Seen: "name a bucket to try it"})
		return
	}
	cl := c.bucket(ctx)
	if cl == nil {
		return
	}
	if !c.s.Write {
		c.line("there-and-back", endpoint.Finding{Result: endpoint.NotTried,
			Seen: "puts a 1 KiB object, reads it, removes it"})
	} else if !c.round(ctx, cl) {
		return
	}
	if c.s.Find {
		c.able(ctx, cl)
	}
}

// knock asks the service itself, without a bucket, so that style does not matter yet. A
// region that was not given is that which the service names.
func (c *checking) knock(ctx context.Context) (buckets []string, err error) {
	if c.s.Find && c.s.Region == "" {
		c.s.Region = anyRegion
	}
	for again := range 2 {
		begun := time.Now()
		var list []Bucket
		list, err = (&Client{Base: c.u, Region: c.s.Region, Key: c.s.Key, HTTP: c.hc}).Buckets(ctx)
		c.latency = time.Since(begun)
		for _, b := range list {
			buckets = append(buckets, b.Name)
		}
		named, ok := RegionNamed(err)
		if again > 0 || !c.s.Find || !ok || !fault.HasCode(err, "region") || c.s.Region != anyRegion {
			break
		}
		c.s.Region = named
	}
	return buckets, err
}

// anyRegion is what is signed for while the region is not known: services that have
// only one take any, others name theirs.
const anyRegion = "any"

// bucket tries the bucket with the style, nil when it cannot be listed. A style that was
// not given is found: path where that works.
func (c *checking) bucket(ctx context.Context) *Client {
	cl := &Client{Base: c.u, HostStyle: c.s.Style == "host", Region: c.s.Region, Key: c.s.Key, HTTP: c.hc}
	if _, err := object.ParseBucketName(c.s.Bucket); err != nil {
		c.wrong("bucket", fault.From(err).Remedy, "%s", fault.From(err).Message)
		return nil
	}
	_, err := cl.List(ctx, c.s.Bucket, "", "", "", 1)
	if c.s.Find && c.s.Style == "" {
		c.s.Style = "path"
		if err != nil && fault.KindOf(err) != fault.Refused && !fault.HasCode(err, "bucket-missing") {
			host := *cl
			host.HostStyle = true
			if _, herr := host.List(ctx, c.s.Bucket, "", "", "", 1); herr == nil {
				cl, err, c.s.Style = &host, nil, "host"
			}
		}
	}
	switch {
	case fault.HasCode(err, "unreachable"):
		c.wrong("style", "use path style, or have the name server answer for bucket names", "the name %s.%s is not known",
			c.s.Bucket, c.u.Hostname())
	case fault.HasCode(err, "bucket-missing") && cl.HostStyle &&
		!fault.HasCode(pathStyle(ctx, cl, c.s.Bucket), "bucket-missing"):
		c.wrong("style", "use path style, or have the operator add the host's name to the service's domains",
			"the service does not take %s for a domain of its own", c.u.Hostname())
	case fault.HasCode(err, "bucket-missing"):
		c.good("style", "%s style is understood", c.s.Style)
		c.wrong("bucket", "check its name, or create it", "there is no bucket named %q", c.s.Bucket)
	case err != nil:
		c.wrong("bucket", c.mend(err), "%s", c.told(err))
	default:
		c.good("style", "%s style is understood", c.s.Style)
		c.good("bucket", "%s can be listed", c.s.Bucket)
		return cl
	}
	return nil
}

func pathStyle(ctx context.Context, cl *Client, bucket string) error {
	p := *cl
	p.HostStyle = false
	_, err := p.List(ctx, bucket, "", "", "", 1)
	return err
}

// round puts, reads and removes a small object, and says whether that went well.
func (c *checking) round(ctx context.Context, cl *Client) bool {
	body := make([]byte, 1024)
	_, _ = rand.Read(body)
	key := "spindle-check-" + rand.Text()
	start := time.Now()
	put, err := cl.Put(ctx, c.s.Bucket, key, bytes.NewReader(body), int64(len(body)), Put{})
	if err != nil {
		c.wrong("there-and-back", "give the key the right to write, or try another bucket", "putting failed: %s", c.told(err))
		return false
	}
	o, err := cl.Get(ctx, c.s.Bucket, key, "", 0, "")
	var got []byte
	if err == nil {
		got, err = io.ReadAll(io.LimitReader(o.Body, int64(len(body))+1)) // more is wrong too
		o.Body.Close()
	}
	if err == nil && !bytes.Equal(got, body) {
		err = fault.New(fault.Damaged, "digest-mismatch", "other bytes came back")
	}
	if rerr := removeTrace(ctx, cl, c.s.Bucket, key, put.Version); err == nil {
		err = rerr
	}
	if err != nil {
		c.wrong("there-and-back", "read the message; the object "+key+" may be left in the bucket", "%s", c.told(err))
		return false
	}
	c.good("there-and-back", "1 KiB put, read and removed in %d ms", time.Since(start).Milliseconds())
	return true
}

// removeTrace removes an object that a check wrote: its version where there are
// versions, so that not even a delete marker stays.
func removeTrace(ctx context.Context, cl *Client, bucket, key, version string) error {
	if version != "" {
		return cl.RemoveVersion(ctx, bucket, key, version)
	}
	return cl.Remove(ctx, bucket, key)
}
