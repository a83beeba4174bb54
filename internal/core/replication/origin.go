package replication

import (
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"spindle/internal/core/object"
)

// Origin is what a replica is a copy of.
type Origin struct {
	Key     string    // of the first source
	Version string    // of the first source
	Through []string  // places it came through, the first source first; see Place
	Written time.Time // when that state came to be at the first source; zero: not told
}

// Place names a bucket of a service, wherever it is told of.
func Place(service, bucket string) string { return service + "/" + bucket }

var placePattern = regexp.MustCompile(`^[A-Za-z0-9-]{8,64}/[a-z0-9.-]{3,63}$`)

// maxThrough is how many places a replica may come through.
const maxThrough = 16

// IsZero reports whether a version is no replica.
func (o Origin) IsZero() bool { return len(o.Through) == 0 }

// Passed reports whether a replica came through a place.
func (o Origin) Passed(place string) bool { return slices.Contains(o.Through, place) }

// Full reports whether it came through as many places as may be.
func (o Origin) Full() bool { return len(o.Through) >= maxThrough }

// String writes an origin for a header: places with commas, then key, version and, when
// it is known, the time of writing (RFC 3339) after semicolons. "" for none.
func (o Origin) String() string {
	if o.IsZero() {
		return ""
	}
	s := strings.Join(o.Through, ",") + ";" + url.QueryEscape(o.Key) + ";" + url.QueryEscape(o.Version)
	if !o.Written.IsZero() {
		s += ";" + o.Written.UTC().Format(time.RFC3339Nano)
	}
	return s
}

// ParseOrigin reads what String wrote; what is none gives none.
func ParseOrigin(s string) Origin {
	parts := strings.Split(s, ";")
	if s == "" || len(s) > 8<<10 || len(parts) < 3 || len(parts) > 4 {
		return Origin{}
	}
	o := Origin{Through: strings.Split(parts[0], ",")}
	if len(o.Through) > maxThrough || slices.ContainsFunc(o.Through,
		func(p string) bool { return !placePattern.MatchString(p) }) {
		return Origin{}
	}
	var kerr, verr error
	o.Key, kerr = url.QueryUnescape(parts[1])
	o.Version, verr = url.QueryUnescape(parts[2])
	if kerr != nil || verr != nil {
		return Origin{}
	}
	if len(parts) == 4 {
		if o.Written, kerr = time.Parse(time.RFC3339Nano, parts[3]); kerr != nil {
			return Origin{}
		}
	}
	return o
}

// Onward gives the origin that a copy of a version carries, which lies at a place.
func (o Origin) Onward(place, key string, v *object.Version) Origin {
	if o.IsZero() {
		return Origin{Key: key, Version: v.ID().String(), Through: []string{place}, Written: Written(v)}
	}
	o.Through = append(slices.Clone(o.Through), place)
	return o
}
