package service_test

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/wire/sign"
	"spindle/internal/works"
)

// Of several processes that start for the first time at once one makes the owner's key, the
// master key and the volume; the others wait, and find them.
func TestSeveralStartForTheFirstTime(t *testing.T) {
	for range 3 {
		url, data := harness.EmptyDatabase(t), t.TempDir()
		const processes = 6
		all := make([]*service.Service, processes)
		var wg sync.WaitGroup
		for i := range all {
			wg.Go(func() {
				ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
				defer cancel()
				s, err := service.Start(ctx, service.Config{Database: url, Data: data, Wire: "127.0.0.1:0",
					Desk: "127.0.0.1:0", Region: "fenn", Account: "herbarium", Works: works.Settings{}}, harness.Silent())
				if err != nil {
					t.Errorf("process %d: %v", i, err)
				}
				all[i] = s
			})
		}
		wg.Wait()
		var made []sign.Credential
		for _, s := range all {
			if s != nil && s.Made != nil {
				made = append(made, sign.Credential{ID: s.Made.ID, Secret: s.Made.Secret})
			}
		}
		if len(made) != 1 {
			t.Errorf("%d processes made the owner's key", len(made))
		}
		for i, s := range all {
			if s == nil {
				continue
			}
			if len(made) == 1 { // each has the master key that opens it
				req, err := http.NewRequest(http.MethodGet, s.WireURL+"/", nil)
				if err != nil {
					t.Fatal(err)
				}
				sign.Sign(req, made[0], "fenn", sign.Unsigned, time.Now())
				resp, err := http.DefaultTransport.RoundTrip(req)
				if err != nil {
					t.Fatal(err)
				}
				resp.Body.Close()
				if resp.StatusCode != http.StatusOK {
					t.Errorf("process %d does not know the owner's key: %d", i, resp.StatusCode)
				}
			}
			if err := s.Stop(t.Context()); err != nil {
				t.Error(err)
			}
		}
		text, err := os.ReadFile(filepath.Join(data, "master.key"))
		if err != nil || strings.Count(string(text), "\n") != 1 {
			t.Errorf("master key: %d lines, %v", strings.Count(string(text), "\n"), err)
		}
	}
}
