package query

import (
	"slices"
	"strconv"
	"strings"
	"time"
)

// Object is what is known of a version of an object.
type Object struct {
	Bucket, Key string
	Type        string // of the content
	Tier        string
	Writer      string
	MD5         string // in hex; with the number of parts as the ETag has it
	CRC64       string // in hex
	Version     string // its id
	Size        int64  // bytes
	Changed     time.Time
	Sealed      bool
	Current     bool
	Replication []string // its states, where rules copy it
	Metadata    map[string]string
	Tags        map[string]string
	now         time.Time
}

// Holds reports whether an expression holds for an object, as of a moment.
func Holds(x Expr, o Object, now time.Time) bool {
	o.now = now
	return x.holds(&o)
}

func (a And) holds(o *Object) bool {
	for _, x := range a {
		if !x.holds(o) {
			return false
		}
	}
	return true
}

func (l Or) holds(o *Object) bool {
	for _, x := range l {
		if x.holds(o) {
			return true
		}
	}
	return false
}

func (n Not) holds(o *Object) bool { return !n.Of.holds(o) }

func (t *Test) holds(o *Object) bool {
	switch t.Field.Name {
	case "sealed":
		return o.Sealed
	case "current":
		return o.Current
	case "size":
		return t.number(float64(o.Size))
	case "age":
		return t.age(o.Changed, o.now)
	case "changed":
		return t.moment(o.Changed)
	case "replication":
		return slices.ContainsFunc(o.Replication, func(s string) bool { return slices.Contains(t.Texts, s) })
	case "field":
		return t.open(o.Metadata)
	case "tag":
		return t.open(o.Tags)
	}
	return t.text(map[string]string{"bucket": o.Bucket, "key": o.Key, "type": o.Type, "tier": o.Tier, "writer": o.Writer,
		"md5": o.MD5, "crc64": o.CRC64, "version": o.Version}[t.Field.Name])
}

func (t *Test) open(fields map[string]string) bool {
	v, ok := fields[t.Field.Named]
	switch {
	case t.Op == Exists:
		return ok
	case t.Op == Lacks:
		return !ok
	case !ok:
		return false
	}
	return t.Says(v)
}

// Number reads a value as a number: digits with a sign and a point, at most 30 characters.
func Number(s string) (n float64, ok bool) {
	digits := strings.TrimPrefix(s, "-")
	whole, part, point := strings.Cut(digits, ".")
	if len(s) > 30 || !allDigits(whole) || point && !allDigits(part) {
		return 0, false
	}
	n, err := strconv.ParseFloat(s, 64)
	return n, err == nil
}

func allDigits(s string) bool { return s != "" && strings.Trim(s, "0123456789") == "" }

func (t *Test) text(v string) bool {
	switch t.Op {
	case Is, OneOf:
		return slices.Contains(t.Texts, v)
	case Begins:
		return strings.HasPrefix(v, t.Texts[0])
	case Ends:
		return strings.HasSuffix(v, t.Texts[0])
	case Contains:
		return strings.Contains(v, t.Texts[0])
	}
	return t.Pattern.Match(v)
}

func (t *Test) number(v float64) bool {
	n := t.Numbers
	switch t.Op {
	case Is:
		return v == n[0]
	case Over:
		return v > n[0]
	case Under:
		return v < n[0]
	case AtLeast:
		return v >= n[0]
	case AtMost:
		return v <= n[0]
	}
	return n[0] <= v && v <= n[1]
}

// Since gives the moments at which what is as old as the test's lengths was written.
func (t *Test) Since(now time.Time) []time.Time {
	out := make([]time.Time, len(t.Numbers))
	for i, n := range t.Numbers {
		out[i] = now.Add(-time.Duration(n * float64(time.Second))).Truncate(time.Microsecond)
	}
	return out
}

func (t *Test) age(written, now time.Time) bool {
	at := t.Since(now)
	switch t.Op {
	case Over:
		return written.Before(at[0])
	case Under:
		return written.After(at[0])
	case AtLeast:
		return !written.After(at[0])
	case AtMost:
		return !written.Before(at[0])
	}
	return !written.After(at[0]) && !written.Before(at[1])
}

func (t *Test) moment(v time.Time) bool {
	a := t.Times
	switch t.Op {
	case Before:
		return v.Before(a[0])
	case After:
		return v.After(a[0])
	case On:
		return !v.Before(a[0]) && v.Before(a[0].AddDate(0, 0, 1))
	}
	return !v.Before(a[0]) && !v.After(a[1])
}

// SaysNumber reports whether a test of numbers holds for one.
func (t *Test) SaysNumber(v float64) bool { return t.number(v) }

// Says reports whether a test of words, or of a field or a tag that is there, holds for a
// value.
func (t *Test) Says(v string) bool {
	if len(t.Numbers) > 0 {
		n, is := Number(v)
		return is && t.number(n)
	}
	return t.text(v)
}
