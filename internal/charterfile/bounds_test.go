package charterfile

import (
	"fmt"
	"runtime"
	"strings"
	"testing"

	"spindle/internal/core/charter"
	"spindle/internal/core/fault"
)

// Variables that multiply, and files of many names, take memory by what they come to, which has
// a bound, and not more.
func TestWhatVariablesComeToIsBounded(t *testing.T) {
	var keys strings.Builder
	keys.WriteString("buckets:\n")
	for i := range 32_000 {
		fmt.Fprintf(&keys, "  k%d: 1\n", i)
	}
	fields := []string{}
	for i := range 2000 {
		fields = append(fields, fmt.Sprintf("f%d: 1", i))
	}
	wide := "variables:\n  v: {" + strings.Join(fields[:500], ", ") + "}\nbuckets:\n"
	for i := range 1000 {
		wide += fmt.Sprintf("  b%d: '${v}'\n", i)
	}
	long := "variables:\n  v: |\n" + strings.Repeat("    "+strings.Repeat("x", 7000)+"\n", 8) + "notes:\n"
	for range 300 {
		long += "- '" + strings.Repeat("${v}", 110) + "'\n"
	}
	for name, x := range map[string]struct {
		text string
		bad  bool
	}{"many names": {keys.String(), false}, "a map used often": {wide, true}, "a long text used often": {long, true},
		"itself": {"variables: {v: '${v}${v}'}\na: '${v}'\n", false}} {
		var was, is runtime.MemStats
		runtime.ReadMemStats(&was)
		_, err := Read([]charter.Source{{Name: "a.yaml", Text: x.text}}, nil, none)
		runtime.ReadMemStats(&is)
		if (err != nil) != x.bad || err != nil && !strings.Contains(fault.All(err)[0].Message, "variables put in") {
			t.Errorf("%s: %v", name, err)
		}
		if took := (is.TotalAlloc - was.TotalAlloc) >> 20; took > 64 {
			t.Errorf("%s took %d MiB", name, took)
		}
	}
}
