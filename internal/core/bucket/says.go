package bucket

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Says tells in words what changed, from the record of a change: what Differences gave, as JSON
// keeps it. A setting without words of its own is told by its name and value.
func Says(changed map[string]any) string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(changed)) {
		out = append(out, says(name, changed[name]))
	}
	return strings.Join(out, "; ")
}

func says(name string, v any) string {
	number, isNumber := v.(float64)
	switch {
	case name == "abandonAfter" && v == nil:
		return "unfinished uploads are kept"
	case name == "abandonAfter":
		return fmt.Sprintf("unfinished uploads are abandoned after %v days", v)
	case v == nil:
		return name + " taken away"
	case name == "quota" && isNumber:
		return "quota " + grouped(int64(number)) + " bytes"
	case name == "sealing":
		return "encryption at rest " + onOff(v)
	case name == "journal paused":
		return "journal " + map[string]string{"on": "paused", "off": "goes on"}[onOff(v)]
	case name == "journal days" && number == 0:
		return "journal kept for good"
	case name == "journal days":
		return fmt.Sprintf("journal kept for %v days", v)
	case name == "required":
		list, _ := v.([]any)
		return fmt.Sprintf("required metadata: %d fields", len(list))
	case name == "tags":
		tags, _ := v.(map[string]any)
		return fmt.Sprintf("tags: %d", len(tags))
	case v == "":
		return name + " taken away"
	}
	return fmt.Sprintf("%s %v", name, v)
}

func onOff(v any) string {
	if v == true {
		return "on"
	}
	return "off"
}

// grouped writes a number with a comma before each three digits.
func grouped(n int64) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}
