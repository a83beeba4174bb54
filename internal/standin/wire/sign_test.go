package wire_test

import (
	"net/http/httptest"
	"os/exec"
	"strings"
	"testing"
	"time"

	"spindle/internal/standin/hold"
	"spindle/internal/standin/wire"
)

// An independent signer, curl's, is understood, and another secret is not.
func TestSignatures(t *testing.T) {
	h, err := hold.Open("")
	if err != nil {
		t.Fatal(err)
	}
	s := httptest.NewServer(&wire.Server{Hold: h, Moods: wire.NewMoods(1, wire.Faults{}), Region: "lowland",
		Keys: map[string]string{"MILL": "sieve"}})
	defer s.Close()
	if err := h.Make("mill", time.Now()); err != nil {
		t.Fatal(err)
	}
	for _, x := range []struct{ user, region, want string }{
		{"MILL:sieve", "lowland", "<Name>mill</Name>"},
		{"MILL:another", "lowland", "SignatureDoesNotMatch"},
		{"NOBODY:sieve", "lowland", "InvalidAccessKeyId"},
		{"MILL:sieve", "coast", "<Region>lowland</Region>"},
	} {
		out, err := exec.Command("curl", "-s", "--aws-sigv4", "aws:amz:"+x.region+":s3", "--user", x.user,
			s.URL+"/?x-id=a%20b").CombinedOutput()
		if err != nil || !strings.Contains(string(out), x.want) {
			t.Errorf("%s in %s: %s, %v", x.user, x.region, out, err)
		}
	}
}
