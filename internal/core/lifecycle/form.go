package lifecycle

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"

	"github.com/goccy/go-yaml"

	"spindle/internal/core/fault"
)

// Form is a rule as it is written down, in JSON or YAML, by people and programs. It may
// be anything; Parse makes a Rule of it.
type Form struct {
	Name    string       `json:"name" yaml:"name" doc:"Lower-case letters, digits and hyphens"`
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
}

// ActionForm is what a rule does, and when: after days or from a date.
type ActionForm struct {
	Of     string `json:"of" yaml:"of" enum:"current,previous,markers,uploads"`
	Do     string `json:"do" yaml:"do" enum:"move,remove"`
	To     string `json:"to,omitempty" yaml:"to,omitempty" doc:"The tier of a move"`
	Days   *int   `json:"days,omitempty" yaml:"days,omitempty" doc:"Age: of current versions, markers and uploads since they were made, of previous versions since they were replaced"`
	Date   string `json:"date,omitempty" yaml:"date,omitempty" doc:"Instead: from this day on, as 2027-01-31, in UTC"`
	Keep   int    `json:"keep,omitempty" yaml:"keep,omitempty" doc:"Of previous versions: so many newest are left alone"`
	Dearer bool   `json:"dearer,omitempty" yaml:"dearer,omitempty" doc:"The move may go to a dearer tier"`
}

// ReadForms reads rules written down in JSON or YAML: one, a list of them, or a
// document with a list named rules. Fields that are not known are refused. The error
// has the code rules-document and says where.
func ReadForms(r io.Reader) ([]Form, error) {
	raw, err := io.ReadAll(io.LimitReader(r, 1<<20+1))
	if err != nil {
		return nil, err
	}
	if len(raw) > 1<<20 {
		return nil, unreadable(errors.New("it has more than 1 MiB"))
	}
	if t := bytes.TrimSpace(raw); len(t) > 0 && (t[0] == '{' || t[0] == '[') && json.Valid(raw) {
		return readForms(func(v any) error {
			d := json.NewDecoder(bytes.NewReader(raw))
			d.DisallowUnknownFields()
			return d.Decode(v)
		}, t[0] == '[')
	}
	if len(bytes.TrimSpace(raw)) == 0 {
		return nil, unreadable(errors.New("it is empty"))
	}
	var shape any
	if err := yaml.Unmarshal(raw, &shape); err != nil {
		return nil, unreadable(err)
	}
	_, list := shape.([]any)
	return readForms(func(v any) error { return yaml.UnmarshalWithOptions(raw, v, yaml.Strict()) }, list)
}

func readForms(read func(any) error, list bool) ([]Form, error) {
	if list {
		var all []Form
		if err := read(&all); err != nil {
			return nil, unreadable(err)
		}
		return all, nil
	}
	var doc struct {
		Rules []Form `json:"rules" yaml:"rules"`
	}
	if err := read(&doc); err == nil {
		return doc.Rules, nil
	}
	var one Form
	if err := read(&one); err != nil {
		return nil, unreadable(err)
	}
	return []Form{one}, nil
}

func unreadable(err error) error {
	return fault.New(fault.Invalid, "rules-document", "the rules cannot be read: %s", err).In("rules").
		Do("write JSON or YAML as `spindle lifecycle show` prints it")
}
