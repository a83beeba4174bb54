package endpoint

import (
	"testing"

	"spindle/internal/core/fault"
)

// Addresses come back as they were.
func TestAddresses(t *testing.T) {
	for s, want := range map[string]Address{
		"plates":                {Bucket: "plates"},
		"plates/2019/a.tif":     {Bucket: "plates", Key: "2019/a.tif"},
		"plates//double/":       {Bucket: "plates", Key: "/double/"},
		"@annex":                {Endpoint: "annex"},
		"@annex/plates":         {Endpoint: "annex", Bucket: "plates"},
		"@annex/plates/@k/docs": {Endpoint: "annex", Bucket: "plates", Key: "@k/docs"},
		"@annex/plates/docs/":   {Endpoint: "annex", Bucket: "plates", Key: "docs/"},
	} {
		a, err := ParseAddress(s)
		if err != nil || a != want || a.String() != s {
			t.Errorf("%q is %+v, %q, %v", s, a, a, err)
		}
	}
	for s, code := range map[string]string{"": "address", "/key": "address", "@": "endpoint-name",
		"@Annex/b": "endpoint-name",
		"@annex/B": "bucket-name", "ab/k": "bucket-name"} {
		if _, err := ParseAddress(s); !fault.HasCode(err, code) {
			t.Errorf("%q: %v, want %s", s, err, code)
		}
	}
}

// An endpoint's address is scheme and host; all that is wrong is said at once.
func TestCheck(t *testing.T) {
	for s, want := range map[string]string{"https://Store.Example": "https://store.example",
		" http://127.0.0.1:5721/ ": "http://127.0.0.1:5721",
		"ftp://x":                  "", "https://user:secret@x": "", "https://x/path": "", "https://x?q=1": "",
		"x": "", "https://": ""} {
		if got, err := ParseURL(s); got != want || (err == nil) != (want != "") {
			t.Errorf("%q is %q, %v", s, got, err)
		}
	}
	bad := Endpoint{Name: "A", URL: "x", Region: "No Region", Style: "odd", KeyID: "a b", Bandwidth: 5, Probe: "B"}
	got := map[string]bool{}
	for _, f := range fault.All(bad.Check()) {
		got[f.Code] = true
	}
	for _, code := range []string{"endpoint-name", "endpoint-url", "endpoint-region", "style", "endpoint-key",
		"endpoint-bandwidth", "bucket-name"} {
		if !got[code] {
			t.Errorf("%s is not said", code)
		}
	}
	a := Abilities{Copies: false, Tags: true}
	if a.Can(Copies) || !a.Can(Tags) || !a.Can(Multipart) {
		t.Error("what is not known is taken for missing, or what is missing for there")
	}
}
