package usage

import "testing"

func TestMoney(t *testing.T) {
	for _, x := range []struct {
		m      Money
		v      float64
		want   string
		change string
	}{
		{Money{Digits: 2}, 0, "0", "0"},
		{Money{Digits: 2}, 0.00003, "under 0.01", "up under 0.01"},
		{Money{"EUR", 2}, -0.004, "down under 0.01 EUR", "down under 0.01 EUR"},
		{Money{"EUR", 2}, 12.345, "12.35 EUR", "+12.35 EUR"},
		{Money{"JPY", 0}, 1234.4, "1234 JPY", "+1234 JPY"},
		{Money{"EUR", 4}, 0.0312, "0.0312 EUR", "+0.0312 EUR"},
	} {
		if got := x.m.Say(x.v); got != x.want {
			t.Errorf("%v of %+v: %q, want %q", x.v, x.m, got, x.want)
		}
		if got := x.m.SayChange(x.v); got != x.change {
			t.Errorf("a change of %v of %+v: %q, want %q", x.v, x.m, got, x.change)
		}
	}
	for _, m := range []Money{{"euro", 2}, {"EUR", 7}, {"EUR", -1}} {
		if m.Check() == nil {
			t.Errorf("%+v is taken", m)
		}
	}
}
