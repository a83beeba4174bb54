package demo

import (
	"context"
	"strconv"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/census"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/syncing"
	"spindle/internal/store"
)

// Census says what is asked of the metadata of plates, and has lists written: of the plates each week, and of what is large when somebody
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
		{Name: "large", Spec: census.Spec{Columns: []string{"bucket", "key", "version", "state", "size", "changed", "tier",
			"field taxon"},
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
	plates := object.MustBucketName("plates")
	facts, err := to.Facts(ctx, plates)
	if err != nil {
		return err
	}
	if len(facts.Required) > 0 {
		return nil // somebody has changed it since
	}
	if err := to.ChangeBucket(ctx, plates, 0, by, bucket.Require(bucket.Requirements{
		{Field: "taxon", Kind: bucket.AnyText}, {Field: "elevation-m", Kind: bucket.Numeral, Optional: true},
		{Field: "licence", Kind: bucket.AnyText, OneOf: []string{"CC0 1.0", "CC BY 4.0", "CC BY-SA 4.0"}, Optional: true},
		{Field: "collected-on", Kind: bucket.Day, Prefix: strconv.Itoa(by.At.Year()) + "/"}})); err != nil {
		return err
	}
	return nil
}
