package attack

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"spindle/internal/core/access"
	"spindle/internal/harness"
	"spindle/internal/wire/sign"
)

// TestManyQuestionsAtOnce asks for finds, rehearsals and pages of the past by hundreds at a time, as one
// administrator: memory stays within its bound, what is refused is told to come later, and others are
// answered meanwhile.
func TestManyQuestionsAtOnce(t *testing.T) {
	s := harness.Service(t, nil)
	wire(t, s, owner, "PUT", "/plates", "", 200)
	var wg sync.WaitGroup
	for w := range 8 {
		wg.Go(func() {
			for i := range 250 {
				s.As(owner, "PUT", fmt.Sprintf("/plates/%04d/%s", w*250+i, strings.Repeat("k", 200)),
					map[string]string{"X-Amz-Meta-Taxon": strings.Repeat("Drosera ", 100)}, "")
			}
		})
	}
	wg.Wait()
	asker := s.NewKey("herbarium", "asks much", access.Administrator, nil)
	asked := []struct{ method, path, body string }{
		{"POST", "/api/v1/find", `{"expression":"field taxon contains a and not size over 1 GiB"}`},
		{"POST", "/api/v1/find", `{"expression":"key contains k","sort":"largest"}`},
		{"GET", "/api/v1/buckets/plates/objects?limit=1000&metadata=true&asOf=1s", ""},
		{"POST", "/api/v1/buckets/plates/lifecycle/rehearse",
			`{"rules":[{"name":"a","actions":[{"of":"current","do":"remove","days":0}]}],"days":365}`},
		{"POST", "/api/v1/orders/rehearse", `{"kind":"convert","bucket":"plates"}`},
	}
	var answered, later, odd atomic.Int64
	hc := &http.Client{Timeout: time.Minute, Transport: &http.Transport{MaxConnsPerHost: 400}}
	done := make(chan int64)
	go func() {
		memory, _ := cost(func() {
			for i := range 400 {
				wg.Go(func() {
					x := asked[i%len(asked)]
					c := newCall(t, s, x.method, x.path, x.body)
					c.signed(asker)
					resp, err := hc.Do(c.r)
					if err != nil {
						later.Add(1)
						return
					}
					defer resp.Body.Close()
					_, _ = io.Copy(io.Discard, resp.Body)
					switch resp.StatusCode {
					case 200:
						answered.Add(1)
					case 429, 503:
						later.Add(1)
					default:
						odd.Add(1)
					}
				})
			}
			wg.Wait()
		})
		done <- memory
	}()
	for ended := false; !ended; {
		select {
		case memory := <-done:
			ended = true
			t.Logf("%d MiB", memory>>20)
			if memory > 400<<20 {
				t.Errorf("they take %d MiB", memory>>20)
			}
		case <-time.After(300 * time.Millisecond):
			if st, _, _ := s.As(sign.Credential{ID: owner.ID, Secret: owner.Secret}, "GET", "/plates?max-keys=1", nil,
				""); st != 200 {
				t.Errorf("meanwhile: %d", st)
			}
		}
	}
	t.Logf("%d answered, %d told to come later", answered.Load(), later.Load())
	if answered.Load() < int64(len(asked)) || odd.Load() > 0 {
		t.Errorf("%d answered, %d refused otherwise", answered.Load(), odd.Load())
	}
}
