package posting

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"strings"
	"time"

	"spindle/internal/core/fault"
)

// Post has changes posted to an address.
type Post struct {
	ID       int64
	Account  string
	Name     string
	URL      string
	On       bool
	Bucket   string // only of this one; "": all of the account
	Prefix   string // of keys
	Kinds    []string
	Secret   []byte // by which it is signed, sealed
	Revision int
	Created  time.Time
	Who      string

	Since   string     // what had been committed when it was made, as the catalog has it
	Place   string     // in the journal: what stands after it was not posted yet
	Behind  int64      // entries of the account after it, up to a bound
	Failed  int        // times in a row
	Problem string     // of the last time
	Posted  *time.Time // when something arrived last
	Sent    int64      // events that arrived
}

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,61}[a-z0-9]$`)

// MaxBatch is how many events are posted at once.
const MaxBatch = 100

// Check refuses a post that cannot be, with all that is wrong.
func (p *Post) Check() error {
	var all []error
	bad := func(field, code, remedy, says string, args ...any) {
		all = append(all, fault.New(fault.Invalid, code, says, args...).In(field).Do("%s", remedy))
	}
	if !nameForm.MatchString(p.Name) {
		bad("name", "post-name", "take 2 to 63 lower-case letters, digits and hyphens", "%q is no name", p.Name)
	}
	u, err := url.Parse(p.URL)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil || u.Fragment != "" {
		bad("url", "post-url", "give it as https://host/path, without a name or password in it",
			"%q is no address to post to", p.URL)
	}
	return errors.Join(all...)
}

// Event is a change as CloudEvents 1.0 has it.
type Event struct {
	SpecVersion string         `json:"specversion"`
	ID          string         `json:"id"`     // its place in the journal: the same when it comes again
	Source      string         `json:"source"` // /ACCOUNT/BUCKET
	Type        string         `json:"type"`   // spindle. and the kind of the entry, such as spindle.written
	Subject     string         `json:"subject,omitempty"`
	Time        time.Time      `json:"time"`
	ContentType string         `json:"datacontenttype"`
	Data        map[string]any `json:"data"`
}

// ContentType is of a batch (CloudEvents HTTP protocol binding, section 3.3).
const ContentType = "application/cloudevents-batch+json"

// TypeOf gives the type of an event by the kind of its entry.
func TypeOf(kind string) string { return "spindle." + strings.ReplaceAll(kind, " ", "-") }

// Sign gives the headers of digest and signature for a body that is posted to an address:
// HMAC with SHA-256 over method, address, type and digest (RFC 9421, sections 2.5 and
// 3.3.3).
func Sign(target string, body []byte, name, secret string, now time.Time) map[string]string {
	sum := sha256.Sum256(body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	params := fmt.Sprintf(`("@method" "@target-uri" "content-type" "content-digest");created=%d;keyid=%q;alg="hmac-sha256"`, now.Unix(), name)
	mac := hmac.New(sha256.New, []byte(secret))
	fmt.Fprintf(mac, "\"@method\": POST\n\"@target-uri\": %s\n\"content-type\": %s\n\"content-digest\": %s\n\"@signature-params\": %s", target,
		ContentType, digest, params)
	return map[string]string{"Content-Type": ContentType, "Content-Digest": digest, "Signature-Input": "spindle=" + params,
		"Signature": "spindle=:" + base64.StdEncoding.EncodeToString(mac.Sum(nil)) + ":"}
}
