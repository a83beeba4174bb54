package desk_test

import (
	"bytes"
	"crypto/md5"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	"spindle/internal/core/object"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/standin"
	"spindle/internal/wire/client"
)

// objectModel is an object at an endpoint, plainly.
type objectModel struct {
	content  []byte
	metadata map[string]string
}

// TestEndpointsAgainstAModel has objects put and removed at an endpoint, by others and by the desk, while it
// fails, cuts and changes bytes on the way. What the desk says of it, page by page, is what a plain map says; and
// no byte that it gives is another than was put.
func TestEndpointsAgainstAModel(t *testing.T) {
	for _, seed := range harness.Seeds(t, 2) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) { endpointAgainstModel(t, seed) })
	}
}

func endpointAgainstModel(t *testing.T, seed uint64) {
	s := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
	there, c := harness.Standin(t, standin.Faults{}, "attic")
	p := newPerson(t, s)
	p.signIn()
	if st, e := p.ask("POST", "/api/v1/endpoints", map[string]any{"name": "mill", "url": there.URL,
		"key":    harness.StandinKey,
		"secret": harness.StandinSecret}); st != 201 {
		t.Fatal(st, e)
	}
	const base = "/api/v1/endpoints/mill/buckets/attic"
	r := rand.New(rand.NewPCG(seed, 29))
	model := map[string]objectModel{}
	parts := []string{"a", "b b", "ö", "c+d", "e%2F", "z"}
	draw := func() string {
		var key []string
		for range 1 + r.IntN(3) {
			key = append(key, parts[r.IntN(len(parts))])
		}
		return strings.Join(key, "/")
	}
	hard := standin.Faults{Errors: 0.05, Cut: 0.1, Rot: 0.1}
	for step := range 150 {
		key := draw()
		at := "?key=" + url.QueryEscape(key)
		switch n := r.IntN(10); {
		case n < 4: // somebody else puts it
			o := objectModel{content: bytes.Repeat([]byte{byte(step)}, r.IntN(3000)),
				metadata: map[string]string{"n": fmt.Sprint(step)}}
			if _, err := c.Put(t.Context(), "attic", key, bytes.NewReader(o.content), int64(len(o.content)),
				client.Put{Metadata: object.Metadata(o.metadata)}); err != nil {
				t.Fatal(err)
			}
			model[key] = o
		case n < 5:
			if err := c.Remove(t.Context(), "attic", key); err != nil {
				t.Fatal(err)
			}
			delete(model, key)
		case n < 6:
			if st, e := p.ask("DELETE", base+"/object"+at, nil); st != 204 && st != 404 {
				t.Fatalf("%d %v", st, e)
			}
			delete(model, key)
		case n < 8: // its bytes, while the line is bad
			if err := there.Set(hard); err != nil {
				t.Fatal(err)
			}
			st, b := p.fetched(base + "/body" + at)
			if err := there.Set(standin.Faults{}); err != nil {
				t.Fatal(err)
			}
			if o, is := model[key]; st == http.StatusOK && (!is || !bytes.Equal(b, o.content)) {
				t.Fatalf("step %d: %q is given with other bytes", step, key)
			}
		default:
			if st, e := p.ask("GET", base+"/object"+at, nil); st == 200 {
				o := model[key]
				sum := md5.Sum(o.content)
				meta, _ := e["metadata"].(map[string]any)
				if int(e["size"].(float64)) != len(o.content) || e["etag"] != hex.EncodeToString(sum[:]) ||
					fmt.Sprint(meta["n"]) != o.metadata["n"] {
					t.Fatalf("step %d: %q is said to be %v", step, key, e)
				}
			} else if _, is := model[key]; is {
				t.Fatalf("step %d: %q is not found: %d %v", step, key, st, e)
			}
		}
		prefix := []string{"", "a/", "b b/", "ö/", "e%2F"}[r.IntN(5)]
		delimiter := []string{"", "/"}[r.IntN(2)]
		if got, want := p.listedThere(base, prefix, delimiter, 1+r.IntN(7)), listedModel(model, prefix,
			delimiter); !slices.Equal(got, want) {
			t.Fatalf("step %d: beneath %q, folded at %q, there is\n%q\nnot\n%q", step, prefix, delimiter, got, want)
		}
	}
}

// listedModel gives keys, and prefixes as far as a delimiter folds, in order.
func listedModel(model map[string]objectModel, prefix, delimiter string) (out []string) {
	for key := range model {
		rest, beneath := strings.CutPrefix(key, prefix)
		if !beneath {
			continue
		}
		if i := strings.Index(rest, delimiter); delimiter != "" && i >= 0 {
			key = prefix + rest[:i+len(delimiter)]
		}
		out = append(out, key)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// listedThere reads all pages of a listing at an endpoint.
func (p *person) listedThere(base, prefix, delimiter string, limit int) (out []string) {
	p.t.Helper()
	for after := ""; ; {
		st, page := p.ask("GET", fmt.Sprintf("%s/objects?prefix=%s&delimiter=%s&limit=%d&after=%s", base,
			url.QueryEscape(prefix),
			url.QueryEscape(delimiter), limit, url.QueryEscape(after)), nil)
		if st != 200 {
			p.t.Fatalf("%d %v", st, page)
		}
		for _, o := range page["objects"].([]any) {
			out = append(out, o.(map[string]any)["key"].(string))
		}
		for _, x := range page["prefixes"].([]any) {
			out = append(out, x.(string))
		}
		if after, _ = page["next"].(string); after == "" {
			slices.Sort(out)
			return slices.Compact(out)
		}
	}
}

// fetched reads bytes, and gives 0 when they broke off.
func (p *person) fetched(path string) (int, []byte) {
	p.t.Helper()
	resp, err := p.hc.Get(p.base + path)
	if err != nil {
		return 0, nil
	}
	defer resp.Body.Close()
	var b bytes.Buffer
	if _, err := b.ReadFrom(resp.Body); err != nil {
		return 0, nil
	}
	return resp.StatusCode, b.Bytes()
}
