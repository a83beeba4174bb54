package desk_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"spindle/internal/core/access"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/wire/client"
)

// pressTier adds a tier of 2+1 pieces on new directories, and gives them.
func pressTier(t *testing.T, p *person) (dirs []string) {
	t.Helper()
	for range 3 {
		dirs = append(dirs, filepath.Join(t.TempDir(), "volume"))
	}
	if st, e := p.ask("POST", "/api/v1/tiers", map[string]any{"name": "press", "volumes": dirs, "pieces": "2+1",
		"price": 0.01}); st != 201 || e["keeps"] != "in 2+1 pieces over 3 volumes" || e["losses"] != 1.0 ||
		!strings.Contains(fmt.Sprint(e["warnings"]), "on one disk") {
		t.Fatalf("%d %v", st, e)
	}
	return dirs
}

func bodiesIn(t *testing.T, dir string) (n int) {
	t.Helper()
	if err := filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
		if strings.HasSuffix(path, ".body") {
			n++
		}
		return err
	}); err != nil && !errors.Is(err, fs.ErrNotExist) {
		t.Fatal(err)
	}
	return n
}

// Of a tier in pieces a volume is away, comes back, and is lost: all is read and written all
// the while, and whole again in the end.
func TestPiecesThroughTheService(t *testing.T) {
	s := harness.Service(t, func(c *service.Config) { c.Works.RepairEvery = 50 * time.Millisecond })
	p := newPerson(t, s)
	p.signIn()
	dirs := pressTier(t, p)
	if st, e := p.ask("POST", "/api/v1/tiers", map[string]any{"name": "few", "volumes": []string{dirs[0] + "x"},
		"pieces": "2+1"}); st != 400 || !strings.Contains(fmt.Sprint(e), "need 3 volumes") {
		t.Errorf("fewer volumes than pieces: %d %v", st, e)
	}
	if st, e := p.ask("POST", "/api/v1/buckets", map[string]any{"name": "plates", "tier": "press"}); st != 201 {
		t.Fatal(e)
	}
	c := s.Client()
	put := func(key string, size int) {
		t.Helper()
		if _, err := c.Put(t.Context(), "plates", key, bytes.NewReader(leaf(size)), int64(size), client.Put{}); err != nil {
			t.Errorf("%s: %v", key, err)
		}
	}
	read := func(key string, size int) {
		t.Helper()
		o, err := c.Get(t.Context(), "plates", key, "", 0, "")
		if err != nil {
			t.Errorf("%s: %v", key, err)
			return
		}
		defer o.Body.Close()
		if b, err := io.ReadAll(o.Body); err != nil || !bytes.Equal(b, leaf(size)) {
			t.Errorf("%s is not what was put: %v", key, err)
		}
	}
	for i := range 4 {
		put(fmt.Sprint("a", i), 1000+i*200_000)
	}
	if err := os.Rename(dirs[1], dirs[1]+".away"); err != nil {
		t.Fatal(err)
	}
	for i := range 4 {
		put(fmt.Sprint("b", i), 1000+i*200_000)
		read(fmt.Sprint("a", i), 1000+i*200_000)
		read(fmt.Sprint("b", i), 1000+i*200_000)
	}
	if st, e := p.ask("GET", "/api/v1/tiers/press", nil); st != 200 || e["owed"] != 4.0 {
		t.Errorf("%d bodies are owed: %v", st, e)
	}
	if st, e := p.ask("PATCH", "/api/v1/tiers/press", map[string]any{"without": []string{dirs[0]},
		"volumes": []string{dirs[0] + "2"}}); st != 409 || !strings.Contains(fmt.Sprint(e),
		"another volume of the tier is away") {
		t.Errorf("another volume is taken out: %d %v", st, e)
	}
	if err := os.Rename(dirs[1]+".away", dirs[1]); err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "what is owed is made", func() bool {
		_, e := p.ask("GET", "/api/v1/tiers/press", nil)
		return e["owed"] == nil
	})
	if n := bodiesIn(t, dirs[1]); n != 8 {
		t.Errorf("%d pieces on the volume that came back", n)
	}
	if err := os.RemoveAll(dirs[2]); err != nil {
		t.Fatal(err)
	}
	if st, e := p.ask("PATCH", "/api/v1/tiers/press", map[string]any{"without": []string{dirs[2], dirs[1]}}); st != 409 {
		t.Errorf("two volumes are taken out: %d %v", st, e)
	}
	if st, e := p.ask("PATCH", "/api/v1/tiers/press", map[string]any{"without": []string{dirs[2]},
		"volumes": []string{dirs[2] + "new"}}); st != 200 {
		t.Fatalf("%d %v", st, e)
	}
	harness.Within(t, 2*time.Minute, "the tier is repaired", func() bool {
		_, e := p.ask("GET", "/api/v1/tiers/press", nil)
		r, _ := e["repair"].(map[string]any)
		return r["finished"] != nil && r["made"] == 8.0
	})
	if n := bodiesIn(t, dirs[2]+"new"); n != 8 {
		t.Errorf("%d pieces on the new volume", n)
	}
	if err := os.Rename(dirs[0], dirs[0]+".away"); err != nil {
		t.Fatal(err)
	}
	for i := range 4 {
		read(fmt.Sprint("a", i), 1000+i*200_000)
		read(fmt.Sprint("b", i), 1000+i*200_000)
	}
}

