package catalog

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"spindle/internal/core/object"
)

// changedIn is the part of a trail entry's detail that names the settings that changed.
const changedIn = "changed"

// settingWords are the settings whose names here are not those that the desk and charters give
// them, of one type or of all; "" for what is no setting.
var settingWords = map[string]string{
	"Endpoint.KeyID": "key", "Endpoint.Sealed": "secret", "Endpoint.Probe": "bucket", "Endpoint.Health": "",
	"Tier.Stay": "shortestStay", "Rule.Markers": "deleteMarkers", "Rule.Lag": "lagTarget", "Rule.Paused": "",
	"Spec.OlderBy": "older", "Spec.NewerBy": "newer", "Spec.Limits": "bandwidth", "Spec.Seals": "",
	"Guard.Share": "guardShare", "Guard.Most": "guardMost", "GrantRow.Rights": "for", "Account.Fixed": "placementFixed",
	"Job.Secret": "", "Job.FromMark": "", "Job.ToMark": "", "URL": "url",
	"By": "", "Who": "", "Source": "", "Revision": "", "Changed": "", "Next": "",
}

// settingsChanged names the settings in which a thing differs from what it was, in order, as the
// desk and charters name them. Of tags each is named by itself: tags.kind.
func settingsChanged[T any](was, is T) []string {
	out := map[string]bool{}
	changedFields(reflect.ValueOf(was), reflect.ValueOf(is), out)
	return slices.Sorted(maps.Keys(out))
}

func changedFields(was, is reflect.Value, out map[string]bool) {
	for i := range was.NumField() {
		f := was.Type().Field(i)
		a, b := was.Field(i), is.Field(i)
		switch {
		case f.Anonymous || f.Name == "Guard":
			changedFields(a, b, out)
		case f.Type == reflect.TypeFor[object.Tags]():
			for _, name := range mapChanges(a.Interface().(object.Tags), b.Interface().(object.Tags)) {
				out["tags."+name] = true
			}
		case !sameSetting(a.Interface(), b.Interface()):
			if name := settingWord(was.Type().Name(), f.Name); name != "" {
				out[name] = true
			}
		}
	}
}

func settingWord(of, field string) string {
	for _, name := range []string{of + "." + field, field} {
		if w, ok := settingWords[name]; ok {
			return w
		}
	}
	return strings.ToLower(field[:1]) + field[1:]
}

// sameSetting compares what is written as a text by how it is written.
func sameSetting(a, b any) bool {
	if x, ok := a.(fmt.Stringer); ok && reflect.TypeOf(a).Kind() != reflect.Pointer {
		return x.String() == b.(fmt.Stringer).String()
	}
	return reflect.DeepEqual(a, b)
}

// mapChanges names what differs between two maps, in order.
func mapChanges[M ~map[string]V, V any](was, is M) (out []string) {
	all := maps.Clone(is)
	if all == nil {
		all = M{}
	}
	maps.Copy(all, was)
	for _, name := range slices.Sorted(maps.Keys(all)) {
		a, before := was[name]
		b, now := is[name]
		if before != now || !reflect.DeepEqual(a, b) {
			out = append(out, name)
		}
	}
	return out
}
