package object

import (
	"strconv"
	"strings"
	"time"

	"spindle/internal/core/fault"
)

// Versioning says whether a bucket keeps what is replaced and removed.
type Versioning uint8

// The states of a bucket's versioning; their numbers stand in the database.
const (
	Off    Versioning = iota // what is replaced or removed is gone
	On                       // every change adds a version
	Paused                   // versions that are there stay; changes replace the one plain version
)

var versionings = [...]string{"off", "on", "paused"}

func (v Versioning) String() string { return versionings[v] }

// ParseVersioning reads off, on or paused. The error has the code versioning.
func ParseVersioning(s string) (Versioning, error) {
	for i, name := range versionings {
		if s == name {
			return Versioning(i), nil
		}
	}
	return Off, fault.New(fault.Invalid, "versioning", "versioning is off, on or paused, not %q", s).In("versioning")
}

// VersionID names a version of a key: its number, or one of the two below.
type VersionID int64

// Names of versions without a number.
const (
	Current VersionID = 0  // whatever is current
	Plain   VersionID = -1 // the one version of a key that was written while versioning was off or paused
)

// String gives the id as people and the wire see it: "null" for Plain, "" for
// Current, otherwise at least eight digits to the base 32.
func (id VersionID) String() string {
	switch {
	case id == Current:
		return ""
	case id < 0:
		return "null"
	}
	s := strconv.FormatInt(int64(id), 32)
	return strings.Repeat("0", max(0, 8-len(s))) + s
}

// ParseVersionID reads what String gives. The error has the code version-malformed.
func ParseVersionID(s string) (VersionID, error) {
	if s == "null" {
		return Plain, nil
	}
	n, err := strconv.ParseInt(s, 32, 64)
	if err != nil || n <= 0 || VersionID(n).String() != s {
		return Current, fault.New(fault.Invalid, "version-malformed", "%q is no version id", s).In("version").
			Do("take the id from the key's history: eight digits and small letters, or null")
	}
	return VersionID(n), nil
}

// ID names the version.
func (v *Version) ID() VersionID {
	if v.Plain {
		return Plain
	}
	return VersionID(v.Number)
}

// Origin says how a version came to be, when it was not simply written.
type Origin struct {
	How    string // restored, renamed or copied
	Bucket string
	Key    string
	ID     VersionID
	At     time.Time
	Who    string
}

var momentForms = []string{"2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04:05", "2006-01-02T15:04",
	"2006-01-02", "2006-01-02 15:04:05 -07:00", "2006-01-02 15:04 -07:00", "2006-01-02 15:04 -0700",
	"2006-01-02T15:04Z07:00", "2006-01-02 15:04Z07:00", "2006-01-02 15:04:05Z07:00"}

// ParseMoment reads a moment as people write it: RFC 3339, a date and time of
// day in the zone of now or one that is named (+01:00, Europe/Oslo, UTC), a date (its beginning), or a time ago
// such as 90m, 36h or 7d. The errors have the code moment.
func ParseMoment(s string, now time.Time) (time.Time, error) {
	t, err := parseTime(s, now, -1)
	if err == nil && t.After(now) {
		err = notMoment(s, "is in the future", "7d ago as 7d")
	}
	return t, err
}

// ParseMomentToCome reads a moment to come, written as ParseMoment has it, or a
// time from now such as 36h or 90d. The error has the code moment.
func ParseMomentToCome(s string, now time.Time) (time.Time, error) {
	t, err := parseTime(s, now, 1)
	if err == nil && !t.After(now) {
		err = notMoment(s, "is past", "90 days from now as 90d")
	}
	return t, err
}

func notMoment(s, why, example string) error {
	return fault.New(fault.Invalid, "moment", "%q %s", s, why).In("as-of").
		Do(`write "2026-11-20 14:00", "2026-11-20 14:00 +01:00", 2026-11-20T14:00:00Z, 2026-11-20, or %s`, example)
}

// ParseDuration reads a length of time such as 90s, 4h or 7d, a day having 24 hours. The
// error has the code duration.
func ParseDuration(s string) (d time.Duration, err error) {
	if days, ok := strings.CutSuffix(s, "d"); ok {
		n, derr := strconv.ParseUint(days, 10, 16)
		d, err = time.Duration(n)*24*time.Hour, derr
	} else {
		d, err = time.ParseDuration(s)
	}
	if err != nil || d < 0 {
		return 0, fault.New(fault.Invalid, "duration", "%q is no length of time", s).Do("write it as 90s, 4h or 7d")
	}
	return d, nil
}

// cutLast cuts the last word off.
func cutLast(s string) (rest, last string) {
	i := strings.LastIndex(s, " ")
	return strings.TrimSpace(s[:max(i, 0)]), s[i+1:]
}

func parseTime(s string, now time.Time, direction time.Duration) (time.Time, error) {
	s = strings.TrimSpace(s)
	t, err := time.Parse(time.RFC3339Nano, s)
	day, in := s, now.Location()
	if rest, zone := cutLast(s); err != nil && strings.Contains(zone, "/") || zone == "UTC" {
		if there, zerr := time.LoadLocation(zone); zerr == nil {
			day, in = rest, there
		}
	}
	for _, form := range momentForms {
		if err == nil {
			break
		}
		t, err = time.ParseInLocation(form, day, in)
	}
	if err != nil {
		ago, err := ParseDuration(s)
		if err != nil {
			return t, notMoment(s, "is no moment", "a time such as 36h or 7d")
		}
		t = now.Add(direction * ago)
	}
	return t.UTC(), nil
}
