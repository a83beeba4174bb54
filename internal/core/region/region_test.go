package region

import (
	"strings"
	"testing"

	"spindle/internal/core/fault"
)

func TestChoose(t *testing.T) {
	known := []string{"moor", "south"}
	for _, x := range []struct {
		a           Admission
		asked       string
		want, code  string
		alsoContain string
	}{
		{Admission{Own: "fenn", Here: true}, "", "fenn", "", ""},
		{Admission{Own: "fenn", Here: true, Default: "moor", There: []string{"moor"}}, "", "moor", "", ""},
		{Admission{Own: "fenn", Here: true, There: []string{"moor"}}, "moor", "moor", "", ""},
		{Admission{Own: "fenn", Here: true, There: []string{"moor"}}, "south", "", "account-not-admitted", "fenn, moor"},
		{Admission{Own: "fenn", There: []string{"moor"}}, "", "", "account-not-admitted", "moor"},
		{Admission{Own: "fenn"}, "", "", "account-not-admitted", "nowhere"},
		{Admission{Own: "fenn", Here: true}, "north", "", "region-missing", "fenn, moor, south"},
		{Admission{Own: "fenn", Here: true, Default: "gone"}, "", "", "region-missing", ""},
	} {
		got, err := x.a.Choose(x.asked, known)
		if got != x.want || x.code == "" && err != nil || x.code != "" && !fault.HasCode(err, x.code) ||
			err != nil && !strings.Contains(fault.From(err).Remedy, x.alsoContain) {
			t.Errorf("%+v, %q: %q, %v", x.a, x.asked, got, err)
		}
	}
}

func TestCheck(t *testing.T) {
	r := Region{Name: "Moor!", Desk: "moor:5711/x", Note: strings.Repeat("x", 501)}
	err := r.Check()
	for _, want := range []string{"no name of a region", "no address", "no key", "at most 500"} {
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q is missing in: %v", want, err)
		}
	}
	good := Region{Name: "moor", Desk: "https://Desk.Moor.example/", KeyID: "OPERATOR"}
	if err := good.Check(); err != nil || good.Desk != "https://desk.moor.example" {
		t.Errorf("%q, %v", good.Desk, err)
	}
}
