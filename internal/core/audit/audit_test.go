package audit

import (
	"slices"
	"strings"
	"testing"
	"time"
)

var now = time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)

func ago(days int) time.Time { return now.AddDate(0, 0, -days) }

func at(days int) *time.Time {
	t := ago(days)
	return &t
}

func checks(f Facts) string {
	f.Now = now
	var out []string
	for _, x := range Look(&f) {
		out = append(out, x.Check)
		if x.Says == "" || x.Why == "" || x.Fix == "" || !strings.HasPrefix(x.Page, "/") || x.Subject == "" {
			out = append(out, "INCOMPLETE")
		}
	}
	slices.Sort(out)
	return strings.Join(out, " ")
}

// Each fact by itself leads to its finding, and what is in order to none.
func TestLook(t *testing.T) {
	quota := int64(100 << 20)
	for _, x := range []struct {
		f    Facts
		want string
	}{
		{Facts{}, ""},
		{Facts{Buckets: []Bucket{{Name: "a", Versioning: "on", Objects: 5}}}, ""},
		{Facts{Buckets: []Bucket{{Name: "a", Versioning: "off"}}}, ""},
		{Facts{Buckets: []Bucket{{Name: "a", Versioning: "off", Objects: 5}}}, "no-versioning"},
		{Facts{Buckets: []Bucket{{Name: "a", Versioning: "paused", Objects: 5, Copied: true}}}, ""},
		{Facts{Buckets: []Bucket{{Name: "a", Versioning: "on", Bytes: 9 << 20, PreviousBytes: 5 << 20}}}, "no-clean-up"},
		{Facts{Buckets: []Bucket{{Name: "a", Versioning: "on", Bytes: 9 << 20, PreviousBytes: 5 << 20, CleansUp: true}}}, ""},
		{Facts{Buckets: []Bucket{{Name: "a", Versioning: "on", Bytes: 4 << 20, PreviousBytes: 5 << 20, CleansUp: true}}},
			"previous-over-current"},
		{Facts{Buckets: []Bucket{{Name: "a", Versioning: "on", Unfinished: 2, Held: 7}}}, "unfinished-uploads"},
		{Facts{Buckets: []Bucket{{Name: "a", Versioning: "on", Unfinished: 2, Abandons: true}}}, ""},
		{Facts{Buckets: []Bucket{{Name: "a", Versioning: "on", Bytes: 95 << 20, Quota: &quota}}}, "near-quota"},
		{Facts{Buckets: []Bucket{{Name: "a", Versioning: "on", Lacking: 3}}}, "lacks-metadata"},
		{Facts{Rules: []IdleRule{{Bucket: "a", Name: "old"}}}, "rule-never-matched"},
		{Facts{Posts: []Failing{{"tell", "it is away"}}}, "post-fails"},
		{Facts{Conflicts: []Conflict{{"a old", "never comes to be", "spindle lifecycle show a b", "/buckets/a/lifecycle"}}},
			"rules-conflict"},
		{Facts{Drifts: []Drift{{"house", 2, "bucket plates"}}}, "charter-drift"},
		{Facts{Disks: []Disk{{Tier: "main", Free: 5, Total: 100}}}, "disk-near-full"},
		{Facts{Disks: []Disk{{Tier: "main", Free: 50, Total: 100, FullOn: at(-9)}}}, "disk-near-full"},
		{Facts{Disks: []Disk{{Tier: "main", Free: 50, Total: 100, FullOn: at(-90)}}}, ""},
		{Facts{Censuses: []Failing{{"weekly", "quota"}}}, "census-fails"},
		{Facts{Buckets: []Bucket{{Name: "a", Versioning: "on", Bytes: 80 << 20, Quota: &quota}}}, ""},
		{Facts{Keys: []Key{{ID: "K", Role: "writer", Created: ago(1)}}}, ""},
		{Facts{Keys: []Key{{ID: "K", Role: "writer", Created: ago(100), Expires: at(-5)}}}, "key-unused"},
		{Facts{Keys: []Key{{ID: "K", Role: "writer", Created: ago(100), Used: at(1)}}}, "key-without-end"},
		{Facts{Keys: []Key{{ID: "K", Role: "administrator", Created: ago(100), Used: at(1)}}}, "key-reaches-far"},
		{Facts{Keys: []Key{{ID: "K", Role: "administrator", Created: ago(100), Used: at(1), Limited: true, Expires: at(-1)}}},
			""},
		{Facts{Grants: []Grant{{ID: 1, Bucket: "a", Rights: "read"}}}, "open-to-anyone"},
		{Facts{Endpoints: []Endpoint{{Name: "e", State: "healthy", Checked: at(0)}}}, ""},
		{Facts{Endpoints: []Endpoint{{Name: "e", State: "refusing", Checked: at(0)}}}, "endpoint-fails"},
		{Facts{Endpoints: []Endpoint{{Name: "e", State: "healthy", Checked: at(3)}}}, "endpoint-unchecked"},
		{Facts{Targets: []Target{{Rule: "r", On: true, Created: ago(1), Waiting: 3, Oldest: at(0)}}}, ""},
		{Facts{Targets: []Target{{Rule: "r", On: true, Created: ago(1), Waiting: 3, Oldest: at(1)}}}, "copies-late"},
		{Facts{Targets: []Target{{Rule: "r", On: true, Created: ago(9), Failed: 3, Verified: at(2)}}}, "copies-fail"},
		{Facts{Targets: []Target{{Rule: "r", On: true, Created: ago(90), Verified: at(40)}}}, "never-verified"},
		{Facts{Targets: []Target{{Rule: "r", Created: ago(90)}}}, "rule-off"},
		{Facts{Jobs: []Job{{Name: "j", On: true, State: "done", Ended: at(0), Created: ago(9)}}}, ""},
		{Facts{Jobs: []Job{{Name: "j", On: true, Scheduled: true, Created: ago(9)}}}, "job-never-ran"},
		{Facts{Jobs: []Job{{Name: "j", State: "asking", Created: ago(9)}}}, "job-asks"},
		{Facts{Jobs: []Job{{Name: "j", State: "partly", Ended: at(2), Created: ago(9)}}}, "job-fails"},
		{Facts{Jobs: []Job{{Name: "j", State: "failed", Restores: true, Created: ago(900)}}}, ""},
		{Facts{Jobs: []Job{{Name: "j", State: "done", Ended: at(1), Created: ago(100)}}}, "never-restored"},
		{Facts{Jobs: []Job{{Name: "j", State: "done", Ended: at(1), Restored: at(20), Created: ago(100)}}}, ""},
	} {
		if got := checks(x.f); got != x.want {
			t.Errorf("%+v: %q, not %q", x.f, got, x.want)
		}
	}
	list := Look(&Facts{Now: now, Buckets: []Bucket{{Name: "b", Versioning: "on", PreviousBytes: 9 << 20},
		{Name: "a", Versioning: "off",
			Objects: 1}}})
	if len(list) != 3 || list[0].Check != "no-versioning" {
		t.Errorf("what is serious is not first: %+v", list)
	}
}
