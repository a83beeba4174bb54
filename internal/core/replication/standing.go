package replication

import (
	"fmt"
	"time"
)

// Standing is how a target of a rule stands, in one word.
type Standing string

// The standings, the best first: the worst of its targets is that of a rule.
const (
	Paused   Standing = "paused"            // changes wait until it goes on
	KeepsUp  Standing = "keeps up"          // nothing waits
	Unlooked Standing = "not yet looked at" // changes were made that the rule has not read
	Behind   Standing = "behind"            // something waits, no longer than promised
	Missed   Standing = "missed"            // the lag target, in the last hour; nothing is late now
	Late     Standing = "late"              // something waits longer than promised
	SomeFail Standing = "some fail"         // objects fail, the target as a whole does not
	Failing  Standing = "failing"           // the target as a whole
	Stopped  Standing = "stopped"           // it does not go on by itself: somebody must decide
)

// Standings are all of them, in their order.
var Standings = []Standing{Paused, KeepsUp, Unlooked, Behind, Missed, Late, SomeFail, Failing, Stopped}

// Worst gives the later of two standings in their order.
func Worst(a, b Standing) Standing {
	for i := len(Standings) - 1; i >= 0; i-- {
		if Standings[i] == a || Standings[i] == b {
			return Standings[i]
		}
	}
	return a
}

// stops are the codes of what time does not mend.
var stops = map[string]bool{"target-swapped": true, "target-versioning": true, "not-allowed": true,
	"replicate-refused": true, "endpoint-missing": true, "bucket-missing": true}

// Facts are what a standing is told from.
type Facts struct {
	On      bool
	Unread  bool      // there are changes of the source that were not read
	Looking bool      // a backfill looks for what is to be copied
	Waiting int64     // keys
	Failed  int64     // of them, that failed at least once
	Oldest  time.Time // since when the one waits that waits longest; zero: none does
	Lag     Lag
	Lags    Lags   // of the last hour
	Code    string // why the target as a whole fails; "": it does not
	Says    string
	Now     time.Time
}

// StandingOf tells how a target stands, and why in words, "" where there is nothing to say.
func StandingOf(f Facts) (is Standing, why string) {
	switch {
	case !f.On && f.Waiting > 0:
		return Paused, fmt.Sprintf("%d changes wait until it goes on", f.Waiting)
	case !f.On:
		return Paused, ""
	case f.Code != "" && f.Waiting > 0 && stops[f.Code]:
		return Stopped, f.Says
	case f.Code != "" && f.Waiting > 0:
		return Failing, f.Says
	case f.Failed > 0:
		return SomeFail, ""
	}
	promised := f.Lag.Share > 0
	if late := f.Now.Sub(f.Oldest); promised && f.Waiting > 0 && !f.Oldest.IsZero() && late > f.Lag.Within {
		return Late, fmt.Sprintf("a change waits for %s, and %s are promised", round(late), round(f.Lag.Within))
	}
	if share := f.Lags.Within(f.Lag.Within); promised && share < f.Lag.Share {
		return Missed, fmt.Sprintf("%s of the changes of the last hour came within %s, and %s are promised",
			percent(share), round(f.Lag.Within), percent(f.Lag.Share))
	}
	switch {
	case f.Waiting > 0 || f.Looking:
		return Behind, ""
	case f.Unread:
		return Unlooked, ""
	}
	return KeepsUp, ""
}

// percent writes a share so that what is not all never reads as all.
func percent(share float64) string {
	s := fmt.Sprintf("%.2f %%", share*100)
	if share < 1 && s == "100.00 %" {
		return "almost 100 %"
	}
	return s
}

// round leaves of a time what one reads.
func round(d time.Duration) time.Duration {
	switch {
	case d >= time.Hour:
		return d.Round(time.Minute)
	case d >= time.Second:
		return d.Round(time.Second)
	}
	return d.Round(time.Millisecond)
}
