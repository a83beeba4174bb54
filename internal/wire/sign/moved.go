package sign

import (
	"net/http"
	"slices"
	"strings"
	"unicode"

	"spindle/internal/core/fault"
)

// own are the parameters of a link that are about its signature.
var own = []string{"X-Amz-Algorithm", "X-Amz-Credential", "X-Amz-Date", "X-Amz-Expires", "X-Amz-SignedHeaders",
	"X-Amz-Signature", HeaderPayload}

// MovedHeaders makes headers of the dialect's headers that stand in the query, where
// signers of links put them: they count as if they had been sent. Call it once the
// signature is verified. The errors have the codes header-twice, for one that was
// sent as well, and header-malformed.
func MovedHeaders(r *http.Request) error {
	for part := range strings.SplitSeq(r.URL.RawQuery, "&") {
		name, value, _ := strings.Cut(part, "=")
		name, value = unescape(name), unescape(value)
		if len(name) < 6 || !strings.EqualFold(name[:6], "x-amz-") || slices.Contains(own, name) {
			continue
		}
		if !headerText(name) || !headerText(value) {
			return fault.New(fault.Invalid, "header-malformed",
				"the parameter stands for a header, and has characters that no header may have").In(name).
				Do("send it as a header, or leave it out")
		}
		key := http.CanonicalHeaderKey(name)
		if len(r.Header[key]) > 0 {
			return twice(key, 2)
		}
		r.Header[key] = []string{value}
	}
	return nil
}

func headerText(s string) bool { return !strings.ContainsFunc(s, unicode.IsControl) }
