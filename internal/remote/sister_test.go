package remote_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"spindle/internal/core/fault"
	"spindle/internal/core/region"
	"spindle/internal/remote"
	"spindle/internal/wire/sign"
)

// What a sister tells is looked at like any input: lists that never end or go in a circle, an
// address that is none, names with markup and counts below nothing are refused, and nothing is
// kept of them.
func TestSistersAreNotBelieved(t *testing.T) {
	reach, err := remote.ParseReach([]string{"loopback"})
	if err != nil {
		t.Fatal(err)
	}
	good := map[string]any{"Name": "copies", "Account": "herbarium", "Objects": 3, "Bytes": 9}
	for name, x := range map[string]struct {
		wire    string
		bucket  map[string]any
		account string
		next    func(n int) string
		want    string
	}{
		"a good one": {"http://127.0.0.1:5710", good, "herbarium", nil, ""},
		"a list that never ends": {"http://127.0.0.1:5710", good, "a", func(n int) string {
			return fmt.Sprintf("b%09d",
				n)
		}, "does not end"},
		"a list in a circle":     {"http://127.0.0.1:5710", good, "a", func(int) string { return "same" }, "in a circle"},
		"an address of a script": {"javascript:alert(1)", good, "a", nil, "wire that is none"},
		"a count below nothing": {"http://127.0.0.1:5710", map[string]any{"Name": "copies", "Account": "a",
			"Objects": -1}, "a", nil, "bucket as none"},
		"a name with markup": {"http://127.0.0.1:5710", map[string]any{"Name": "<b>x</b>", "Account": "a"}, "a", nil,
			"bucket as none"},
		"an account with an escape": {"http://127.0.0.1:5710", good, "a\x1b[2J", nil, "account as none"},
	} {
		asked := 0
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			asked++
			page := map[string]any{}
			switch {
			case strings.HasSuffix(r.URL.Path, "/region"):
				page = map[string]any{"service": "service-one", "name": "fenn", "wire": x.wire}
			case strings.HasSuffix(r.URL.Path, "/region/buckets"):
				page["Buckets"] = []any{x.bucket}
				if x.next != nil {
					page["Next"] = x.next(asked)
				}
			default:
				page["Accounts"] = []any{map[string]any{"Name": x.account, "Admitted": true}}
			}
			_ = json.NewEncoder(w).Encode(page)
		}))
		sister := remote.NewPool(nil, nil, reach).SisterAt("fenn", s.URL, sign.Credential{ID: "K", Secret: "S"})
		told, err := sister.Hear(t.Context(), &region.Region{Name: "fenn", Service: "service-one"})
		switch {
		case x.want == "" && (err != nil || len(told.Buckets) != 1 || len(told.Admitted) != 1):
			t.Errorf("%s: %+v, %v", name, told, err)
		case x.want != "" && (err == nil || !strings.Contains(fault.From(err).Message, x.want)):
			t.Errorf("%s: %v", name, err)
		}
		if asked > 110 {
			t.Errorf("%s was asked %d times", name, asked)
		}
		sister.Close()
		s.Close()
	}
}
