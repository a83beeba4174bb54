package crew

import (
	"time"

	"github.com/robfig/cron/v3"

	"spindle/internal/core/fault"
)

// Schedule says when something is done again and again.
type Schedule struct {
	text string
	next cron.Schedule
	zone *time.Location
}

// ParseSchedule reads five fields (minute, hour, day of the month, month, day of the
// week) or one of @hourly, @daily, @weekly, @monthly, in a time zone by its name; ""
// for UTC. The errors have the codes schedule and time-zone.
func ParseSchedule(text, zone string) (Schedule, error) {
	at, err := time.LoadLocation(zone)
	if err != nil {
		return Schedule{}, fault.New(fault.Invalid, "time-zone", "there is no time zone %q", zone).In("zone").
			Do("name one as Europe/Oslo, or leave it out for UTC")
	}
	parser := cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow | cron.Descriptor)
	next, err := parser.Parse(text)
	if err != nil {
		return Schedule{}, fault.New(fault.Invalid, "schedule", "%q is no schedule: %s", text, err).In("schedule").
			Do("give five fields, such as 30 2 * * 1, or @daily")
	}
	return Schedule{text, next, at}, nil
}

// String gives the schedule as it was written.
func (s Schedule) String() string { return s.text }

// Next gives the first moment after another at which the schedule is due. An hour
// that a clock change leaves out is due at its end; one that comes twice, once.
func (s Schedule) Next(after time.Time) time.Time { return s.next.Next(after.In(s.zone)) }
