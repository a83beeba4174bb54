package demo

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/replication"
	"spindle/internal/core/tier"
	"spindle/internal/standin"
	"spindle/internal/standin/hold"
	"spindle/internal/store"
)

// StandinKey and StandinSecret are the key that the herbarium has at the stand-ins.
const (
	StandinKey    = "FENNMOOR"
	StandinSecret = "moss-between-the-sheets"
)

// elsewhere are the endpoints of the sample data.
var elsewhere = []struct {
	name, region, note, listen string
	bandwidth                  int64
	faults                     standin.Faults
}{
	{"lowland-annex", "lowland", "the annex in the lowlands", "127.0.0.1:5721", 0, standin.Faults{Latency: 4}},
	{"harbour-mirror", "coast", "a thin line to the coast", "127.0.0.1:5722", 0,
		standin.Faults{Latency: 620, Bandwidth: 400_000, MaxKey: 200}},
	{"old-mill", "fenn", "fails now and then", "127.0.0.1:5723", 2 << 20,
		standin.Faults{Latency: 30, Errors: 0.04, Burst: 3, OutageEvery: 900, OutageFor: 120,
			Lacks: []string{"lifecycle", "classes", "copy"}}},
}

// Standins are the running stand-ins of the sample data.
type Standins []*standin.Standin

// StartStandins starts the stand-ins, which keep their objects beneath a directory.
// Where the usual port is taken another one is chosen.
func StartStandins(dir string) (Standins, error) {
	var out Standins
	for i, e := range elsewhere {
		s := standin.Settings{Listen: e.listen, Dir: filepath.Join(dir, e.name), Region: e.region,
			Keys: map[string]string{StandinKey: StandinSecret}, Seed: uint64(11 + i), Faults: e.faults}
		is, err := standin.Start(s)
		if errors.Is(err, syscall.EADDRINUSE) {
			s.Listen = ""
			is, err = standin.Start(s)
		}
		if err != nil {
			out.Stop()
			return nil, err
		}
		out = append(out, is)
	}
	return out, nil
}

// Stop ends them.
func (s Standins) Stop() {
	for _, is := range s {
		_ = is.Stop() // it is the end of the sample data
	}
}

// String lists them for a person.
func (s Standins) String() string {
	var b strings.Builder
	for i, is := range s {
		fmt.Fprintf(&b, "  endpoint %-14s %-24s %s\n", elsewhere[i].name, is.URL, elsewhere[i].note)
	}
	return b.String()
}

// Register has the herbarium's endpoints lead to the stand-ins, wherever they listen
// this time.
func (s Standins) Register(ctx context.Context, to *store.Store, secrets Secrets) error {
	by := catalog.Author{At: to.Catalog.Now(), Who: OwnerKey, Source: "10.4.0.11"}
	for i, is := range s {
		x := elsewhere[i]
		e, err := to.Catalog.Endpoint(ctx, Account, x.name)
		switch {
		case fault.HasCode(err, "endpoint-missing"):
			e = &endpoint.Endpoint{Account: Account, Name: x.name, URL: is.URL, Region: x.region, Style: endpoint.Path,
				KeyID: StandinKey, Note: x.note, Bandwidth: x.bandwidth}
			err = to.Catalog.AddEndpoint(ctx, e, by, func(name string) ([]byte, error) {
				return secrets.SealSecret(name, StandinSecret)
			})
			if err == nil {
				err = replicated(ctx, to, e, is, by)
			}
			if err == nil && x.name == "lowland-annex" {
				err = distant(ctx, to, e, is, by)
			}
		case err == nil && e.URL != is.URL:
			e.URL = is.URL
			err = to.Catalog.ChangeEndpoint(ctx, e, by)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// copies are the replication rules of the sample data, by their endpoints.
var copies = map[string][]replication.Rule{
	"lowland-annex": {
		{Name: "plates-to-annex", Bucket: "plates", Markers: true, Lag: replication.Lag{Share: .99, Within: time.Minute}},
		{Name: "loans-to-annex", Bucket: "loans", Markers: true, Removals: true}},
	"harbour-mirror": {{Name: "plates-to-harbour", Bucket: "plates", Prefix: "2026/"}},
	"old-mill": {{Name: "notes-to-mill", Bucket: "field-notes", Markers: true,
		Lag: replication.Lag{Share: .99, Within: 5 * time.Minute}}},
}

// replicated adds the rules that copy to an endpoint, with the buckets there, and has
// what is there already copied too.
func replicated(ctx context.Context, to *store.Store, e *endpoint.Endpoint, is *standin.Standin,
	by catalog.Author) error {
	for i, r := range copies[e.Name] {
		r.Account, r.On, r.Priority = Account, true, i+1
		r.Targets = []replication.Target{{EndpointID: e.ID, Endpoint: e.Name, Bucket: r.Bucket}}
		if err := is.Hold.Make(r.Bucket, by.At); err != nil && !errors.Is(err, hold.ErrBucket) {
			return err
		}
		if err := is.Hold.Set(r.Bucket, func(b *hold.Bucket) { b.Versioning = hold.On }); err != nil {
			return err
		}
		if err := r.Check(); err != nil {
			return err
		}
		if err := to.Catalog.AddReplication(ctx, &r, by); err != nil {
			return err
		}
		if err := to.Catalog.StartBackfill(ctx, r.Targets[0].ID); err != nil {
			return err
		}
	}
	to.Catalog.LookAgain()
	return nil
}

// distant adds a tier at an endpoint, and a bucket whose bytes are there: sheets for
// exchange with other houses.
func distant(ctx context.Context, to *store.Store, e *endpoint.Endpoint, is *standin.Standin, by catalog.Author) error {
	const bodies = "spindle-bodies"
	if err := is.Hold.Make(bodies, by.At); err != nil && !errors.Is(err, hold.ErrBucket) {
		return err
	}
	t := &tier.Tier{Name: "annex", Note: "at the annex in the lowlands", Copies: 1, Sealed: true, Price: 4_000,
		Requests: 500_000,
		Volumes:  []tier.Volume{{Place: &tier.Place{Endpoint: e.ID, Name: e.Name, Bucket: bodies}}}}
	if err := to.AddTier(ctx, t, by); err != nil && !fault.HasCode(err, "tier-exists") {
		return err
	}
	exchange := object.MustBucketName("exchange")
	b := catalog.Bucket{Name: exchange, Account: Account, Settings: bucket.Settings{Versioning: object.On, Tier: t.Name}}
	if err := to.CreateBucket(ctx, b, by); err != nil && !fault.HasCode(err, "bucket-exists") {
		return err
	}
	plates := object.MustBucketName("plates")
	page, _, err := to.List(ctx, plates, catalog.Listing{Prefix: strconv.Itoa(by.At.Year()) + "/fen/", Max: 24})
	for _, x := range page {
		if err == nil {
			_, err = to.Copy(ctx, store.Copy{From: catalog.Address{Bucket: plates, Key: x.Version.Key},
				To: catalog.Address{Bucket: exchange, Key: x.Version.Key}, FromID: object.Current, Author: by, Tier: t.Name})
		}
	}
	return err
}

// Secrets seals what the herbarium keeps of other places.
type Secrets interface {
	SealSecret(name, secret string) ([]byte, error)
}
