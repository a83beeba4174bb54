package replication

import (
	"testing"
	"time"
)

func TestDoneIn(t *testing.T) {
	const mib = 1 << 20
	for _, x := range []struct {
		waiting, moved int64
		over, want     time.Duration
	}{
		{0, 0, time.Minute, 0},
		{1024 * mib, 0, time.Minute, 0},
		{1024 * mib, 1000, 4 * time.Minute, 0},      // one small object before: nothing is said
		{1024 * mib, 512 * mib, 5 * time.Second, 0}, // a moment alone
		{1024 * mib, 512 * mib, time.Minute, 2 * time.Minute},
		{1 << 50, 1 << 45, time.Minute, 32 * time.Minute},
	} {
		if got := DoneIn(x.waiting, x.moved, x.over); got != x.want {
			t.Errorf("%d waiting, %d moved over %s: %s, want %s", x.waiting, x.moved, x.over, got, x.want)
		}
	}
}
