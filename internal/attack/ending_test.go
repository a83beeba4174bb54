package attack

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"spindle/internal/api"
	"spindle/internal/core/access"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/standin"
	"spindle/internal/wire/sign"
)

// pouring gives bytes for some ten seconds, unless it is not read any more.
type pouring struct{ left int }

const poured = 100

func (p *pouring) Read(b []byte) (int, error) {
	if p.left == 0 {
		return 0, io.EOF
	}
	time.Sleep(100 * time.Millisecond)
	p.left--
	n := min(len(b), 4<<10)
	clear(b[:n])
	return n, nil
}

// TestTransfersEndWithRights takes rights away in the middle of uploads and downloads by the desk, here and at an
// endpoint, and of a copy between them: each ends within seconds, and nothing of it is kept.
func TestTransfersEndWithRights(t *testing.T) {
	s := harness.Service(t, func(cfg *service.Config) { cfg.Reach, cfg.SlowAfter = []string{"loopback"}, 20*time.Second })
	must(t, s, owner, "POST", "/api/v1/buckets", `{"name":"plates","versioning":"on"}`)
	there, c := harness.Standin(t, standin.Faults{}, "kept")
	s.Endpoint("herbarium", "annex", there.URL, sign.Credential{ID: harness.StandinKey, Secret: harness.StandinSecret})
	large := strings.Repeat("0123456789abcdef", 1<<20) // 16 MiB
	wire(t, s, owner, "PUT", "/plates/large", large, 200)
	if err := there.Set(standin.Faults{Bandwidth: 1 << 20}); err != nil {
		t.Fatal(err)
	}
	const there2 = "/api/v1/endpoints/annex/buckets/kept/body?key="
	put := func(path string) *http.Request {
		r := newCall(t, s, "PUT", path, "").r
		r.Body, r.ContentLength = io.NopCloser(&pouring{poured}), poured*4<<10
		r.Header.Set("Content-Type", "application/octet-stream")
		return r
	}
	copies := func(from, to string) *http.Request {
		body := fmt.Sprintf(`{"from":%q,"to":%q}`, from, to)
		r := newCall(t, s, "POST", "/api/v1/copies", body).r
		r.ContentLength = int64(len(body))
		return r
	}
	for name, one := range map[string]*http.Request{
		"an upload":             put("/api/v1/buckets/plates/body?key=up"),
		"an upload there":       put(there2 + "up"),
		"a copy to an endpoint": copies("plates/large", "@annex/kept/copy"),
	} {
		for _, ends := range []string{"removed", "demoted"} {
			t.Run(name+" of a key that is "+ends, func(t *testing.T) {
				t.Parallel()
				key := s.NewKey("herbarium", "clerk", access.Administrator, nil)
				mine := one.Clone(t.Context())
				mine.URL.RawQuery = strings.ReplaceAll(mine.URL.RawQuery, "key=up", "key=up-"+ends)
				if one.Method == "PUT" {
					mine.Body = io.NopCloser(&pouring{poured})
				}
				sum := sha256.Sum256(nil)
				if one.Method == "POST" {
					b := fmt.Sprintf(`{"from":"plates/large","to":"@annex/kept/copy-%s"}`, ends)
					sum = sha256.Sum256([]byte(b))
					mine.Body, mine.ContentLength = io.NopCloser(strings.NewReader(b)), int64(len(b))
				}
				sign.SignDesk(mine, key, "fenn", hex.EncodeToString(sum[:]), time.Now())
				time.AfterFunc(700*time.Millisecond, func() {
					if ends == "removed" {
						must(t, s, owner, "DELETE", "/api/v1/keys/"+key.ID, "")
					} else {
						must(t, s, owner, "PATCH", "/api/v1/keys/"+key.ID, `{"role":"reader"}`)
					}
				})
				cutOff(t, mine)
			})
		}
		t.Run(name+" of a person who is demoted", func(t *testing.T) {
			t.Parallel()
			who := "Who does " + name
			p := person(t, s, who, "herons over the fen "+name, "herbarium", access.Administrator)
			mine := one.Clone(t.Context())
			mine.URL.RawQuery = strings.ReplaceAll(mine.URL.RawQuery, "key=up", "key=up-person")
			if one.Method == "PUT" {
				mine.Body = io.NopCloser(&pouring{poured})
			} else {
				b := `{"from":"plates/large","to":"@annex/kept/copy-person"}`
				mine.Body, mine.ContentLength = io.NopCloser(strings.NewReader(b)), int64(len(b))
			}
			for _, k := range p.hc.Jar.Cookies(mine.URL) {
				mine.AddCookie(k)
			}
			mine.Header.Set(api.ForgeryHeader, p.forgery)
			time.AfterFunc(700*time.Millisecond, func() {
				must(t, s, owner, "PATCH", "/api/v1/people/"+strings.ReplaceAll(who, " ", "%20"),
					`{"roles":[{"account":"herbarium","role":"reader"}]}`)
			})
			cutOff(t, mine)
		})
	}
	t.Cleanup(func() {
		if err := there.Set(standin.Faults{}); err != nil {
			t.Fatal(err)
		}
		page, err := c.List(harness.Context(t), "kept", "", "", "", 10)
		if err != nil || len(page.Objects) > 0 {
			t.Errorf("at the endpoint is %+v, %v", page.Objects, err)
		}
		if b := must(t, s, owner, "GET", "/api/v1/buckets/plates/objects?prefix=up", ""); strings.Contains(b, "up-") {
			t.Errorf("here is %s", b)
		}
	})
}

// cutOff makes a call that has to end before its body does, and not well.
func cutOff(t *testing.T, r *http.Request) {
	t.Helper()
	begun := time.Now()
	resp, err := http.DefaultTransport.RoundTrip(r)
	said := ""
	if err == nil {
		b, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		said = fmt.Sprint(resp.StatusCode, " ", string(b))
		if resp.StatusCode < 400 && !strings.Contains(said, `"problem"`) {
			t.Errorf("it went well: %s", said)
		}
	}
	if took := time.Since(begun); took > 7*time.Second {
		t.Errorf("it went on for %s: %s, %v", took, said, err)
	}
	if strings.Contains(said, "413") || strings.Contains(said, "digest") {
		t.Errorf("it ended by itself: %s", said)
	}
}
