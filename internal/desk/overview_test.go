package desk

import (
	"testing"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
)

func day(ago int, bucket string, objects, bytes int64) catalog.Day {
	return catalog.Day{Day: time.Now().UTC().AddDate(0, 0, -ago).Truncate(24 * time.Hour), Bucket: bucket,
		Written: objects, Usage: catalog.Usage{Objects: objects, Bytes: bytes}}
}

func TestGrowthIsARunningSumThatEndsAtWhatIsThere(t *testing.T) {
	days := []catalog.Day{day(800, "plates", 5, 500), day(400, "loans", 1, 100), day(100, "plates", 2, 200),
		day(100, "loans", 1, 1), day(30, "plates", -3, -300), day(0, "plates", 1, 50)}
	since := time.Now().AddDate(-1, 0, 0)
	got := growth(days, api.UsageInfo{Objects: 7, Bytes: 551}, since)
	want := []api.UsagePoint{{Day: since.Format(time.DateOnly), Objects: 6, Current: 600, Previous: 0},
		{Day: days[2].Day.Format(time.DateOnly), Objects: 9, Current: 801, Previous: 0},
		{Day: days[4].Day.Format(time.DateOnly), Objects: 6, Current: 501, Previous: 0},
		{Day: time.Now().UTC().Format(time.DateOnly), Objects: 7, Current: 551, Previous: 0}}
	if len(got) != len(want) {
		t.Fatalf("got %+v, want %+v", got, want)
	}
	for i := range want {
		if got[i] != want[i] {
			t.Errorf("point %d: %+v, want %+v", i, got[i], want[i])
		}
	}
	if got := growth(nil, api.UsageInfo{}, since); len(got) != 1 || got[0].Current != 0 {
		t.Errorf("of nothing: %+v", got)
	}
	if got := growth(days[:1], api.UsageInfo{Objects: 5, Bytes: 500}, since); len(got) != 2 || got[0].Current != 500 ||
		got[1].Current != 500 {
		t.Errorf("of what is older than the span: %+v", got)
	}
}

func TestChangedSumsASpan(t *testing.T) {
	days := []catalog.Day{day(8, "plates", 100, 100), day(6, "plates", 1, 10), day(2, "loans", 2, -5),
		day(0, "plates", 3, 30)}
	got := changed(days, time.Now().UTC().AddDate(0, 0, -6))
	if len(got) != 2 || got[0] != (api.ChangedBucket{Bucket: "loans", Written: 2, Removed: 0, Bytes: -5}) ||
		got[1] != (api.ChangedBucket{Bucket: "plates", Written: 4, Removed: 0, Bytes: 40}) {
		t.Errorf("got %+v", got)
	}
}
