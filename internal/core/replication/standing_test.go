package replication

import (
	"strings"
	"testing"
	"time"
)

// One table says how a target stands for all that can be so of it.
func TestStandingOf(t *testing.T) {
	now := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	promised := Lag{Share: .99, Within: time.Minute}
	var good, bad Lags
	for range 1000 {
		good.Add(time.Second)
		bad.Add(time.Second)
	}
	for range 20 {
		bad.Add(time.Hour)
	}
	for _, x := range []struct {
		name string
		f    Facts
		want Standing
		why  string
	}{
		{"nothing", Facts{On: true}, KeepsUp, ""},
		{"kept", Facts{On: true, Lag: promised, Lags: good}, KeepsUp, ""},
		{"off", Facts{}, Paused, ""},
		{"off, with what waits", Facts{Waiting: 7, Failed: 3, Code: "away", Lag: promised, Lags: bad}, Paused, "7 changes"},
		{"not read", Facts{On: true, Unread: true}, Unlooked, ""},
		{"not read, and something waits", Facts{On: true, Unread: true, Waiting: 1}, Behind, ""},
		{"a backfill looks", Facts{On: true, Looking: true}, Behind, ""},
		{"waits, nothing is promised", Facts{On: true, Waiting: 1, Oldest: now.Add(-time.Hour)}, Behind, ""},
		{"waits, within", Facts{On: true, Waiting: 1, Oldest: now.Add(-time.Second), Lag: promised}, Behind, ""},
		{"waits for long", Facts{On: true, Waiting: 1, Oldest: now.Add(-90 * time.Minute), Lag: promised, Lags: bad}, Late,
			"waits for 1h30m0s, and 1m0s"},
		{"was late", Facts{On: true, Lag: promised, Lags: bad}, Missed, "98.04 % of the changes"},
		{"was late, and waits within", Facts{On: true, Waiting: 1, Oldest: now, Lag: promised, Lags: bad}, Missed, ""},
		{"some fail", Facts{On: true, Waiting: 5, Failed: 2, Oldest: now.Add(-time.Hour), Lag: promised}, SomeFail, ""},
		{"fails", Facts{On: true, Waiting: 5, Failed: 2, Code: "away", Says: "it does not answer"}, Failing, "not answer"},
		{"failed, and nothing waits", Facts{On: true, Code: "away", Says: "it does not answer"}, KeepsUp, ""},
		{"another bucket", Facts{On: true, Waiting: 1, Code: "target-swapped", Says: "it is another"}, Stopped, "another"},
	} {
		x.f.Now = now
		is, why := StandingOf(x.f)
		if is != x.want || !strings.Contains(why, x.why) || x.why == "" && x.f.Waiting == 0 && why != "" && is != Missed {
			t.Errorf("%s: %s, %q; want %s, %q", x.name, is, why, x.want, x.why)
		}
	}
	if Worst(KeepsUp, Failing) != Failing || Worst(Late, Paused) != Late {
		t.Error("the worst of two is not told")
	}
	if percent(.999999) == "100.00 %" {
		t.Error("what is missed reads as all")
	}
}
