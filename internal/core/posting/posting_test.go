package posting_test

import (
	"testing"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/core/posting"
)

// The signature is the one that openssl gives for the same base.
func TestSign(t *testing.T) {
	signed := posting.Sign("https://hooks.example/in?x=1", []byte("[]"), "tell", "linen thread", time.Unix(1800000000, 0))
	for name, want := range map[string]string{
		"Content-Digest":  "sha-256=:T1PNoYwrqgwDVLtfmj7L5e0Sq02OEbqHPC8RFhICuUU=:",
		"Signature-Input": `spindle=("@method" "@target-uri" "content-type" "content-digest");created=1800000000;keyid="tell";alg="hmac-sha256"`,
		"Signature":       "spindle=:zCfVtj0X6e6LYO7THSIQ6XNZNtCnze2iDpnL56xSTtw=:",
	} {
		if got := signed[name]; got != want {
			t.Errorf("%s: %s, want %s", name, got, want)
		}
	}
}

func TestCheck(t *testing.T) {
	for _, bad := range []posting.Post{{Name: "tell", URL: "ftp://x/y"}, {Name: "tell", URL: "https://a:b@x/y"},
		{Name: "T", URL: "https://x/y"},
		{Name: "tell", URL: "https:///y"}, {Name: "tell", URL: "%"}} {
		if err := bad.Check(); fault.From(err).Code == "" || err == nil {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	if err := (&posting.Post{Name: "tell", URL: "https://x.example/y"}).Check(); err != nil {
		t.Error(err)
	}
}
