package object

import "testing"

func TestSizes(t *testing.T) {
	for s, want := range map[string]int64{"0": 0, "500000": 500_000, "1.5MiB": 3 << 19, "2 GB": 2_000_000_000,
		"10kib": 10 << 10,
		" 7 b ": 7, "4PiB": 4 << 50, "": -1, "MiB": -1, "1.2.3": -1, "-1": -1, "5 miles": -1, "9999999PiB": -1, "1e9": -1} {
		if got, err := ParseSize(s); (err == nil) != (want >= 0) || err == nil && got != want {
			t.Errorf("%q is %d, %v", s, got, err)
		}
	}
	if !IsUnit("MiB") || IsUnit("") || IsUnit("miles") {
		t.Error("units")
	}
}
