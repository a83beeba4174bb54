package query

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"spindle/internal/core/object"
)

// Scope is an expression that says which objects something is about, as it is written down;
// the zero Scope is about all. It asks only for what stays as it is while an object's content
// and metadata do.
type Scope struct {
	text string
	expr Expr
}

// Lasting are the fields that scopes may ask for.
var Lasting = []string{"key", "type", "size", "changed", "md5", "crc64", "writer", "field", "tag"}

// ParseScope reads a scope that asks for no fields but those; "" is about all. Moments are
// as of now, and stay what they were. The error has the code query.
func ParseScope(s string, now time.Time, fields []string) (Scope, error) {
	if strings.TrimSpace(s) == "" {
		return Scope{}, nil
	}
	x, err := Parse(s, now)
	if err != nil {
		return Scope{}, err
	}
	Each(x, func(t *Test) {
		if err == nil && !slices.Contains(fields, t.Field.Name) {
			at := max(0, strings.Index(s, t.Field.Name))
			err = problem(at, "what this is about cannot be told by %s", t.Field.Name).
				Do("ask for %s: they stay as they are while nobody changes the object", strings.Join(fields, ", "))
		}
	})
	if err != nil {
		return Scope{}, err
	}
	return Scope{x.String(), x}, nil
}

// String gives the scope as ParseScope reads it; "" for all.
func (s Scope) String() string { return s.text }

// All reports whether the scope is about all objects.
func (s Scope) All() bool { return s.expr == nil }

// Expr gives the scope's expression; nil for all.
func (s Scope) Expr() Expr { return s.expr }

// Holds reports whether an object is in the scope.
func (s Scope) Holds(o Object) bool { return s.expr == nil || s.expr.holds(&o) }

// Of gives what is known of a version by itself: not its bucket and tier by name, nor whether
// it is current or copied.
func Of(v *object.Version) Object {
	return Object{Key: v.Key.String(), Type: v.Headers.ContentType, Writer: v.By, MD5: v.ETag.String(),
		CRC64: fmt.Sprintf("%016x", v.CRC64), Version: v.ID().String(), Size: v.Size, Changed: v.Created,
		Sealed: v.Body.Sealed(), Metadata: v.Metadata, Tags: v.Tags}
}
