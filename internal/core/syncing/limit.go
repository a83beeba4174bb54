package syncing

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// MaxLimits is how many limits a job may have.
const MaxLimits = 24

// Limit is how many bytes a second may be sent at a time of day, or at all others.
type Limit struct {
	From int   `json:"from"` // minutes after midnight; From and To are the same for all other times
	To   int   `json:"to"`   // excluded; before From: over midnight
	Rate int64 `json:"rate"` // bytes a second; 0: no limit
}

var limitText = regexp.MustCompile(`^(?:(\d\d?):(\d\d)-(\d\d?):(\d\d) )?(\S+)$`)

// ParseLimit reads a limit: 2MiB, or 08:00-18:00 2MiB; none is no limit. The error has the
// code bandwidth.
func ParseLimit(s string) (l Limit, err error) {
	bad := func() error {
		return fault.New(fault.Invalid, "bandwidth", "%q is no limit", s).In("bandwidth").
			Do("give bytes a second, 16KiB or more, such as 2MiB, or with a time of day, such as 08:00-18:00 2MiB; none is no limit")
	}
	m := limitText.FindStringSubmatch(strings.TrimSpace(s))
	if m == nil {
		return l, bad()
	}
	if m[1] != "" {
		var clock [4]int
		for i := range clock {
			clock[i], _ = strconv.Atoi(m[i+1]) // two digits
		}
		if clock[0] > 24 || clock[2] > 24 || clock[1] > 59 || clock[3] > 59 {
			return l, bad()
		}
		if l.From, l.To = (clock[0]*60+clock[1])%1440, (clock[2]*60+clock[3])%1440; l.From == l.To {
			return l, bad()
		}
	}
	if m[5] == "none" {
		return l, nil
	}
	n, err := object.ParseSize(strings.TrimSuffix(m[5], "/s"))
	if err != nil || n < 16<<10 || n > 1<<50 {
		return l, bad()
	}
	l.Rate = n
	return l, nil
}

// String writes a limit as it is read.
func (l Limit) String() string {
	rate := "none"
	if l.Rate > 0 {
		rate = bytesText(l.Rate)
	}
	if l.From == l.To {
		return rate
	}
	return fmt.Sprintf("%02d:%02d-%02d:%02d %s", l.From/60, l.From%60, l.To/60, l.To%60, rate)
}

// bytesText writes bytes exactly, in the largest unit in which they are a whole number.
func bytesText(n int64) string {
	units := []string{"", "KiB", "MiB", "GiB", "TiB"}
	i := 0
	for ; n%1024 == 0 && i < len(units)-1; i++ {
		n /= 1024
	}
	return strconv.FormatInt(n, 10) + units[i]
}

// holds reports whether a limit is for a minute of the day.
func (l Limit) holds(minute int) bool {
	if l.From < l.To {
		return l.From <= minute && minute < l.To
	}
	return minute >= l.From || minute < l.To
}

func checkLimits(list []Limit) error {
	if len(list) > MaxLimits {
		return fault.New(fault.Invalid, "bandwidth", "a job has at most %d limits", MaxLimits).In("bandwidth")
	}
	other := 0
	for _, l := range list {
		if l.From == l.To {
			other++
		}
	}
	if other > 1 {
		return fault.New(fault.Invalid, "bandwidth", "two limits are for all other times").In("bandwidth").
			Do("give one of them a time of day")
	}
	return nil
}

// Rate gives how many bytes a second may be sent at a moment, 0 for as many as can be. Of
// limits whose times overlap the first one holds.
func (j *Job) Rate(now time.Time) int64 {
	zone, err := time.LoadLocation(j.Zone)
	if err != nil {
		zone = time.UTC
	}
	now = now.In(zone)
	rate := int64(0)
	for _, l := range j.Limits {
		switch {
		case l.From == l.To:
			rate = l.Rate
		case l.holds(now.Hour()*60 + now.Minute()):
			return l.Rate
		}
	}
	return rate
}