func leaf(size int) []byte {
	b, r := make([]byte, size), rand.New(rand.NewPCG(uint64(size), 3))
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

// What is offered, fixed, and by whom; buckets get it, and are moved to it.
func TestPlacements(t *testing.T) {
	s := harness.Service(t, nil)
	p := newPerson(t, s)
	p.signIn()
	dirs := pressTier(t, p)
	for _, name := range []string{"seed-lab", "guests"} {
		if st, e := p.ask("POST", "/api/v1/accounts", map[string]any{"name": name}); st != 201 {
			t.Fatal(e)
		}
	}
	tenant := newPerson(t, s)
	key := s.NewKey("seed-lab", "SEEDS", access.Administrator, nil)
	if st, e := tenant.signInAs(map[string]string{"key": key.ID, "secret": key.Secret}); st != 201 {
		t.Fatal(e)
	}
	for _, x := range []map[string]any{{"name": "plain", "tier": "main", "everyone": true},
		{"name": "safe", "tier": "press", "sealing": true, "accounts": []string{"seed-lab"}},
		{"name": "secret", "tier": "press", "accounts": []string{"guests"}}} {
		if st, e := p.ask("POST", "/api/v1/placements", x); st != 201 {
			t.Fatal(e)
		}
	}
	st, b := tenant.send("GET", "/api/v1/placements", nil)
	if st != 200 || !strings.Contains(string(b), `"safe"`) || !strings.Contains(string(b), `"plain"`) ||
		strings.Contains(string(b), "secret") || strings.Contains(string(b), "guests") {
		t.Errorf("%d %s", st, b)
	}
	if st, b := tenant.send("GET", "/api/v1/placements/secret", nil); st != 404 || strings.Contains(string(b), "guests") {
		t.Errorf("%d %s", st, b)
	}
	if st, _ := tenant.ask("GET", "/api/v1/placements?account=guests", nil); st != 403 && st != 404 {
		t.Errorf("what another account is offered: %d", st)
	}
	if st, e := tenant.ask("POST", "/api/v1/buckets", map[string]any{"name": "seeds", "placement": "secret"}); st != 404 {
		t.Errorf("what is not offered: %d %v", st, e)
	}
	if st, e := tenant.ask("POST", "/api/v1/buckets", map[string]any{"name": "seeds", "placement": "plain",
		"versioning": "on"}); st != 201 || e["placement"] != "plain" || e["tier"] != "main" {
		t.Fatalf("%d %v", st, e)
	}
	c := s.Client()
	c.Key = key
	for i := range 12 {
		if _, err := c.Put(t.Context(), "seeds", fmt.Sprint(i%8), bytes.NewReader(leaf(50_000*(i%3)+10)),
			int64(50_000*(i%3)+10), client.Put{}); err != nil {
			t.Fatal(err)
		}
	}
	if st, e := tenant.ask("PATCH", "/api/v1/buckets/seeds", map[string]any{"tier": "press"}); st != 409 ||
		!strings.Contains(fmt.Sprint(e), "has the placement plain") {
		t.Errorf("another tier than the placement's: %d %v", st, e)
	}
	order := map[string]any{"kind": "place", "bucket": "seeds", "placement": "safe"}
	if st, e := tenant.ask("POST", "/api/v1/orders/rehearse", order); st != 200 ||
		fmt.Sprint(e["counts"]) != "map[placed:8 unchanged:0]" || e["bytes"].(float64) < 500_000 {
		t.Errorf("%d %v", st, e)
	}
	if n := bodiesIn(t, dirs[0]); n != 0 {
		t.Errorf("a rehearsal wrote %d bodies", n)
	}
	st, e := tenant.ask("POST", "/api/v1/orders", order)
	if st != 201 {
		t.Fatalf("%d %v", st, e)
	}
	harness.Until(t, "the bucket is placed", func() bool {
		_, o := tenant.ask("GET", fmt.Sprint("/api/v1/orders/", e["id"]), nil)
		return o["state"] == "done"
	})
	if n := bodiesIn(t, dirs[0]); n != 12 { // previous versions too
		t.Errorf("%d bodies are in pieces", n)
	}
	if st, b := tenant.ask("GET", "/api/v1/buckets/seeds", nil); st != 200 || b["placement"] != "safe" ||
		b["tier"] != "press" || b["sealing"] != true {
		t.Errorf("%d %v", st, b)
	}
	if st, o := tenant.ask("GET", "/api/v1/buckets/seeds/object?key=3", nil); st != 200 ||
		!strings.Contains(fmt.Sprint(o["kept"]), "in pieces") {
		t.Errorf("%d %v", st, o)
	}
	if st, e := tenant.ask("POST", "/api/v1/orders/rehearse", order); st != 200 ||
		fmt.Sprint(e["counts"]) != "map[placed:0 unchanged:8]" {
		t.Errorf("again: %d %v", st, e)
	}

	// The bucket says how far it is, until it is done.
	order["placement"] = "plain"
	st, e = tenant.ask("POST", "/api/v1/orders", order)
	if st != 201 {
		t.Fatalf("%d %v", st, e)
	}
	harness.Until(t, "the bucket is placed back, and says nothing of it any more", func() bool {
		_, b := tenant.ask("GET", "/api/v1/buckets/seeds", nil)
		_, o := tenant.ask("GET", fmt.Sprint("/api/v1/orders/", e["id"]), nil)
		return o["state"] == "done" && b["placing"] == nil && b["placement"] == "plain"
	})
	order["placement"] = "safe"
	if st, e = tenant.ask("POST", "/api/v1/orders", order); st != 201 {
		t.Fatalf("%d %v", st, e)
	}
	if _, b := tenant.ask("GET", "/api/v1/buckets/seeds", nil); b["placing"] != nil &&
		!strings.Contains(fmt.Sprint(b["placing"]), "of 8 objects looked at for safe") {
		t.Errorf("the bucket says %v", b["placing"])
	}
	harness.Until(t, "the bucket is placed again", func() bool {
		_, o := tenant.ask("GET", fmt.Sprint("/api/v1/orders/", e["id"]), nil)
		return o["state"] == "done"
	})

	if st, e := p.ask("PATCH", "/api/v1/accounts/seed-lab", map[string]any{"placement": "safe",
		"placementFixed": true}); st != 200 || e["placementFixed"] != true {
		t.Fatalf("%d %v", st, e)
	}
	order["placement"] = "plain"
	for what, ask := range map[string]func() (int, map[string]any){
		"an order": func() (int, map[string]any) { return tenant.ask("POST", "/api/v1/orders", order) },
		"a bucket": func() (int, map[string]any) {
			return tenant.ask("POST", "/api/v1/buckets", map[string]any{"name": "more-seeds", "placement": "plain"})
		},
		"a tier": func() (int, map[string]any) {
			return tenant.ask("POST", "/api/v1/buckets", map[string]any{"name": "more-seeds", "tier": "main"})
		},
		"a change": func() (int, map[string]any) {
			return tenant.ask("PATCH", "/api/v1/buckets/seeds", map[string]any{"placement": "none"})
		},
		"a rule": func() (int, map[string]any) {
			return tenant.ask("PUT", "/api/v1/buckets/seeds/lifecycle", map[string]any{"rules": []any{map[string]any{
				"name": "cold", "actions": []any{map[string]any{"of": "current", "do": "move", "to": "main", "days": 30}}}}})
		},
	} {
		if st, e := ask(); st != 403 || !strings.Contains(fmt.Sprint(e), "fixed") {
			t.Errorf("%s against what is fixed: %d %v", what, st, e)
		}
	}
	if _, err := c.Put(t.Context(), "seeds", "x", strings.NewReader("x"), 1, client.Put{Tier: "main"}); err == nil ||
		!strings.Contains(err.Error(), "an operator fixed") {
		t.Errorf("a put into another tier: %v", err)
	}
	if err := c.CreateBucket(t.Context(), "wire-seeds"); err != nil {
		t.Fatal(err)
	}
	if st, b := tenant.ask("GET", "/api/v1/buckets/wire-seeds", nil); st != 200 || b["placement"] != "safe" ||
		b["placementFixed"] != true || b["placementBy"] == "" {
		t.Errorf("%d %v", st, b)
	}
	if st, e := p.ask("DELETE", "/api/v1/placements/safe", nil); st != 409 {
		t.Errorf("a placement that is used is removed: %d %v", st, e)
	}
	if st, e := p.ask("DELETE", "/api/v1/tiers/press", nil); st != 409 {
		t.Errorf("a tier that is used is removed: %d %v", st, e)
	}
	if st, e := p.ask("DELETE", "/api/v1/placements/secret", nil); st != 204 {
		t.Errorf("%d %v", st, e)
	}
}

// A charter declares a tier in pieces, who is offered it, and what has it; what exists is
// exported so that it compares as equal, and taken down in an order that works.
func TestPlacementsInCharters(t *testing.T) {
	s := harness.Service(t, nil)
	p := newPerson(t, s)
	p.signIn()
	c := charters{t, p}
	dir := t.TempDir()
	text := strings.ReplaceAll(`charter: vaults
accounts:
  seed-lab: {note: germination}
tiers:
  press: {volumes: [DIR/1, DIR/2, DIR/3], pieces: 2+1, price: 0.01}
placements:
  safe: {tier: press, sealing: true, accounts: [seed-lab]}
account-placements:
  seed-lab: {placement: safe, placementFixed: true}
buckets:
  drawers: {placement: safe}
`, "DIR", dir)
	want := "make account seed-lab; make tier press; make placement safe; make account's placement seed-lab; " +
		"make bucket drawers"
	if got := words(c.compare(false, text)); got != want {
		t.Errorf("%s", got)
	}
	if lines := c.enact(false, nil, text); !allDone(lines) {
		t.Fatalf("%v", lines)
	}
	if got := words(c.compare(false, text)); got != "" {
		t.Errorf("enacted, and still: %s", got)
	}
	if st, b := p.ask("GET", "/api/v1/buckets/drawers", nil); st != 200 || b["tier"] != "press" || b["sealing"] != true {
		t.Errorf("%d %v", st, b)
	}
	st, e := p.ask("GET", "/api/v1/charters/export", nil)
	if st != 200 || !strings.Contains(fmt.Sprint(e["text"]), "pieces: 2+1") {
		t.Fatalf("%d %v", st, e)
	}
	if got := words(c.compare(false, fmt.Sprint(e["text"]))); got != "" {
		t.Errorf("exported, and otherwise: %s\n%s", got, e["text"])
	}
	if st, e := p.ask("POST", "/api/v1/charters/compare", map[string]any{"files": files(
		strings.Replace(text, "charter: vaults", "charter: vaults\nregion: moor", 1))}); st != 409 ||
		!strings.Contains(fmt.Sprint(e), "meant for the region moor") {
		t.Errorf("a charter of another service: %d %v", st, e)
	}
	other := strings.Replace(text, "tier: press, sealing: true", "tier: main, sealing: true", 1)
	if plan := c.compare(false, other); !strings.Contains(fmt.Sprint(plan), "stays as it is, since buckets have it") {
		t.Errorf("another tier for a placement that is there: %v", plan)
	}
	if lines := c.enact(true, nil, text); !allDone(lines) {
		t.Errorf("%v", lines)
	}
	if st, e := p.ask("GET", "/api/v1/placements", nil); st != 200 || len(e["placements"].([]any)) != 0 {
		t.Errorf("taken down, and still: %v", e)
	}
}
