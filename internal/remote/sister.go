package remote

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io"
	"maps"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/region"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

// Sister is another service of the house, asked at its desk with an operator's key there.
type Sister struct {
	name, desk string
	key        sign.Credential
	hc         *http.Client
}

// Bounds of what a sister is asked.
const (
	sisterFor  = 20 * time.Second // a call
	sisterMost = 8 << 20          // bytes of an answer

	sisterPages   = 100             // of a list
	sisterListFor = 2 * time.Minute // all of a list
)

// SisterAt reaches a service by its desk's address, with a key there.
func (p *Pool) SisterAt(name, desk string, key sign.Credential) *Sister {
	t := client.Transport()
	t.Proxy = nil // what is reached is decided here
	t.DialContext = p.Dial
	return &Sister{name: name, desk: desk, key: key, hc: &http.Client{Transport: t, Timeout: sisterFor,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
}

// Sister reaches a sister that is known.
func (p *Pool) Sister(r *region.Region) (*Sister, error) {
	secret, err := p.secrets.OpenSecret(catalog.RegionSecret(r.ID), r.Sealed)
	if err != nil {
		return nil, err
	}
	return p.SisterAt(r.Name, r.Desk, sign.Credential{ID: r.KeyID, Secret: secret}), nil
}

// Close lets go of its connections.
func (s *Sister) Close() { s.hc.CloseIdleConnections() }

// Ask makes a call of the desk there; path begins beneath /api/v1. The error of one that does
// not answer has the code region-away; what it refuses is told as it told it.
func (s *Sister) Ask(ctx context.Context, method, path string, query url.Values, in, out any) error {
	var body []byte
	if in != nil {
		var err error
		if body, err = json.Marshal(in); err != nil {
			return err
		}
	}
	u := s.desk + "/api/v1" + path
	if len(query) > 0 {
		u += "?" + strings.ReplaceAll(query.Encode(), "+", "%20")
	}
	r, err := http.NewRequestWithContext(ctx, method, u, bytes.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/json")
	sum := sha256.Sum256(body)
	sign.SignDesk(r, s.key, "desk", hex.EncodeToString(sum[:]), time.Now())
	resp, err := s.hc.Do(r)
	if err != nil {
		return s.away(fault.From(client.Unreachable(err)).Message, err)
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(io.LimitReader(resp.Body, sisterMost))
	if err != nil {
		return s.away("its answer broke off", err)
	}
	if resp.StatusCode >= 300 {
		return s.refused(resp.StatusCode, text)
	}
	if out == nil || len(text) == 0 {
		return nil
	}
	if err := json.Unmarshal(text, out); err != nil {
		return s.away("its answer is none of a desk", err)
	}
	return nil
}

func (s *Sister) away(says string, err error) error {
	f := fault.New(fault.Unavailable, "region-away", "the region %s is away: %s", s.name, says).In("region").
		Do("try again later; what is there is not touched by that")
	f.After = 10 * time.Second
	return f.Because(err)
}

// refused reads the problem that a desk tells.
func (s *Sister) refused(status int, text []byte) error {
	var p struct{ Detail, Code, Field, Remedy string }
	if json.Unmarshal(text, &p) != nil || p.Code == "" {
		return s.away("its answer is none of a desk", nil)
	}
	kind := fault.Invalid
	switch {
	case status == http.StatusUnauthorized:
		return s.away("it does not take our key: "+p.Detail, nil)
	case status == http.StatusForbidden:
		kind = fault.Refused
	case status == http.StatusNotFound:
		kind = fault.NotFound
	case status == http.StatusConflict:
		kind = fault.Conflict
	case status >= 500:
		return s.away(p.Detail, nil)
	}
	return fault.New(kind, p.Code, "the region %s refuses: %s", s.name, p.Detail).In(p.Field).Do("%s", p.Remedy)
}

// Itself is what a service tells of itself.
type Itself struct {
	Name    string `json:"name"`
	Service string `json:"service"`
	Wire    string `json:"wire"`
}

// Itself asks the service what it is.
func (s *Sister) Itself(ctx context.Context) (i Itself, err error) {
	err = s.Ask(ctx, http.MethodGet, "/region", nil, nil, &i)
	return i, err
}

// Hear asks a sister for all that is kept of it: what it told is nil unless it told all. The error of one that is another service than
// it was has the code region-other.
func (s *Sister) Hear(ctx context.Context, r *region.Region) (*catalog.RegionTold, error) {
	began := time.Now()
	i, err := s.Itself(ctx)
	if err != nil {
		return nil, err
	}
	told := &catalog.RegionTold{Wire: i.Wire, Latency: time.Since(began), Buckets: []region.Bucket{}, Admitted: []string{},
		Placements: []string{}}
	if i.Service != r.Service {
		return nil, fault.New(fault.Conflict, "region-other", "another service answers there than the one that was entered").
			In("region").Do("if that is meant, remove the region and add it anew")
	}
	if told.Wire, err = endpoint.ParseURL(i.Wire); err != nil {
		return nil, s.away("it tells an address of its wire that is none", err)
	}
	if err := s.each(ctx, "/region/buckets", nil, func(page *sisterPage) error {
		for _, b := range page.Buckets {
			if _, err := object.ParseBucketName(b.Name); err != nil || !plainName.MatchString(b.Account) || b.Objects < 0 ||
				b.Bytes < 0 {
				return s.away("it tells of a bucket as none can be", err)
			}
		}
		told.Buckets = append(told.Buckets, page.Buckets...)
		return nil
	}); err != nil {
		return nil, err
	}
	if err := s.each(ctx, "/placements", nil, func(page *sisterPage) error {
		for _, p := range page.Placements {
			if !plainName.MatchString(p.Name) {
				return s.away("it tells of a placement as none can be", nil)
			}
			told.Placements = append(told.Placements, p.Name)
		}
		return nil
	}); err != nil {
		return nil, err
	}
	if err := s.each(ctx, "/accounts", url.Values{"limit": {"1000"}}, func(page *sisterPage) error {
		for _, a := range page.Accounts {
			if !plainName.MatchString(a.Name) {
				return s.away("it tells of an account as none can be", nil)
			}
			if a.Admitted {
				told.Admitted = append(told.Admitted, a.Name)
			}
		}
		return nil
	}); err != nil {
		return nil, err
	}
	return told, nil
}

// plainName is what accounts are called.
var plainName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// sisterPage is a page of what a sister tells.
type sisterPage struct {
	Buckets  []region.Bucket
	Accounts []struct {
		Name     string
		Admitted bool
	}
	Placements []struct{ Name string }
	Next       string
}

// each asks for the pages of a list, as many as a house has, each of which goes on behind the one
// before.
func (s *Sister) each(ctx context.Context, path string, query url.Values, f func(*sisterPage) error) error {
	ctx, cancel := context.WithTimeout(ctx, sisterListFor)
	defer cancel()
	after := ""
	for range sisterPages {
		q := url.Values{"after": {after}}
		maps.Copy(q, query)
		var page sisterPage
		if err := s.Ask(ctx, http.MethodGet, path, q, nil, &page); err != nil {
			return err
		}
		if err := f(&page); err != nil {
			return err
		}
		if page.Next == "" {
			return nil
		}
		if page.Next <= after {
			return s.away("its list goes in a circle", nil)
		}
		after = page.Next
	}
	return s.away("its list does not end", nil)
}

// HearRegion asks a sister and keeps what it tells, or why it does not.
func (p *Pool) HearRegion(ctx context.Context, r *region.Region) error {
	s, err := p.Sister(r)
	if err != nil {
		return err
	}
	defer s.Close()
	told, err := s.Hear(ctx, r)
	says := ""
	if err != nil {
		says = fault.From(err).Message
	}
	if kerr := p.catalog.HearRegion(ctx, r.ID, told, says); kerr != nil {
		return kerr
	}
	return err
}
