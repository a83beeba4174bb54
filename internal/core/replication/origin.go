package replication

import (
	"net/url"
	"regexp"
	"slices"
	"strings"
)

// Origin is what a replica is a copy of.
type Origin struct {
	Key     string   // of the first source
	Version string   // of the first source
	Through []string // places it came through, the first source first; see Place
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

// String writes an origin for a header: places with commas, key and version after
// semicolons. "" for none.
func (o Origin) String() string {
	if o.IsZero() {
		return ""
	}
	return strings.Join(o.Through, ",") + ";" + url.QueryEscape(o.Key) + ";" + url.QueryEscape(o.Version)
}

// ParseOrigin reads what String wrote; what is none gives none.
func ParseOrigin(s string) Origin {
	parts := strings.Split(s, ";")
	if s == "" || len(s) > 8<<10 || len(parts) != 3 {
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
	return o
}

// Onward gives the origin that a copy of a version carries, which lies at a place.
func (o Origin) Onward(place, key, version string) Origin {
	if o.IsZero() {
		return Origin{Key: key, Version: version, Through: []string{place}}
	}
	return Origin{Key: o.Key, Version: o.Version, Through: append(slices.Clone(o.Through), place)}
}
