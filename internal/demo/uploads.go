package demo

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/object"
	"spindle/internal/store"
)

// unfinished leaves multipart uploads behind that nobody completed, most of them
// in the attic, as such things go.
func unfinished(ctx context.Context, s *store.Store, now time.Time) error {
	if have, err := s.Catalog.UnfinishedIn(ctx, 0, ""); err != nil || have.Uploads > 0 {
		return err // they are there already
	}
	r := rand.New(rand.NewPCG(11, 4217))
	for i, u := range []struct {
		bucket, key, who string
		ago              time.Duration
		parts            int
	}{
		{"attic", "unsorted/film-roll-03.mov", "press-room", 412 * 24 * time.Hour, 4},
		{"attic", "unsorted/film-roll-03.mov", "press-room", 411 * 24 * time.Hour, 2},
		{"attic", "old-scans/box-04/mosaic.tif", "scanner-2", 203 * 24 * time.Hour, 6},
		{"attic", "old-scans/box-11/mosaic.tif", "scanner-2", 96 * 24 * time.Hour, 1},
		{"attic", "cards/catalogue.pdf", "press-room", 41 * 24 * time.Hour, 0},
		{"field-notes", fmt.Sprintf("%d/panorama-crake-moor.tif", now.Year()), "field-kit", 6 * 24 * time.Hour, 3},
		{"plates", fmt.Sprintf("%d/moorland/FH-005001-mosaic.tif", now.Year()), "scanner-2", 50 * time.Minute, 5},
	} {
		at := now.Add(-u.ago)
		a := catalog.Address{Bucket: object.MustBucketName(u.bucket), Key: object.MustKey(u.key)}
		up, err := s.StartUpload(ctx, a, catalog.Upload{Headers: object.Headers{ContentType: contentType(u.key)}},
			catalog.Author{At: at, Who: u.who, Source: source(u.who)})
		if err != nil {
			return err
		}
		for n := range u.parts {
			b := noise(uint64(i*100+n), 300_000+r.IntN(900_000))
			if _, err := s.PutPart(ctx, store.PutPart{Address: a,
				Author: catalog.Author{At: at.Add(time.Duration(n+1) * 3 * time.Minute), Who: u.who, Source: source(u.who)},
				Upload: up.ID, Number: n + 1,
				Body: bytes.NewReader(b), Size: int64(len(b))}); err != nil {
				return err
			}
		}
	}
	return nil
}
