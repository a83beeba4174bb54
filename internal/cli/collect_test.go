package cli

import "testing"

func TestMemoryIsCollectedByNeed(t *testing.T) {
	for live, want := range map[uint64]int{0: 400, 10 << 20: 400, 16 << 20: 400, 32 << 20: 200, 64 << 20: 100,
		1 << 30: 100} {
		if got := growth(live); got != want {
			t.Errorf("of %d MiB: %d %%, not %d", live>>20, got, want)
		}
	}
}
