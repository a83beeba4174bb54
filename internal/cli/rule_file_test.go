package cli

import (
	"reflect"
	"strings"
	"testing"

	"spindle/internal/core/fault"
	"spindle/internal/core/lifecycle"
)

// TestRulesAreReadBothWays reads JSON and YAML, and refuses what it does not know.
func TestRulesAreReadBothWays(t *testing.T) {
	days := 730
	want := []lifecycle.Form{{Name: "old", Scope: lifecycle.ScopeForm{Prefix: "plates/", Like: []string{"*.tif"}},
		Actions: []lifecycle.ActionForm{{Of: "current", Do: "move", To: "cellar", Days: &days}}}}
	for _, text := range []string{
		`{"name":"old","scope":{"prefix":"plates/","like":["*.tif"]},"actions":[{"of":"current","do":"move","to":"cellar","days":730}]}`,
		`{"rules":[{"name":"old","scope":{"prefix":"plates/","like":["*.tif"]},"actions":[{"of":"current","do":"move","to":"cellar","days":730}]}]}`,
		"name: old\nscope:\n  prefix: plates/\n  like: ['*.tif']\nactions:\n- {of: current, do: move, to: cellar, days: 730}\n",
		"- name: old\n  scope: {prefix: plates/, like: ['*.tif']}\n  actions:\n  - {of: current, do: move, to: cellar, days: 730}\n",
	} {
		got, err := readRuleForms(strings.NewReader(text))
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s: %+v, %v", text, got, err)
		}
	}
	for _, text := range []string{"", "{", `{"name":"old","colour":"red","actions":[]}`, "name: old\ncolour: red\n",
		"- 3\n",
		"name: [", strings.Repeat("x", 2<<20)} {
		if _, err := readRuleForms(strings.NewReader(text)); !fault.HasCode(err, "rules-document") {
			t.Errorf("%.20q: %v", text, err)
		}
	}
}
