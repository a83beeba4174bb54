package lifecycle

import (
	"fmt"
	"slices"
	"strings"
)

// Form is a rule as it is written down, in JSON or YAML, by people and programs. It may
// be anything; Parse makes a Rule of it.
type Form struct {
	Name    string       `json:"name" yaml:"name" maxLength:"400" doc:"Up to 100 characters, without /"`
	Off     bool         `json:"off,omitempty" yaml:"off,omitempty" doc:"It is kept, and does nothing"`
	Scope   ScopeForm    `json:"scope,omitempty" yaml:"scope,omitempty"`
	Actions []ActionForm `json:"actions" yaml:"actions" maxItems:"20"`
}

// ScopeForm is which keys and versions a rule is about: what all of it says.
type ScopeForm struct {
	Prefix   string            `json:"prefix,omitempty" yaml:"prefix,omitempty" doc:"With which the key begins, byte by byte"`
	Literal  bool              `json:"literal,omitempty" yaml:"literal,omitempty" doc:"The prefix means its * or ? as they stand"`
	Like     []string          `json:"like,omitempty" yaml:"like,omitempty" maxItems:"20" doc:"Keys like one of these: * is any number of characters, also /, ? is one, \\ takes the next as it is"`
	LeaveOut []string          `json:"leaveOut,omitempty" yaml:"leaveOut,omitempty" maxItems:"20" doc:"But not keys like one of these"`
	Tags     map[string]string `json:"tags,omitempty" yaml:"tags,omitempty" doc:"All of these tags"`
	SizeFrom *int64            `json:"sizeFrom,omitempty" yaml:"sizeFrom,omitempty" doc:"Bytes, at least"`
	SizeTo   *int64            `json:"sizeTo,omitempty" yaml:"sizeTo,omitempty" doc:"Bytes, at most"`
	Where    string            `json:"where,omitempty" yaml:"where,omitempty" maxLength:"4000" doc:"An expression as find has it, of what stays as it is while nobody changes the object: key, type, size, changed, md5, crc64, writer, field, tag"`
}

// ActionForm is what a rule does, and when: after days or from a date.
type ActionForm struct {
	Of     string `json:"of" yaml:"of" doc:"current, previous, markers or uploads"`
	Do     string `json:"do" yaml:"do" doc:"move or remove"`
	To     string `json:"to,omitempty" yaml:"to,omitempty" doc:"The tier of a move"`
	Days   *int   `json:"days,omitempty" yaml:"days,omitempty" doc:"Age: of current versions, markers and uploads since they were made, of previous versions since they were replaced"`
	Date   string `json:"date,omitempty" yaml:"date,omitempty" doc:"Instead: from this day on, as 2027-01-31, in UTC"`
	Keep   int    `json:"keep,omitempty" yaml:"keep,omitempty" doc:"Of previous versions: so many newest are left alone"`
	Dearer bool   `json:"dearer,omitempty" yaml:"dearer,omitempty" doc:"The move may go to a dearer tier"`
}

// Words says the action, with what its age is counted from.
func (a ActionForm) Words() string {
	of := map[string]string{"current": "the current version", "previous": "previous versions",
		"markers": "delete markers that hide nothing", "uploads": "unfinished uploads"}[a.Of]
	s := "remove " + of
	switch {
	case a.Do == "move":
		s = "move " + of + " to " + a.To
	case a.Of == "uploads":
		s = "abandon " + of
	case a.Of == "previous":
		s += " for good"
	}
	at := slices.Index(subjectNames[:], a.Of)
	switch {
	case a.Date != "":
		s += " from " + a.Date + " on"
	case a.Days != nil && at >= 0:
		s += fmt.Sprintf(", %d days %s", *a.Days, strings.Replace(Subject(at).Counted(), "since it was", "after being", 1))
	}
	if a.Keep > 0 {
		s += fmt.Sprintf(", but keep the %d newest", a.Keep)
	}
	return s
}
