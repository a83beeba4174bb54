package bucket

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/pattern"
	"spindle/internal/core/query"
)

// Bounds of what is required of metadata.
const (
	MaxRequirements = 100 // of a bucket
	MaxAllowed      = 200 // values of one
)

// Kind is what the values of a field must be.
type Kind string

// Kinds of values.
const (
	AnyText Kind = "text"
	Numeral Kind = "number" // digits with a sign and a point
	Day     Kind = "day"    // such as 2026-11-20
	YesNo   Kind = "yes-no" // yes or no
)

// Requirement is what a metadata field must be, of objects whose keys begin with a prefix.
type Requirement struct {
	Field    string   `json:"field"`
	Prefix   string   `json:"prefix,omitempty"`
	Optional bool     `json:"optional,omitempty"` // it may be missing
	Kind     Kind     `json:"kind"`
	OneOf    []string `json:"oneOf,omitempty"`  // the values that are allowed; none: all
	Like     string   `json:"like,omitempty"`   // a pattern that values are like; "": any
	Refuse   bool     `json:"refuse,omitempty"` // a write against it is refused; otherwise it is told
}

// Requirements are those of a bucket, by prefix and field.
type Requirements []Requirement

// Breach is what is wrong with a field of an object.
type Breach struct {
	Field  string `json:"field"`
	Says   string `json:"says"`
	Refuse bool   `json:"refuse,omitempty"`
}

// Check refuses a requirement that cannot be, with all that is wrong.
func (r *Requirement) Check() error {
	var all []error
	bad := func(field, remedy, says string, args ...any) {
		all = append(all, fault.New(fault.Invalid, "requirement", says, args...).In(field).Do("%s", remedy))
	}
	if _, err := object.NewMetadata(map[string]string{r.Field: ""}); err != nil || r.Field == "" ||
		r.Field != strings.ToLower(r.Field) {
		bad("field", "name it as objects have it, in small letters", "%q is no name of a metadata field", r.Field)
	}
	if !slices.Contains([]Kind{AnyText, Numeral, Day, YesNo}, r.Kind) {
		bad("kind", "take text, number, day or yes-no", "%q is no kind of value", string(r.Kind))
	}
	if len(r.OneOf) > MaxAllowed {
		bad("oneOf", "use a pattern, or another kind", "at most %d values can be allowed", MaxAllowed)
	}
	if len(r.Prefix) > object.MaxKey {
		bad("prefix", "shorten it", "a prefix has at most %d bytes", object.MaxKey)
	}
	if r.Like != "" {
		if _, err := pattern.Parse(r.Like); err != nil {
			all = append(all, fault.From(err).In("like"))
		}
	}
	for _, v := range r.OneOf {
		if says := (&Requirement{Kind: r.Kind, Like: r.Like}).wrong(v); says != "" {
			bad("oneOf", "leave it out, or change the kind", "the allowed value %q %s", v, says)
		}
	}
	return errors.Join(all...)
}

// wrong says what is wrong with a value; "" for nothing.
func (r *Requirement) wrong(v string) string {
	switch r.Kind {
	case Numeral:
		if _, ok := query.Number(v); !ok {
			return "is no number"
		}
	case Day:
		if _, err := time.Parse(time.DateOnly, v); err != nil {
			return "is no day such as 2026-11-20"
		}
	case YesNo:
		if v != "yes" && v != "no" {
			return "is neither yes nor no"
		}
	}
	if len(r.OneOf) > 0 && !slices.Contains(r.OneOf, v) {
		return "is none of those that are allowed"
	}
	if r.Like != "" {
		if p, err := pattern.Parse(r.Like); err == nil && !p.Match(v) {
			return "is not like " + r.Like
		}
	}
	return ""
}

// Breaches says what is wrong with the metadata of an object.
func (list Requirements) Breaches(key string, m object.Metadata) (out []Breach) {
	if len(list) == 0 {
		return nil
	}
	fields := m
	for i := range list {
		r := &list[i]
		if !strings.HasPrefix(key, r.Prefix) {
			continue
		}
		v, has := fields[r.Field]
		switch says := ""; {
		case !has && !r.Optional:
			out = append(out, Breach{r.Field, "is missing", r.Refuse})
		case has:
			if says = r.wrong(v); says != "" {
				out = append(out, Breach{r.Field, says, r.Refuse})
			}
		}
	}
	return out
}

// Refused gives the error for breaches of which one is refused; nil for none. It has the
// code metadata-required.
func Refused(breaches []Breach) error {
	for _, b := range breaches {
		if b.Refuse {
			return fault.New(fault.Invalid, "metadata-required", "the bucket asks for metadata: %s",
				Told(breaches)).In("metadata." + b.Field).
				Do("send the field with a value that is allowed: spindle bucket field list BUCKET says what is asked for")
		}
	}
	return nil
}

// Told says in a line what is wrong.
func Told(breaches []Breach) string {
	parts := make([]string, len(breaches))
	for i, b := range breaches {
		parts[i] = fmt.Sprintf("%s %s", b.Field, b.Says)
	}
	return strings.Join(parts, "; ")
}

// same reports whether two lists ask for the same.
func (list Requirements) same(o Requirements) bool {
	return slices.EqualFunc(list, o, func(a, b Requirement) bool {
		return a.Field == b.Field && a.Prefix == b.Prefix && a.Optional == b.Optional && a.Kind == b.Kind &&
			a.Like == b.Like &&
			a.Refuse == b.Refuse && slices.Equal(a.OneOf, b.OneOf)
	})
}

// Require replaces what is required.
func Require(list Requirements) Edit {
	return func(s *Settings) error {
		s.Required = slices.Clone(list)
		slices.SortStableFunc(s.Required, func(a, b Requirement) int {
			return strings.Compare(a.Prefix+"\x00"+a.Field, b.Prefix+"\x00"+b.Field)
		})
		return nil
	}
}

// checkRequired refuses requirements that cannot be, or that are there twice.
func (s Settings) checkRequired() error {
	if len(s.Required) > MaxRequirements {
		return fault.New(fault.Invalid, "requirement", "a bucket can ask for %d fields at the most",
			MaxRequirements).In("required")
	}
	for i := range s.Required {
		r := &s.Required[i]
		if err := r.Check(); err != nil {
			return err
		}
		if i > 0 && s.Required[i-1].Field == r.Field && s.Required[i-1].Prefix == r.Prefix {
			return fault.New(fault.Invalid, "requirement", "the field %q is asked for twice beneath %q", r.Field,
				r.Prefix).In("required").
				Do("say it once")
		}
	}
	return nil
}

// Worse gives the breaches that were not there before.
func Worse(before, after []Breach) (out []Breach) {
	for _, b := range after {
		if !slices.Contains(before, b) {
			out = append(out, b)
		}
	}
	return out
}
