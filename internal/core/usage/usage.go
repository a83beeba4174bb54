package usage

import "time"

// Window is how many days of the past a forecast is made of.
const Window = 30

// MostAhead is how far a forecast looks.
const MostAhead = 10 * 365 * 24 * time.Hour

// Point is how many bytes were kept at a moment.
type Point struct {
	At    time.Time
	Bytes int64
}

// PerDay gives how many bytes a day were added, over the last days of points, which are in
// order and hold until the next: the slope of the line that lies closest to the figures of
// all days. With less than two days there is none: 0.
func PerDay(points []Point, now time.Time) float64 {
	if len(points) == 0 {
		return 0
	}
	day := 24 * time.Hour
	from := now.Add(-Window * day)
	if first := points[0].At; first.After(from) {
		from = first
	}
	var n, sx, sy, sxx, sxy float64
	i := 0
	for t, x := from, 0.0; !t.After(now); t, x = t.Add(day), x+1 {
		for i+1 < len(points) && !points[i+1].At.After(t) {
			i++
		}
		y := float64(points[i].Bytes)
		n, sx, sy, sxx, sxy = n+1, sx+x, sy+y, sxx+x*x, sxy+x*y
	}
	if d := n*sxx - sx*sx; n >= 2 && d != 0 {
		return (n*sxy - sx*sy) / d
	}
	return 0
}

// FullOn gives the moment at which a limit is reached when it goes on so; nil when it is
// not, or so late that nobody can say.
func FullOn(used, limit int64, perDay float64, now time.Time) *time.Time {
	if used >= limit {
		return &now
	}
	if perDay <= 0 {
		return nil
	}
	days := float64(limit-used) / perDay
	if days > MostAhead.Hours()/24 {
		return nil
	}
	t := now.Add(time.Duration(days * float64(24*time.Hour))).Truncate(24 * time.Hour)
	return &t
}
