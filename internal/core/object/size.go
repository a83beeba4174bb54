package object

import (
	"math"
	"strconv"
	"strings"

	"spindle/internal/core/fault"
)

// units of bytes: those of IEC 80000-13 by 1024, those of the SI by 1000.
var units = map[string]float64{"": 1, "b": 1, "kib": 1 << 10, "mib": 1 << 20, "gib": 1 << 30, "tib": 1 << 40,
	"pib": 1 << 50,
	"kb":  1e3, "mb": 1e6, "gb": 1e9, "tb": 1e12, "pb": 1e15}

// IsUnit reports whether a word is a unit of bytes.
func IsUnit(s string) bool { return s != "" && units[strings.ToLower(s)] > 0 }

// ParseSize reads a number of bytes such as 500000, 1.5MiB or 2 GB, up to 2^62. The error
// has the code size.
func ParseSize(s string) (int64, error) {
	s = strings.TrimSpace(s)
	digits := len(s) - len(strings.TrimLeft(s, "0123456789."))
	unit, ok := units[strings.ToLower(strings.TrimSpace(s[digits:]))]
	n, err := strconv.ParseFloat(s[:digits], 64)
	if n *= unit; err != nil || !ok || n > 1<<62 {
		return 0, fault.New(fault.Invalid, "size", "%q is no size", s).Do("give it as 500000, 400MiB or 2TB")
	}
	return int64(math.Round(n)), nil
}
