package cli

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"

	"github.com/goccy/go-yaml"

	"spindle/internal/core/fault"
	"spindle/internal/core/lifecycle"
)

// readRuleForms reads rules written down in JSON or YAML: one, a list of them, or a
// document with a list named rules. Fields that are not known are refused. The error
// has the code rules-document and says where.
func readRuleForms(r io.Reader) ([]lifecycle.Form, error) {
	raw, err := io.ReadAll(io.LimitReader(r, 1<<20+1))
	if err != nil {
		return nil, err
	}
	if len(raw) > 1<<20 {
		return nil, unreadable(errors.New("it has more than 1 MiB"))
	}
	if t := bytes.TrimSpace(raw); len(t) > 0 && (t[0] == '{' || t[0] == '[') && json.Valid(raw) {
		return decodeForms(func(v any) error {
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
	return decodeForms(func(v any) error { return yaml.UnmarshalWithOptions(raw, v, yaml.Strict()) }, list)
}

func decodeForms(read func(any) error, list bool) ([]lifecycle.Form, error) {
	if list {
		var all []lifecycle.Form
		if err := read(&all); err != nil {
			return nil, unreadable(err)
		}
		return all, nil
	}
	var doc struct {
		Rules []lifecycle.Form `json:"rules" yaml:"rules"`
	}
	if err := read(&doc); err == nil {
		return doc.Rules, nil
	}
	var one lifecycle.Form
	if err := read(&one); err != nil {
		return nil, unreadable(err)
	}
	return []lifecycle.Form{one}, nil
}

func unreadable(err error) error {
	return fault.New(fault.Invalid, "rules-document", "the rules cannot be read: %s", err).In("rules").
		Do("write JSON or YAML as `spindle lifecycle show` prints it")
}
