package jobs

import (
	"fmt"
	"slices"
	"time"

	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/query"
	"spindle/internal/core/replication"
	"spindle/internal/core/syncing"
)

// What can be written in several ways is compared in one: sizes as bytes, times as seconds,
// addresses, expressions and moments as the desk tells them.

// settled says, of fields by their names, how a value is written in one way.
var settled = map[string]func(any) (any, error){
	"quota": bytesOf, "sizeFrom": bytesOf, "sizeTo": bytesOf, "bandwidth": bandwidthOf, "older": secondsOf,
	"newer":   secondsOf,
	"expires": dayOf, "targets": eachOf(targetOf), "rules": eachOf(ruleOf), "volumes": sortedOf,
}

// settledOf are those of one kind.
var settledOf = map[string]map[string]func(any) (any, error){
	"sync job":         {"from": placeOf, "to": placeOf, "where": scopeOf},
	"census":           {"from": placeOf, "to": placeOf},
	"replication rule": {"where": scopeOf},
	"placement":        {"accounts": sortedOf},
}

// settleAll writes the fields of a thing in one way; bad hears of what cannot be read, by
// field.
func settleAll(kind string, fields map[string]any, bad func(field string, err error)) {
	for name, v := range fields {
		f := settledOf[kind][name]
		if f == nil {
			f = settled[name]
		}
		if f == nil || v == nil {
			continue
		}
		w, err := f(v)
		if err != nil {
			if bad != nil {
				bad(name, err)
			}
			continue
		}
		fields[name] = w
	}
}

// bytesOf reads a size; "" is none.
func bytesOf(v any) (any, error) {
	s, ok := v.(string)
	if !ok {
		return v, nil
	}
	if s == "" {
		return nil, nil
	}
	n, err := object.ParseSize(s)
	return float64(n), err
}

// bandwidthOf reads that of an endpoint, or those of a job by time of day.
func bandwidthOf(v any) (any, error) {
	list, ok := v.([]any)
	if !ok {
		return bytesOf(v)
	}
	for i, x := range list {
		l, err := syncing.ParseLimit(plainText(x))
		if err != nil {
			return nil, err
		}
		list[i] = l.String()
	}
	return list, nil
}

func secondsOf(v any) (any, error) {
	s, ok := v.(string)
	if !ok {
		return v, nil
	}
	d, err := object.ParseDuration(s)
	return d.Seconds(), err
}

// dayOf reads a moment; times from now are none that could be compared.
func dayOf(v any) (any, error) {
	s := plainText(v)
	for _, form := range []string{time.RFC3339Nano, time.DateOnly} {
		if t, err := time.Parse(form, s); err == nil {
			return t.UTC().Format(time.RFC3339), nil
		}
	}
	if s == "" {
		return nil, nil
	}
	return nil, fault.New(fault.Invalid, "expires", "%q is no day", s).In("expires").Do("give it as 2027-01-31")
}

func placeOf(v any) (any, error) {
	s := plainText(v)
	if s == "" {
		return nil, nil
	}
	p, err := syncing.ParsePlace(s)
	return p.String(), err
}

func scopeOf(v any) (any, error) {
	s, err := query.ParseScope(plainText(v), time.Now(), query.Lasting)
	return s.String(), err
}

func eachOf(f func(map[string]any) error) func(any) (any, error) {
	return func(v any) (any, error) {
		list, _ := v.([]any)
		for i, x := range list {
			m, ok := x.(map[string]any)
			if !ok {
				continue
			}
			if err := f(m); err != nil {
				return nil, fmt.Errorf("%d: %w", i+1, err)
			}
		}
		return list, nil
	}
}

// targetOf leaves of a replication target what can be declared.
func targetOf(m map[string]any) error {
	a, err := endpoint.ParseAddress(plainText(m["address"]))
	if err != nil {
		return err
	}
	for name, v := range m {
		if !slices.Contains([]string{"address", "class", "sealed"}, name) || v == "" || v == false {
			delete(m, name)
		}
	}
	m["address"] = (&replication.Target{Endpoint: a.Endpoint, Bucket: a.Bucket, Prefix: a.Key}).Address()
	return nil
}

func ruleOf(m map[string]any) error {
	scope, _ := m["scope"].(map[string]any)
	if scope["where"] != nil {
		w, err := scopeOf(scope["where"])
		if err != nil {
			return err
		}
		scope["where"] = w
	}
	return nil
}

func sortedOf(v any) (any, error) {
	list, ok := v.([]any)
	if ok {
		slices.SortFunc(list, func(a, b any) int {
			switch x, y := plainText(a), plainText(b); {
			case x < y:
				return -1
			case x > y:
				return 1
			}
			return 0
		})
	}
	return v, nil
}
