package desk

import (
	"context"
	"sort"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/desk/middle"
)

// growth makes a running sum of what days added, ending at what is there now.
func growth(days []catalog.Day, total api.UsageInfo, since time.Time) []api.UsagePoint {
	sums := map[string]*api.UsagePoint{}
	var order []string
	var sum api.UsagePoint
	for _, day := range days {
		sum.Objects, sum.Current, sum.Previous = sum.Objects+day.Objects, sum.Current+day.Bytes,
			sum.Previous+day.PreviousBytes
		sum.Day = day.Day.Format(time.DateOnly)
		if sums[sum.Day] == nil {
			sums[sum.Day] = &api.UsagePoint{}
			order = append(order, sum.Day)
		}
		*sums[sum.Day] = sum
	}
	out := []api.UsagePoint{}
	from := since.Format(time.DateOnly)
	var before *api.UsagePoint
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
	return append(out, api.UsagePoint{Day: today, Objects: total.Objects, Current: total.Bytes,
		Previous: total.PreviousBytes})
}

func changed(days []catalog.Day, since time.Time) []api.ChangedBucket {
	at := map[string]int{}
	out := []api.ChangedBucket{}
	for _, day := range days {
		if day.Day.Format(time.DateOnly) < since.Format(time.DateOnly) {
			continue
		}
		i, ok := at[day.Bucket]
		if !ok {
			i = len(out)
			at[day.Bucket] = i
			out = append(out, api.ChangedBucket{Bucket: day.Bucket})
		}
		out[i].Written += day.Written
		out[i].Removed += day.Removed
		out[i].Bytes += day.Bytes + day.PreviousBytes
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Bucket < out[j].Bucket })
	return out
}

func (d *Desk) bucketUsage(ctx context.Context, in *middle.BucketPath) (*struct {
	Body struct {
		Points []api.UsagePoint `json:"points"`
	}
}, error) {
	out := &struct {
		Body struct {
			Points []api.UsagePoint `json:"points"`
		}
	}{}
	b, err := d.objects.Bucket(ctx, in.Bucket)
	if err != nil {
		return nil, err
	}
	since := time.Now().AddDate(-1, 0, 0)
	days, derr := d.Store.Catalog.Days(ctx, since, "", in.Bucket)
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
