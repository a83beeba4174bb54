package desk_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"spindle/internal/harness"
)

// The database's clock jumps ahead: the overview and the clock say so until an operator says that it is right.
func TestTheClockIsAskedAbout(t *testing.T) {
	s := harness.Service(t, nil)
	p := newPerson(t, s)
	p.signInAs(map[string]string{"key": harness.Key, "secret": harness.Secret})
	ask := func(method, path string, in any, status int, says string) map[string]any {
		t.Helper()
		st, e := p.ask(method, "/api/v1"+path, in)
		if st != status || !strings.Contains(fmt.Sprint(e), says) {
			t.Errorf("%s %s: %d %v, want %d and %q", method, path, st, e, status, says)
		}
		return e
	}
	ask("GET", "/clock", nil, 200, "waits:false")
	s.Store.Catalog.TheirClock(func(at time.Time) time.Time { return at.Add(72 * time.Hour) }, nil)
	s.Store.Catalog.OwnClock(func() time.Time { return time.Now().Add(72 * time.Hour) })
	if err := s.Store.Catalog.LookAtClock(t.Context()); err != nil {
		t.Fatal(err)
	}
	e := ask("GET", "/clock", nil, 200, "waits:true")
	jump := fmt.Sprint("/clock/jumps/", e["jumps"].([]any)[0].(map[string]any)["id"], "/right")
	ask("GET", "/overview", nil, 200, "of the database jumped")
	ask("POST", "/clock/jumps/77/right", map[string]any{}, 404, "jump-missing")
	ask("POST", jump, map[string]any{"wrongSince": "tomorrow"}, 400, "wrongSince")
	ask("POST", jump, map[string]any{"wrongSince": "1h"}, 200, "state:right")
	ask("POST", jump, map[string]any{}, 409, "jump-decided")
	ask("GET", "/clock", nil, 200, "waits:false")
}
