package desk

import (
	"context"
	"sort"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// UsageInfo is what a bucket, or a part of one, holds.
type UsageInfo struct {
	Objects       int64 `json:"objects"`
	Bytes         int64 `json:"bytes"`
	Previous      int64 `json:"previous"`
	PreviousBytes int64 `json:"previousBytes"`
	Markers       int64 `json:"markers" doc:"Delete markers"`
}

// PrefixInfo is usage beneath a prefix.
type PrefixInfo struct {
	Prefix string `json:"prefix"`
	UsageInfo
}

func (d *Desk) prefixes(ctx context.Context, bucket, prefix string, limit int) ([]PrefixInfo, error) {
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		return nil, err
	}
	if err := object.CheckText("prefix", prefix); err != nil {
		return nil, err
	}
	if prefix != "" && prefix[len(prefix)-1] != '/' {
		return nil, fault.New(fault.Invalid, "prefix-slash", "usage is counted by prefixes that end with a slash").
			In("prefix").Do("end it with a slash")
	}
	f, err := d.store.Bucket(ctx, name)
	if err != nil {
		return nil, err
	}
	list, err := d.store.Catalog.UsageBeneath(ctx, f.ID, prefix, limit)
	out := make([]PrefixInfo, len(list))
	for i, u := range list {
		out[i] = PrefixInfo{string(u.Prefix), UsageInfo(u.Usage)}
	}
	return out, err
}

func (d *Desk) prefixUsage(ctx context.Context, in *struct {
	BucketPath
	Prefix string `query:"prefix" maxLength:"1024" doc:"Empty, or ending with a slash"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"20"`
}) (*struct {
	Body struct {
		Prefixes []PrefixInfo `json:"prefixes"`
	}
}, error) {
	list, err := d.prefixes(ctx, in.Bucket, in.Prefix, in.Limit)
	if err != nil {
		return nil, err
	}
	out := &struct {
		Body struct {
			Prefixes []PrefixInfo `json:"prefixes"`
		}
	}{}
	out.Body.Prefixes = list
	return out, nil
}

// ChangedBucket says what happened in a bucket in a span of days.
type ChangedBucket struct {
	Bucket  string `json:"bucket"`
	Written int64  `json:"written"`
	Removed int64  `json:"removed"`
	Bytes   int64  `json:"bytes" doc:"Added, less what went"`
}

// UsagePoint is usage at the end of a day (UTC).
type UsagePoint struct {
	Day      string `json:"day" doc:"YYYY-MM-DD"`
	Objects  int64  `json:"objects"`
	Current  int64  `json:"current" doc:"Bytes of current versions"`
	Previous int64  `json:"previous" doc:"Bytes of previous versions"`
}

// growth makes a running sum of what days added, ending at what is there now.
func growth(days []catalog.Day, total UsageInfo, since time.Time) []UsagePoint {
	sums := map[string]*UsagePoint{}
	var order []string
	var sum UsagePoint
	for _, day := range days {
		sum.Objects, sum.Current, sum.Previous = sum.Objects+day.Objects, sum.Current+day.Bytes,
			sum.Previous+day.PreviousBytes
		sum.Day = day.Day.Format(time.DateOnly)
		if sums[sum.Day] == nil {
			sums[sum.Day] = &UsagePoint{}
			order = append(order, sum.Day)
		}
		*sums[sum.Day] = sum
	}
	out := []UsagePoint{}
	from := since.Format(time.DateOnly)
	var before *UsagePoint
	start := func() {
		if before != nil {
			before.Day = from
			out = append(out, *before)
			before = nil
		}
	}
	for _, name := range order {
		if name < from {
			before = sums[name]
			continue
		}
		start()
		out = append(out, *sums[name])
	}
	start()
	// Today's figure is the exact one; the roll-up may be a second behind.
	today := time.Now().UTC().Format(time.DateOnly)
	if n := len(out); n > 0 && out[n-1].Day == today {
		out = out[:n-1]
	}
	return append(out, UsagePoint{Day: today, Objects: total.Objects, Current: total.Bytes, Previous: total.PreviousBytes})
}

func changed(days []catalog.Day, since time.Time) []ChangedBucket {
	at := map[string]int{}
	out := []ChangedBucket{}
	for _, day := range days {
		if day.Day.Format(time.DateOnly) < since.Format(time.DateOnly) {
			continue
		}
		i, ok := at[day.Bucket]
		if !ok {
			i = len(out)
			at[day.Bucket] = i
			out = append(out, ChangedBucket{Bucket: day.Bucket})
		}
		out[i].Written += day.Written
		out[i].Removed += day.Removed
		out[i].Bytes += day.Bytes + day.PreviousBytes
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Bucket < out[j].Bucket })
	return out
}

func (d *Desk) bucketUsage(ctx context.Context, in *BucketPath) (*struct {
	Body struct {
		Points []UsagePoint `json:"points"`
	}
}, error) {
	out := &struct {
		Body struct {
			Points []UsagePoint `json:"points"`
		}
	}{}
	b, err := d.bucket(ctx, in.Bucket)
	if err != nil {
		return nil, err
	}
	since := time.Now().AddDate(-1, 0, 0)
	days, derr := d.store.Catalog.Days(ctx, since, "", in.Bucket)
	if derr != nil {
		return nil, derr
	}
	out.Body.Points = growth(days, b.Body.Usage, since)
	return out, nil
}

// sortDays puts days of several buckets in the order of days.
func sortDays(days []catalog.Day) {
	sort.SliceStable(days, func(i, j int) bool { return days[i].Day.Before(days[j].Day) })
}
