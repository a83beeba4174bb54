package desk_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"spindle/internal/api"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/standin"
	"spindle/internal/wire/client"
)

// A copy between endpoints that is interrupted is gone on with by the next, and leaves no parts;
// what others left there is listed and abandoned.
func TestInterruptedCopyBetweenEndpoints(t *testing.T) {
	s := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
	from, source := harness.Standin(t, standin.Faults{}, "plates")
	to, target := harness.Standin(t, standin.Faults{}, "plates")
	s.StandinEndpoint("attic", from)
	s.StandinEndpoint("annex", to)
	large := bytes.Repeat([]byte("interrupted plates"), 96<<20/18)
	if _, err := source.Put(t.Context(), "plates", "large.tif", bytes.NewReader(large), int64(len(large)), client.Put{
		Metadata: map[string]string{"taxon": "Calluna"}}); err != nil {
		t.Fatal(err)
	}
	p := newPerson(t, s)
	p.signIn()
	bandwidth := func(n int) {
		t.Helper()
		if st, e := p.ask("PATCH", "/api/v1/endpoints/annex", map[string]any{"bandwidth": n}); st != 200 {
			t.Fatal(st, e)
		}
	}
	left := func() (n int, parts int64) {
		t.Helper()
		if err := target.Uploads(t.Context(), "plates", "", func(u client.Begun) error {
			list, err := target.Parts(t.Context(), "plates", u.Key, u.ID)
			n, parts = n+1, parts+int64(len(list))
			return err
		}); err != nil {
			t.Fatal(err)
		}
		return n, parts
	}
	// copied copies until the context ends, and gives the last line.
	copied := func(ctx context.Context) string {
		body, _ := json.Marshal(map[string]any{"from": "@attic/plates/large.tif", "to": "@annex/plates/large.tif"})
		r, err := http.NewRequestWithContext(ctx, "POST", p.base+"/api/v1/copies", bytes.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set(api.ForgeryHeader, p.forgery)
		resp, err := p.hc.Do(r)
		if err != nil {
			return err.Error()
		}
		defer resp.Body.Close()
		all, _ := io.ReadAll(resp.Body)
		text := strings.TrimSpace(string(all))
		return text[strings.LastIndex(text, "\n")+1:]
	}
	interrupt := func() {
		t.Helper()
		bandwidth(24 << 20)
		ctx, cancel := context.WithCancel(t.Context())
		done := make(chan string)
		go func() { done <- copied(ctx) }()
		harness.Until(t, "some parts are there", func() bool { _, parts := left(); return parts >= 2 })
		cancel()
		<-done
	}
	interrupt()
	harness.Until(t, "the upload is let go of", func() bool {
		list, err := s.Store.Catalog.LeftUploads(t.Context(), 0, 10)
		return err == nil && len(list) == 1
	})
	_, e := p.ask("GET", "/api/v1/endpoints/annex/buckets/plates/uploads", nil)
	if says := fmt.Sprint(e["uploads"]); !strings.Contains(says, "key:large.tif") || strings.Contains(says, "parts:0") {
		t.Errorf("uploads there: %s", says)
	}
	bandwidth(0)
	_, there := left()
	sent := to.Counts()["PutPart"]
	if last := copied(t.Context()); !strings.Contains(last, `"done":true`) {
		t.Fatalf("the copy ended with %s", last)
	}
	if again := to.Counts()["PutPart"] - sent; again > 6-there {
		t.Errorf("%d of 6 parts were there, and %d were sent", there, again)
	}
	if n, _ := left(); n != 0 {
		t.Errorf("%d uploads are left there", n)
	}
	if is, err := target.Head(t.Context(), "plates", "large.tif"); err != nil || is.Size != int64(len(large)) ||
		is.Metadata["taxon"] != "Calluna" {
		t.Errorf("what is there: %+v, %v", is, err)
	}

	// An upload that is not old enough is kept; one that nobody takes up is given up there.
	if err := target.Remove(t.Context(), "plates", "large.tif"); err != nil {
		t.Fatal(err)
	}
	interrupt()
	harness.Until(t, "the second upload is let go of", func() bool {
		list, err := s.Store.Catalog.LeftUploads(t.Context(), 0, 10)
		return err == nil && len(list) == 1
	})
	if err := s.Remote.GiveUpUploads(t.Context(), time.Hour, 10); err != nil {
		t.Fatal(err)
	}
	if n, _ := left(); n != 1 {
		t.Errorf("%d uploads are there, one of them young", n)
	}
	if err := s.Remote.GiveUpUploads(t.Context(), 0, 10); err != nil {
		t.Fatal(err)
	}
	if n, _ := left(); n != 0 {
		t.Errorf("%d uploads were not given up", n)
	}
	if list, err := s.Store.Catalog.LeftUploads(t.Context(), 0, 10); err != nil || len(list) != 0 {
		t.Errorf("given up, and still known: %v, %v", list, err)
	}
	bandwidth(0)

	// What nobody goes on with is abandoned by hand, or by the service after a day.
	const abandon = "/api/v1/endpoints/annex/buckets/plates/uploads/abandon"
	for range 3 {
		if _, err := target.StartUpload(t.Context(), "plates", "other", client.Put{}); err != nil {
			t.Fatal(err)
		}
	}
	_, e = p.ask("GET", "/api/v1/endpoints/annex/buckets/plates/uploads", nil)
	one := e["uploads"].([]any)[0].(map[string]any)
	for _, x := range []struct {
		what    string
		body    map[string]any
		status  int
		answers string
	}{
		{"nothing named", map[string]any{}, 400, "uploads-unnamed"},
		{"one that is none", map[string]any{"key": "other", "id": "none"}, 404, "upload list @annex/plates"},
		{"a rehearsal", map[string]any{"olderThan": time.Now().UTC().Format(time.RFC3339Nano), "rehearse": true}, 200,
			"objects:3"},
		{"one", map[string]any{"key": "other", "id": one["id"]}, 200, "objects:1"},
		{"what is older than a day", map[string]any{"olderThan": "1d"}, 200, "objects:0"},
		{"all", map[string]any{"olderThan": time.Now().UTC().Format(time.RFC3339Nano)}, 200, "objects:2"},
	} {
		if st, e := p.ask("POST", abandon, x.body); st != x.status || !strings.Contains(fmt.Sprint(e), x.answers) {
			t.Errorf("%s: %d %v", x.what, st, e)
		}
	}
}
