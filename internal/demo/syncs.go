package demo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/sealing"
	"spindle/internal/core/syncing"
	"spindle/internal/standin/hold"
	"spindle/internal/store"
)

// Drop makes the folder from which scans are drained, with some in it, unless it is there.
func Drop(dir string) error {
	if _, err := os.Stat(dir); err == nil || !errors.Is(err, os.ErrNotExist) {
		return err
	}
	at := time.Now().Add(-2 * time.Hour)
	for i := range 18 {
		path := filepath.Join(dir, "trip", fmt.Sprintf("notes-%02d.txt", i+1))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, notes(uint64(9000+i), places[i%len(places)], collectors[i%len(collectors)]),
			0o644); err != nil {
			return err
		}
		if err := os.Chtimes(path, at, at); err != nil {
			return err
		}
	}
	return nil
}

// SealedWith is the passphrase of the sample data's sealed copy.
const SealedWith = "linen thread on a wooden reel"

// Sync adds the sample data's sync jobs, unless they are there: a mirror each night, a sealed
// copy each week, and a drain of the drop folder by hand.
func (s Standins) Sync(ctx context.Context, to *store.Store, secrets Secrets, drop string) error {
	if len(s) == 0 {
		return nil
	}
	by := catalog.Author{At: to.Catalog.Now(), Who: OwnerKey, Source: "10.4.0.11"}
	harbour, mill := s[1], s[2]
	if err := mill.Hold.Make("attic", by.At); err != nil && !errors.Is(err, hold.ErrBucket) {
		return err
	}
	if err := harbour.Hold.Make("sealed", by.At); err != nil && !errors.Is(err, hold.ErrBucket) {
		return err
	}
	if _, err := to.Catalog.Sync(ctx, Account, "loans-sealed"); err == nil {
		return nil // they are there
	}
	mark, keys, err := sealing.New(SealedWith, true)
	if err != nil {
		return err
	}
	secret, err := secrets.SealSecret(catalog.SyncSecret(mark.Recipient), string(keys.Master()))
	if err != nil {
		return err
	}
	night := time.Date(by.At.Year(), by.At.Month(), by.At.Day(), 2, 30, 0, 0, time.UTC).AddDate(0, 0, 1)
	week := time.Date(by.At.Year(), by.At.Month(), by.At.Day(), 4, 0, 0, 0, time.UTC).AddDate(0, 0, 7-int(by.At.Weekday()))
	usual := func(mode syncing.Mode, note string) syncing.Spec {
		return syncing.Spec{Mode: mode, By: syncing.ByTime, Links: "skip", Parallel: 8, Guard: syncing.Usual, Note: note}
	}
	for _, j := range []*syncing.Job{
		{Name: "nightly-attic", From: syncing.Place{Bucket: "attic"}, To: syncing.Place{Endpoint: "old-mill",
			Bucket: "attic"},
			Spec: usual(syncing.Mirror, "what nobody looks at, kept twice"), Next: &night},
		{Name: "trip-notes", From: syncing.Place{Folder: drop}, To: syncing.Place{Bucket: "field-notes", Prefix: "in/"},
			Spec: usual(syncing.Drain, "what comes back from collecting trips")},
		{Name: "loans-sealed", From: syncing.Place{Bucket: "loans"},
			To: syncing.Place{Endpoint: "harbour-mirror", Bucket: "sealed", Prefix: "loans/"}, Secret: secret,
			Spec: usual(syncing.Mirror, "who borrows what is nobody's business there"), Next: &week},
	} {
		j.Account, j.On = Account, true
		switch j.Name {
		case "nightly-attic":
			j.Schedule = "30 2 * * *"
		case "loans-sealed":
			j.Schedule, j.Seals = "0 4 * * 0", mark
			j.Limits = []syncing.Limit{{From: 8 * 60, To: 18 * 60, Rate: 128 << 10}, {Rate: 1 << 20}}
		}
		if err := j.Check(); err != nil {
			return err
		}
		if err := to.Catalog.AddSync(ctx, j, by); err != nil && !fault.HasCode(err, "sync-exists") {
			return err
		}
	}
	return nil
}
