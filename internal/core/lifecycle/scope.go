package lifecycle

import (
	"strings"

	"spindle/internal/core/object"
	"spindle/internal/core/pattern"
)

// Scope is which keys and versions a rule is about; it cannot be wrong.
type Scope struct {
	Prefix   string
	Like     []pattern.Pattern
	LeaveOut []pattern.Pattern
	Tags     object.Tags
	From, To *int64
}

// Content reports whether the scope asks for what only versions with content have.
func (s *Scope) Content() bool { return len(s.Tags) > 0 || s.From != nil || s.To != nil }

// Holds reports whether the scope holds a version with this key, size and tags.
func (s *Scope) Holds(key string, size int64, tags object.Tags) bool {
	if !strings.HasPrefix(key, s.Prefix) || s.From != nil && size < *s.From || s.To != nil && size > *s.To {
		return false
	}
	for name, v := range s.Tags {
		if have, ok := tags[name]; !ok || have != v {
			return false
		}
	}
	return (len(s.Like) == 0 || pattern.Any(s.Like, key)) && !pattern.Any(s.LeaveOut, key)
}
