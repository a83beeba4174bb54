package sign

import (
	"net/http"
	"testing"
)

func BenchmarkVerify(b *testing.B) {
	r, err := http.NewRequest(http.MethodGet, "http://127.0.0.1:5710/plates/2019/calluna/plate-0000123.jpg", nil)
	if err != nil {
		b.Fatal(err)
	}
	r.Header.Set("Accept-Encoding", "identity")
	r.Header.Set("User-Agent", "bench")
	Sign(r, cred, "fenn", EmptyHash, at)
	b.ReportAllocs()
	for b.Loop() {
		a, err := Parse(r)
		if err != nil {
			b.Fatal(err)
		}
		if err := a.Verify(r, cred.Secret, at); err != nil {
			b.Fatal(err)
		}
	}
}
