package lifecycle

import (
	"strings"

	"spindle/internal/core/object"
	"spindle/internal/core/pattern"
	"spindle/internal/core/query"
)

// Scope is which keys and versions a rule is about; it cannot be wrong.
type Scope struct {
	Prefix   string
	Like     []pattern.Pattern
	LeaveOut []pattern.Pattern
	Tags     object.Tags
	From, To *int64
	Where    query.Scope
}

// Content reports whether the scope asks for what only versions with content have.
func (s *Scope) Content() bool {
	return len(s.Tags) > 0 || s.From != nil || s.To != nil || !s.Where.All()
}

// Holds reports whether the scope holds a version; the catalog asks the same of its rows.
func (s *Scope) Holds(v query.Object) bool {
	if !s.holdsKey(v.Key) || s.From != nil && v.Size < *s.From || s.To != nil && v.Size > *s.To {
		return false
	}
	for name, value := range s.Tags {
		if have, ok := v.Tags[name]; !ok || have != value {
			return false
		}
	}
	return s.Where.Holds(v)
}

func (s *Scope) holdsKey(key string) bool {
	return strings.HasPrefix(key, s.Prefix) && (len(s.Like) == 0 || pattern.Any(s.Like, key)) &&
		!pattern.Any(s.LeaveOut, key)
}
