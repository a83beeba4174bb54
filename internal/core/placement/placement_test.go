package placement

import (
	"strings"
	"testing"

	"spindle/internal/core/fault"
)

func TestChoose(t *testing.T) {
	free := Policy{Account: "a", Offered: []string{"plain", "safe"}, Default: "plain"}
	fixed := Policy{Account: "a", Offered: []string{"plain", "safe"}, Default: "safe", Fixed: true, By: "person olu"}
	none := Policy{Account: "a"}
	for _, x := range []struct {
		p           Policy
		asked, tier string
		oper        bool
		want, code  string
	}{
		{free, "", "", false, "plain", ""},
		{free, "safe", "", false, "safe", ""},
		{free, "", "cellar", false, "", ""}, // a tier of one's own choice
		{free, "secret", "", false, "", "placement-missing"},
		{free, "secret", "", true, "secret", ""},
		{fixed, "", "", false, "safe", ""},
		{fixed, "safe", "", false, "safe", ""},
		{fixed, "plain", "", false, "", "placement-fixed"},
		{fixed, "", "cellar", false, "", "placement-fixed"},
		{fixed, "safe", "cellar", false, "", "placement-fixed"},
		{fixed, "plain", "", true, "plain", ""},
		{none, "", "", false, "", ""},
		{none, "plain", "", false, "", "placement-missing"},
	} {
		got, err := x.p.Choose(x.asked, x.tier, x.oper)
		if got != x.want || x.code == "" && err != nil || x.code != "" && !fault.HasCode(err, x.code) {
			t.Errorf("%+v, %q and %q: %q, %v", x.p, x.asked, x.tier, got, err)
		}
	}
	_, err := fixed.Choose("plain", "", false)
	if f := fault.From(err); !strings.Contains(f.Message, "person olu") || f.Remedy == "" {
		t.Errorf("who fixed it is not told: %v", f)
	}
}

func TestCheck(t *testing.T) {
	for name, ok := range map[string]bool{"safe": true, "s": false, "Safe": false, "4-copies": false, "safe-": false} {
		p := Placement{Name: name}
		if err := p.Check(); (err == nil) != ok {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := (&Placement{Name: "x", Note: strings.Repeat("x", 501)}).Check(); !fault.HasCode(err, "placement-name") ||
		!strings.Contains(err.Error(), "note") {
		t.Errorf("all that is wrong: %v", err)
	}
	p := Placement{Accounts: []string{"a"}}
	if !p.OfferedTo("a") || p.OfferedTo("b") {
		t.Error("offered to another")
	}
}
