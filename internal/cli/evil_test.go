package cli_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"spindle/internal/harness"
)

// evil stands before a service, puts what commands a terminal into every text of its answers, and
// has every list go round in a circle.
type evil struct {
	to string

	mu    sync.Mutex
	turn  int
	heard strings.Builder // all that it was sent
}

const escape = "\x1b]0;owned\a\u009b31m\u202e"

func (e *evil) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	e.mu.Lock()
	e.heard.Write(body)
	e.turn++
	next := []string{"x", "y", "z"}[e.turn%3]
	e.mu.Unlock()
	if strings.HasSuffix(r.URL.Path, "/charters/compare") {
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, `{"charter":"house","account":"herbarium","plan":"p","steps":[{"do":"make","kind":"endpoint",
			"name":"annex"}],"secrets":["env HOME","file /etc/hostname"]}`)
		return
	}
	out, err := http.NewRequestWithContext(r.Context(), r.Method, e.to+r.URL.RequestURI(), strings.NewReader(string(body)))
	if err != nil {
		panic(err)
	}
	out.Header, out.Host = r.Header.Clone(), r.Host
	resp, err := http.DefaultClient.Do(out)
	if err != nil {
		panic(http.ErrAbortHandler)
	}
	defer resp.Body.Close()
	var doc any
	if err := json.NewDecoder(resp.Body).Decode(&doc); err != nil {
		w.WriteHeader(resp.StatusCode)
		return
	}
	doc = poisoned(doc)
	if m, ok := doc.(map[string]any); ok && resp.StatusCode == 200 && r.Method == "GET" {
		m["next"] = next
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(resp.StatusCode)
	_ = json.NewEncoder(w).Encode(doc)
}

// poisoned puts the escape into every text that is no time and no word of a protocol.
func poisoned(v any) any {
	switch v := v.(type) {
	case string:
		if _, err := time.Parse(time.RFC3339, v); err == nil || strings.HasPrefix(v, "http") {
			return v
		}
		return v + escape
	case []any:
		for i := range v {
			v[i] = poisoned(v[i])
		}
	case map[string]any:
		for k := range v {
			v[k] = poisoned(v[k])
		}
	}
	return v
}

// A service that is not what it says commands no terminal, keeps no command going round in a
// circle, and gets no secret that the files of a charter do not name.
func TestEvilService(t *testing.T) {
	s := harness.Service(t, nil)
	s.Do("PUT", "/plates", nil, "", true)
	s.Do("PUT", "/plates/k", nil, "content", true)
	e := &evil{to: s.DeskURL}
	front := httptest.NewServer(e)
	t.Cleanup(front.Close)
	dir := t.TempDir()
	env := map[string]string{"HOME": "/home/somebody", "SPINDLE_URL": front.URL, "SPINDLE_KEY": harness.Key,
		"SPINDLE_SECRET": harness.Secret}
	for _, line := range []string{"bucket list", "bucket show plates", "object list plates", "object show plates/k",
		"object history plates/k", "object show plates/none", "upload list", "access key list", "access account list",
		"access grant list", "journal list plates", "region list", "region show nowhere", "tier list", "placement list",
		"endpoint list", "replication list", "lifecycle list plates", "sync list", "census list", "charter list", "usage",
		"audit list", "find plates size over 1 B", "bucket list --json", "object list plates --json", "region list --json"} {
		done := make(chan struct{})
		go func() {
			defer close(done)
			_, out, errs := runEnv(t, env, "", false, strings.Fields(line)...)
			if text := out + errs; strings.ContainsAny(text, "\x1b\a\u009b\u202e") {
				t.Errorf("%s: commands reach the terminal: %q", line, text)
			}
		}()
		select {
		case <-done:
		case <-time.After(60 * time.Second):
			t.Fatalf("%s is still going round", line)
		}
	}
	write(t, filepath.Join(dir, "house.yaml"), []byte("charter: house\nendpoints:\n  annex: {url: 'http://127.0.0.1:9', "+
		"key: K, secret: {env: ANNEX_SECRET}}\n"))
	code, out, errs := runEnv(t, env, "", false, "charter", "enact", filepath.Join(dir, "house.yaml"), "--yes")
	if code == 0 || !strings.Contains(errs, "env HOME") || !strings.Contains(errs, "nothing was sent") {
		t.Errorf("a secret that no file names: %d %s%s", code, out, errs)
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if strings.Contains(e.heard.String(), "/home/somebody") {
		t.Error("the service was sent the environment")
	}
}
