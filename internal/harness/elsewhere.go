package harness

import (
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/replication"
	"spindle/internal/standin"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

// The key that services under test have at stand-ins.
const (
	StandinKey    = "STANDINKEY"
	StandinSecret = "a-secret-for-stand-ins"
)

// Standin starts a stand-in with some buckets that keep versions, and gives a client of
// it. Its faults begin after that.
func Standin(t testing.TB, faults standin.Faults, buckets ...string) (*standin.Standin, *client.Client) {
	t.Helper()
	Secretly("the secret at a stand-in", StandinSecret)
	s, err := standin.Start(standin.Settings{Keys: map[string]string{StandinKey: StandinSecret}, Seed: 5})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Stop() })
	c, err := client.New(s.URL, "fenn", sign.Credential{ID: StandinKey, Secret: StandinSecret})
	if err != nil {
		t.Fatal(err)
	}
	for _, b := range buckets {
		if err := c.CreateBucket(t.Context(), b); err != nil {
			t.Fatal(err)
		}
		if err := c.SetVersioning(t.Context(), b, true); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Set(faults); err != nil {
		t.Fatal(err)
	}
	return s, c
}

// Endpoint registers an address as an endpoint of an account, with a key there.
func (r *Running) Endpoint(account, name, url string, key sign.Credential) *endpoint.Endpoint {
	r.t.Helper()
	e := &endpoint.Endpoint{Account: account, Name: name, URL: url, Region: "fenn", Style: endpoint.Path, KeyID: key.ID}
	by := catalog.Author{At: time.Now(), Who: Key}
	if err := r.Store.Catalog.AddEndpoint(Context(r.t), e, by, func(name string) ([]byte, error) {
		return r.Keys.SealSecret(name, key.Secret)
	}); err != nil {
		r.t.Fatal(err)
	}
	r.Store.Catalog.LookAgain()
	return e
}

// StandinEndpoint registers a stand-in as an endpoint of the account herbarium.
func (r *Running) StandinEndpoint(name string, s *standin.Standin) *endpoint.Endpoint {
	r.t.Helper()
	return r.Endpoint("herbarium", name, s.URL, sign.Credential{ID: StandinKey, Secret: StandinSecret})
}

// Replicate adds a replication rule of the account herbarium, saved by the key that By
// names, or the owner's.
func (r *Running) Replicate(rule *replication.Rule) *replication.Rule {
	r.t.Helper()
	rule.Account, rule.On = "herbarium", true
	rule.Priority = max(1, rule.Priority)
	if err := rule.Check(); err != nil {
		r.t.Fatal(err)
	}
	by := catalog.Author{At: time.Now(), Who: Key, Source: "127.0.0.1"}
	if rule.By != "" {
		by.Who = rule.By
	}
	if err := r.Store.Catalog.AddReplication(Context(r.t), rule, by); err != nil {
		r.t.Fatal(err)
	}
	r.Store.Catalog.LookAgain()
	return rule
}
