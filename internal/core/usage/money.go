package usage

import (
	"math"
	"regexp"
	"strconv"
	"strings"

	"spindle/internal/core/fault"
)

// Money is how sums are told.
type Money struct {
	Currency string // ISO 4217, such as EUR; "" for none
	Digits   int    // after the point, 0 to 6
}

var currency = regexp.MustCompile(`^[A-Z]{3}$`)

// Check refuses what is no currency or no number of digits. The errors have the codes currency and
// currency-digits.
func (m Money) Check() error {
	switch {
	case m.Currency != "" && !currency.MatchString(m.Currency):
		return fault.New(fault.Invalid, "currency", "%q is no currency", m.Currency).In("currency").
			Do("give its three letters, such as EUR (ISO 4217)")
	case m.Digits < 0 || m.Digits > 6:
		return fault.New(fault.Invalid, "currency-digits", "sums have 0 to 6 digits after the point, not %d", m.Digits).
			In("currency-digits").Do("leave it out for 2")
	}
	return nil
}

// Say writes a sum. What is less than a unit of the last digit says so: no cost looks like none.
func (m Money) Say(v float64) string {
	unit := math.Pow10(-m.Digits)
	says := strconv.FormatFloat(v, 'f', m.Digits, 64)
	switch {
	case v == 0:
		says = "0"
	case v > 0 && v < unit:
		says = "under " + strconv.FormatFloat(unit, 'f', m.Digits, 64)
	case v < 0 && v > -unit:
		says = "down under " + strconv.FormatFloat(unit, 'f', m.Digits, 64)
	}
	if m.Currency != "" && v != 0 {
		says += " " + m.Currency
	}
	return says
}

// SayChange writes by how much a sum changes.
func (m Money) SayChange(v float64) string {
	says := m.Say(v)
	if rest, little := strings.CutPrefix(says, "under "); little {
		return "up under " + rest
	}
	if v > 0 {
		return "+" + says
	}
	return says
}
