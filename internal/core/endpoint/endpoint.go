package endpoint

import (
	"errors"
	"net/url"
	"regexp"
	"strings"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// Style is where an endpoint's addresses have the bucket.
type Style string

// The styles.
const (
	Path Style = "path" // HOST/bucket/key
	Host Style = "host" // bucket.HOST/key
)

// ParseStyle reads a style. The error has the code style.
func ParseStyle(s string) (Style, error) {
	if s == string(Path) || s == string(Host) {
		return Style(s), nil
	}
	return "", fault.New(fault.Invalid, "style", "%q is no style of addresses", s).In("style").
		Do("say path or host, or leave it out to have it found")
}

// Ability is something that an endpoint may do beside keeping objects.
type Ability string

// The abilities that are looked for.
const (
	Versioning Ability = "versioning"
	Multipart  Ability = "multipart"
	Conditions Ability = "conditional writes"
	Tags       Ability = "tags"
	Checksums  Ability = "checksums" // it tells a CRC-64 of the content
	Classes    Ability = "storage classes"
	Lifecycle  Ability = "lifecycle documents"
	Copies     Ability = "copies" // made by itself, from one key to another
)

// AllAbilities lists the abilities in the order in which they are shown.
var AllAbilities = []Ability{Versioning, Multipart, Conditions, Tags, Checksums, Copies, Classes, Lifecycle}

// Abilities tell of each ability whether it is there; one that is missing was not
// looked at.
type Abilities map[Ability]bool

// Can reports whether an ability is there, or at least not known to be missing.
func (a Abilities) Can(what Ability) bool {
	there, known := a[what]
	return there || !known
}

// State is how an endpoint stands.
type State string

// The states.
const (
	Unknown     State = "not checked"
	Healthy     State = "healthy"
	Slow        State = "slow"        // it answers, and takes long for it
	Failing     State = "failing"     // it is there, and answers with errors of its own
	Unreachable State = "unreachable" // nothing answers, or not in the dialect
	Refusing    State = "refusing"    // it answers, and not to our key, region or clock
)

// SlowAfter is how long a plain request takes at an endpoint that is called slow.
const SlowAfter = 500 * time.Millisecond

// Bad reports whether nothing can be done at an endpoint in this state.
func (s State) Bad() bool { return s == Unreachable || s == Refusing || s == Failing }

// Health is how an endpoint stood at its last check.
type Health struct {
	State     State
	Since     time.Time     // of the state
	Checked   time.Time     // zero: never
	Latency   time.Duration // of a plain request
	Field     string        // that is at fault, when the state is bad
	Says      string        // what is wrong
	Remedy    string
	Abilities Abilities
}

// Endpoint is another store.
type Endpoint struct {
	ID        int64
	Account   string // that it belongs to
	Name      string
	URL       string // scheme and host
	Region    string
	Style     Style
	KeyID     string
	Sealed    []byte // the key's secret, under the master key
	Note      string
	Bandwidth int64  // bytes a second that are sent and read at the most; 0: as much as goes
	Probe     string // the bucket that checks look at; "": one that the key sees
	Revision  int
	Created   time.Time
	By        string
	Health    Health
}

// Bounds of an endpoint.
const (
	MaxBandwidth = 1 << 40 // bytes a second
	MinBandwidth = 1 << 10
	MaxNote      = 500
)

var namePattern = regexp.MustCompile(`^[a-z][a-z0-9-]{0,61}[a-z0-9]$`)

// ParseName checks an endpoint's name: 2 to 63 lower-case letters, digits and hyphens,
// a letter first. The error has the code endpoint-name.
func ParseName(s string) (string, error) {
	if !namePattern.MatchString(s) {
		return "", fault.New(fault.Invalid, "endpoint-name", "%q is no name for an endpoint", s).In("name").
			Do("take 2 to 63 lower-case letters, digits and hyphens, a letter first")
	}
	return s, nil
}

// ParseURL reads an endpoint's address. The error has the code endpoint-url.
func ParseURL(s string) (string, error) {
	u, err := url.Parse(strings.TrimSpace(s))
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.Path != "" && u.Path != "/" ||
		u.User != nil || u.RawQuery != "" || u.Fragment != "" {
		return "", fault.New(fault.Invalid, "endpoint-url", "%q is no address of an endpoint", s).In("url").
			Do("give scheme and host alone, as https://HOST or http://HOST:PORT")
	}
	return u.Scheme + "://" + strings.ToLower(u.Host), nil
}

var regionPattern = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,63}$`)

// Check refuses an endpoint that cannot be, all that is wrong at once.
func (e *Endpoint) Check() error {
	var all []error
	bad := func(field, code, says, remedy string, args ...any) {
		all = append(all, fault.New(fault.Invalid, code, says, args...).In(field).Do("%s", remedy))
	}
	if _, err := ParseName(e.Name); err != nil {
		all = append(all, err)
	}
	if _, err := ParseURL(e.URL); err != nil {
		all = append(all, err)
	}
	if e.Region != "" && !regionPattern.MatchString(e.Region) {
		bad("region", "endpoint-region", "%q is no region", "leave it out to have it found", e.Region)
	}
	if e.Style != "" {
		if _, err := ParseStyle(string(e.Style)); err != nil {
			all = append(all, err)
		}
	}
	if e.KeyID == "" || len(e.KeyID) > 128 || strings.ContainsAny(e.KeyID, "/, \t\r\n") {
		bad("key", "endpoint-key", "%q is no access key's id", "give the id of the key that you have there", e.KeyID)
	}
	if e.Bandwidth != 0 && (e.Bandwidth < MinBandwidth || e.Bandwidth > MaxBandwidth) {
		bad("bandwidth", "endpoint-bandwidth", "a bandwidth is 1 KiB to 1 TiB a second, not %d bytes",
			"give bytes a second, or 0 for no limit", e.Bandwidth)
	}
	if len(e.Note) > MaxNote {
		bad("note", "endpoint-note", "a note has up to %d bytes", "say it shorter", MaxNote)
	}
	if e.Probe != "" {
		if _, err := object.ParseBucketName(e.Probe); err != nil {
			all = append(all, fault.From(err).In("bucket"))
		}
	}
	return errors.Join(all...)
}

// Address is where something lies: a bucket here or at an endpoint, and a key or prefix
// in it.
type Address struct {
	Endpoint string // "": here
	Bucket   string
	Key      string
}

// ParseAddress reads BUCKET/KEY or @ENDPOINT/BUCKET/KEY; the key, or bucket and key, may
// be missing. Errors have the codes address, endpoint-name and bucket-name.
func ParseAddress(s string) (Address, error) {
	var a Address
	rest := s
	if at, ok := strings.CutPrefix(s, "@"); ok {
		a.Endpoint, rest, _ = strings.Cut(at, "/")
		if _, err := ParseName(a.Endpoint); err != nil {
			return a, err
		}
		if rest == "" {
			return a, nil
		}
	}
	a.Bucket, a.Key, _ = strings.Cut(rest, "/")
	if a.Bucket == "" {
		return a, fault.New(fault.Invalid, "address", "%q names no bucket", s).In("address").
			Do("give BUCKET/KEY, or @ENDPOINT/BUCKET/KEY")
	}
	_, err := object.ParseBucketName(a.Bucket)
	return a, err
}

// String writes an address as it is read.
func (a Address) String() string {
	s := a.Bucket
	if a.Key != "" {
		s += "/" + a.Key
	}
	switch {
	case a.Endpoint == "":
		return s
	case s == "":
		return "@" + a.Endpoint
	}
	return "@" + a.Endpoint + "/" + s
}
