package harness

import (
	"fmt"
	"os"
	"testing"
)

// Seeds gives the seeds that a model is run with: 1 to n, or those of SPINDLE_SEEDS, which are
// written as FIRST-LAST.
func Seeds(t testing.TB, n uint64) (out []uint64) {
	first, last := uint64(1), n
	if s := os.Getenv("SPINDLE_SEEDS"); s != "" {
		if _, err := fmt.Sscanf(s, "%d-%d", &first, &last); err != nil {
			t.Fatalf("SPINDLE_SEEDS=%q: %v; give the first and the last, such as 100-200", s, err)
		}
	}
	for seed := first; seed <= last; seed++ {
		out = append(out, seed)
	}
	return out
}
