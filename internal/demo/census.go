package demo

import (
	"context"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/census"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/syncing"
	"spindle/internal/store"
)

// Census has lists written: of the plates each week, and of what is large when somebody
// wants to know.
func Census(ctx context.Context, to *store.Store) error {
	by := catalog.Author{At: to.Catalog.Now(), Who: OwnerKey, Source: "10.4.0.11"}
	b := catalog.Bucket{Name: object.MustBucketName("reports"), Account: Account, Settings: bucket.Settings{}}
	if err := to.CreateBucket(ctx, b, by); err != nil && !fault.HasCode(err, "bucket-exists") {
		return err
	}
	week := time.Date(by.At.Year(), by.At.Month(), by.At.Day(), 5, 0, 0, 0, time.UTC).AddDate(0, 0, 7-int(by.At.Weekday()))
	for _, x := range []*census.Census{
		{Name: "plates-weekly", From: syncing.Place{Bucket: "plates"}, Next: &week, Spec: census.Spec{Columns: census.Usual,
			Format: census.CSV, Schedule: "0 5 * * 0", Note: "what the committee reads"}},
		{Name: "large", Spec: census.Spec{Columns: []string{"bucket", "key", "version", "state", "size", "changed", "tier", "field taxon"},
			Format: census.Parquet, Where: "size over 300 KiB", Versions: true}},
	} {
		x.Account, x.On, x.To = Account, true, syncing.Place{Bucket: "reports"}
		if err := x.Check(by.At); err != nil {
			return err
		}
		if err := to.Catalog.AddCensus(ctx, x, by); err != nil && !fault.HasCode(err, "census-exists") {
			return err
		}
	}
	return nil
}
